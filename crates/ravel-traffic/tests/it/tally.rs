//! Tallies of random logs are what asking for each line, one after the other, comes to.

#[path = "../../examples/access_log.rs"]
#[allow(dead_code, reason = "an example has a main function")]
mod access_log;

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;

use http::Method;
use proptest::prelude::*;
use ravel::address::Scheme;
use ravel::edge::WalkEnd;
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_traffic::{
    Ending, Hit, JsonKeys, LogFormat, LogReader, PartialError, Tally, TallyOptions, unpacked,
};

const RULES: &str = "site https://h.example/s/\n  alias w.example\n  languages en, de\n  missing /404.html\n\
    redirect /old/{x} -> /{x} permanent\nredirect /twice -> /old/a\nredirect /round -> /round2\nredirect /round2 -> /round\n\
    redirect /by-language -> /a\n  when language is de\nredirect /by-agent -> /a\n  when header user-agent contains Lynx\n\
    gone /gone\nelsewhere /api{/any*} \"them\"\nheaders {/any*} on all\n  set a: 1\n  when cookie c\n";
const FILES: [&str; 4] = ["index.html", "a.html", "ä.html", "404.html"];

fn edge() -> Edge {
    Edge::new(&Rules::parse(RULES).unwrap(), FileList::from_iter(FILES))
}

/// Without rules that look at headers, most is decided in a shorter way.
fn edge_for_all() -> Edge {
    let looks_at_headers =
        RULES.find("redirect /by-language").unwrap()..RULES.find("gone").unwrap();
    let mut rules = RULES.to_owned();
    rules.replace_range(looks_at_headers, "");
    Edge::new(&Rules::parse(&rules).unwrap(), FileList::from_iter(FILES))
}

fn tally(edge: &Edge) -> Tally<'_> {
    Tally::new(edge, &TallyOptions::default()).unwrap()
}

/// A line, and what it asks for: the method and the bytes of the target.
#[derive(Debug, Clone)]
struct Line {
    text: Vec<u8>,
    asked: Option<(&'static str, Vec<u8>, &'static str)>,
    status: u16,
    is_read: bool,
}

const AGENTS: [&str; 3] = ["", "Firefox/140.0", "Lynx/2.9 \\\"quoted\\\""];

fn line() -> impl Strategy<Value = Line> {
    let part = prop_oneof![
        6 => prop::sample::select(vec!["/s/", "/s/a", "/s/old/a", "/s/twice", "/s/round", "/s/gone", "/s/api/x",
            "/s/by-language", "/s/by-agent", "/s/none", "/s", "/else", "/s/a?k=1", "/s//a", "/s/%C3%A4", "/s/%zz"])
            .prop_map(|path| path.as_bytes().to_vec()),
        1 => prop::collection::vec(any::<u8>(), 0..12).prop_map(|more| [b"/s/", &more[..]].concat()),
        1 => prop::sample::select(vec![9_000, 70_000])
            .prop_map(|length| [b"/s/".to_vec(), vec![b'x'; length]].concat()),
        1 => Just("/s/ä".as_bytes().to_vec()),
    ];
    let request = (
        part,
        prop::sample::select(vec!["GET", "HEAD", "POST"]),
        prop::sample::select(vec![
            "",
            "https://h.example",
            "HTTP://W.example",
            "http://else.example",
        ]),
        prop::sample::select(vec![" HTTP/1.1", ""]),
        prop::sample::select(vec![200_u16, 301, 404]),
        prop::sample::select(&AGENTS[..]),
        1_u8..29,
        any::<bool>(),
    );
    let request =
        request.prop_map(|(target, method, origin, version, status, agent, day, escapes)| {
            let mut target = target;
            // Without a version, the end of a target cannot be told from it.
            target.retain(|byte| *byte != b'\n' && *byte != b' ');
            let whole = [origin.as_bytes(), &target].concat();
            let escape = |byte: u8| match byte {
                b'"' => b"\\\"".to_vec(),
                b'\\' => b"\\\\".to_vec(),
                b'\t' if escapes => b"\\t".to_vec(),
                byte if !byte.is_ascii_graphic() && escapes => {
                    format!("\\x{byte:02x}").into_bytes()
                }
                byte => vec![byte],
            };
            let escaped: Vec<u8> = whole.iter().flat_map(|byte| escape(*byte)).collect();
            let text = [
                format!("192.0.2.1 - - [{day:02}/Nov/2026:10:00:00 +0000] \"{method} ").as_bytes(),
                &escaped,
                format!("{version}\" {status} 5 \"-\" \"{agent}\"").as_bytes(),
            ]
            .concat();
            let is_read = text.len() <= 64 * 1024;
            Line { text, asked: Some((method, whole, agent)), status, is_read }
        });
    let other = |text: &'static str, is_read| {
        Just(Line { text: text.as_bytes().to_vec(), asked: None, status: 0, is_read })
    };
    prop_oneof![
        20 => request,
        1 => other("192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"-\" 408 0", true),
        1 => other("192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"OPTIONS * HTTP/1.1\" 200 0", true),
        1 => other("192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"\\x16\\x03\\x01\" 400 0", true),
        1 => other("192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"GET /s/a HTTP/1.1", false),
        1 => other("192.0.2.1 - - [31/Feb/2026:10:00:00 +0000] \"GET /s/a HTTP/1.1\" 200 0", false),
        1 => other("nothing of the kind", false),
        1 => other("", true),
    ]
}

/// A line as an edge is asked for it.
fn request(line: &Line) -> Option<Request> {
    let (method, target, agent) = line.asked.as_ref()?;
    let encode = |byte: &u8| match byte.is_ascii_graphic() && *byte != b'#' {
        true => char::from(*byte).to_string(),
        false => format!("%{byte:02X}"),
    };
    let target: String = target.iter().map(encode).collect();
    let method = Method::from_bytes(method.as_bytes()).unwrap();
    let request = match target.starts_with('/') {
        true => Request::from_parts(method, Scheme::Https, "h.example", &target),
        false => {
            let at = target.match_indices('/').nth(2).map_or(target.len(), |(at, _)| at);
            let (origin, path) = target.split_at(at);
            let path = if path.is_empty() { "/" } else { path };
            Request::new(method, &format!("{}{path}", origin.to_lowercase())).ok()?
        }
    };
    let agent = agent.replace("\\\"", "\"");
    Some(request.with_header(http::header::USER_AGENT, agent.parse().unwrap()))
}

fn ending(edge: &Edge, request: &Request) -> Ending {
    let walk = edge.walk(request);
    // Of two headers that decide, the log has one.
    let hangs = walk.answers().iter().any(|(_, explanation)| {
        explanation.answer().header("vary").is_some_and(|vary| vary.contains("accept-language"))
    });
    match (walk.outcome(), walk.end()) {
        _ if hangs => Ending::Depends,
        (_, WalkEnd::Loop) | (Outcome::Loop, _) => Ending::Loop,
        (_, WalkEnd::Away) => Ending::Redirect,
        (Outcome::File, _) if walk.hops() == 0 => Ending::File,
        (Outcome::File | Outcome::Redirect, _) => Ending::Redirect,
        (Outcome::Gone, _) => Ending::Gone,
        (Outcome::Missing, _) => Ending::Missing,
        (Outcome::Outside, _) => Ending::Outside,
        (Outcome::Elsewhere, _) => Ending::Elsewhere,
        _ => Ending::Refused,
    }
}

fn log(lines: &[Line]) -> Vec<u8> {
    lines.iter().flat_map(|line| [&line.text[..], b"\n"].concat()).collect()
}

fn read(tally: &Tally<'_>, block: &[u8], at: usize) {
    LogReader::new(tally, LogFormat::Common).read(block, "access.log", at as u64).unwrap();
}

fn partial(tally: &Tally<'_>) -> Vec<u8> {
    let mut bytes = Vec::new();
    tally.write_partial(&mut bytes).unwrap();
    bytes
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn each_line_is_counted_as_it_is_answered(lines in prop::collection::vec(line(), 0..40), for_all in any::<bool>()) {
        let edge = if for_all { edge_for_all() } else { edge() };
        let whole = tally(&edge);
        read(&whole, &log(&lines), 0);
        let report = whole.report(100);
        let mut endings: BTreeMap<Ending, u64> = BTreeMap::new();
        let (mut differing, mut missing) = (0, BTreeMap::<String, u64>::new());
        let (mut hops, mut rules) = (0, BTreeMap::<_, u64>::new());
        for line in lines.iter().filter(|line| line.is_read) {
            let Some(request) = request(line) else { continue };
            let ending = ending(&edge, &request);
            *endings.entry(ending).or_default() += 1;
            let walk = edge.walk(&request);
            hops += u64::from(walk.hops() > 0);
            let deciding = walk.answers().iter().filter_map(|(_, one)| one.answer().rule());
            for id in deciding.collect::<BTreeSet<_>>() {
                *rules.entry(edge.program().rule(id).line()).or_default() += 1;
            }
            let answered = edge.answer(&request).status().unwrap_or(0);
            differing += u64::from(answered != line.status && ending != Ending::Depends);
            if ending == Ending::Missing {
                *missing.entry(request.url().to_owned()).or_default() += 1;
            }
        }
        let counted: BTreeMap<Ending, u64> =
            report.endings().iter().map(|one| (one.ending(), one.requests())).collect();
        prop_assert_eq!(counted, endings.clone());
        prop_assert_eq!(report.requests(), endings.values().sum::<u64>());
        prop_assert_eq!(report.differing().iter().map(|one| one.requests()).sum::<u64>(), differing);
        if for_all {
            // Where rules look at headers that the log lacks, it is not known.
            prop_assert_eq!(report.hops().iter().map(|(_, requests)| requests).sum::<u64>(), hops);
            let used = report.rules().iter().filter(|rule| rule.requests() > 0);
            let used: BTreeMap<_, u64> = used.map(|rule| (rule.line(), rule.requests())).collect();
            prop_assert_eq!(used, rules);
        }
        let unread = lines.iter().filter(|line| !line.is_read).count() as u64;
        prop_assert_eq!(report.unread(), unread);
        let of_days: u64 = report.days().values().flat_map(|day| day.values()).sum();
        prop_assert_eq!(of_days, report.requests());
        let mut reported = BTreeMap::<String, u64>::new();
        for one in report.missing() {
            // The same URL may be written in several ways.
            let url = Request::get(one.url()).unwrap().url().to_owned();
            *reported.entry(url).or_default() += one.requests();
        }
        prop_assert_eq!(reported, missing);
    }

    /// However the lines are shared out, and in whatever order the parts are merged, it is the same
    /// to the byte.
    #[test]
    fn parts_make_the_whole(lines in prop::collection::vec(line(), 1..30), cuts in prop::array::uniform2(any::<prop::sample::Index>())) {
        let edge = edge();
        let whole = tally(&edge);
        let all = log(&lines);
        read(&whole, &all, 0);
        let mut cuts = cuts.map(|cut| cut.index(lines.len() + 1));
        cuts.sort_unstable();
        let parts = [&lines[..cuts[0]], &lines[cuts[0]..cuts[1]], &lines[cuts[1]..]];
        let mut at = 0;
        let written = parts.map(|part| {
            let own = tally(&edge);
            let block = log(part);
            read(&own, &block, at);
            at += block.len();
            partial(&own)
        });
        for order in [[0, 1, 2], [2, 0, 1], [1, 2, 0]] {
            let merged = tally(&edge);
            order.iter().for_each(|part| merged.merge(&written[*part][..]).unwrap());
            prop_assert_eq!(partial(&merged), partial(&whole));
            prop_assert_eq!(merged.report(5), whole.report(5));
        }
        // Two of them first.
        let both = tally(&edge);
        written[1..].iter().for_each(|part| both.merge(&part[..]).unwrap());
        let merged = tally(&edge);
        merged.merge(&partial(&both)[..]).unwrap();
        merged.merge(&written[0][..]).unwrap();
        prop_assert_eq!(partial(&merged), partial(&whole));
        // What is cut short is not taken for less.
        let cut = &written[0][..written[0].len() - 2];
        let shortened = tally(&edge).merge(cut);
        prop_assert!(matches!(shortened, Err(PartialError::CutShort)), "{:?}", shortened);
    }

    #[test]
    fn no_bytes_are_too_much(bytes in prop::collection::vec(any::<u8>(), 0..400), format in 0..3_usize) {
        let edge = edge();
        let own = tally(&edge);
        let first: [&[u8]; 3] = [
            b"192.0.2.7 - - [26/Nov/2026:10:00:00 +0000] \"GET / HTTP/1.1\" 200 512\n",
            b"#Fields: date cs-method cs-uri-stem sc-status\n",
            b"{\"url\": \"/\"}\n",
        ];
        let log = [first[format], &bytes].concat();
        let format = LogFormat::of(&log, &JsonKeys::default()).unwrap();
        LogReader::new(&own, format).read(&log, "log", 0).unwrap();
        let lines = log.split(|byte| *byte == b'\n').filter(|line| !line.trim_ascii().is_empty());
        let counted = own.report(3);
        let urlless: u64 = counted.urlless().iter().map(|(_, count)| count).sum();
        prop_assert!(counted.requests() + counted.unread() + urlless <= lines.count() as u64);
    }
}

#[test]
fn each_format_says_the_same() {
    let edge = edge();
    let logs: [&str; 6] = [
        "192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"GET /s/old/a?k=1 HTTP/1.1\" 404 5\n192.0.2.1 - a [b] [26/Nov/2026:23:59:59 +0000] \"POST /s/none HTTP/2.0\" 200 -\n",
        "h.example:443 192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"GET /s/old/a?k=1 HTTP/1.1\" 404 5 \"-\" \"a\"\nh.example 2001:db8::1 - - [26/Nov/2026:10:00:00 +0000] \"POST /s/none HTTP/1.1\" 200 5 \"-\" \"\"\n",
        "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status cs(User-Agent)\n2026-11-26 10:00:00 192.0.2.1 GET /s/old/a k=1 404 \"a b\"\n#Fields: sc-status date cs-method cs-uri\n200 2026-11-26 POST /s/none\n",
        "{\"url\":\"https://h.example/s/old/a?k=1\",\"status\":404,\"time\":\"2026-11-26T10:00:00Z\"}\n{\"method\":\"POST\",\"path\":\"/s/none\",\"status\":\"200\",\"ts\":1795687200.5}\n",
        "{\"request\":\"GET /s/old/a?k=1 HTTP/1.1\",\"host\":\"H.example\",\"status_code\":404,\"timestamp\":1795687200000}\r\n{\"request_method\":\"POST\",\"uri\":\"/s/none\",\"status\":200,\"date\":\"2026-11-26\"}\r\n",
        "192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"GET https://h.example/s/old/a?k=1 HTTP/1.1\" 404 5\n192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"POST /s/none\" 200 5\n",
    ];
    let reports = logs.map(|log| {
        let own = tally(&edge);
        let format = LogFormat::of(log.as_bytes(), &JsonKeys::default()).expect(log);
        LogReader::new(&own, format).read(log.as_bytes(), "log", 0).unwrap();
        (log, own.report(5))
    });
    for (log, report) in &reports {
        assert_eq!(*report, reports[0].1, "{log}");
        assert_eq!((report.requests(), report.unread(), report.days().len()), (2, 0, 1), "{log}");
    }
    let first = &reports[0].1;
    assert_eq!(first.redirected()[0].url(), "https://h.example/s/old/a?k=1");
    assert_eq!((first.ending(Ending::Redirect), first.ending(Ending::Refused)), (1, 1));
    assert_eq!(first.differing().len(), 2);
    assert_eq!(first.rules().iter().filter(|rule| rule.requests() > 0).count(), 1);
}

#[test]
fn requests_of_a_program_are_counted() {
    let edge = edge();
    let own = tally(&edge);
    let hits = [
        Hit::of("/a").times(3),
        Hit::of("http://w.example/").with_status(200),
        Hit::of("/by-agent"),
        Hit::of("/gone").with_method(Method::HEAD).on(ravel_traffic::Day::from_seconds(0).unwrap()),
    ];
    own.count(hits).unwrap();
    let report = own.report(5);
    assert_eq!((report.requests(), report.urls(), own.lines()), (6, 4, 4));
    assert_eq!(report.headers()[0].0, "user-agent");
    assert_eq!(report.origins().len(), 2);
    assert_eq!(report.days().keys().next().unwrap().to_string(), "1970-01-01");
    let other = Rules::parse(&RULES.replace("gone /gone", "gone /no")).unwrap();
    let other = Edge::new(&other, FileList::from_iter(FILES));
    let refused = tally(&other).merge(&partial(&own)[..]);
    assert!(matches!(refused, Err(PartialError::Rules)), "{refused:?}");
    let newer = String::from_utf8(partial(&own)).unwrap().replacen("tally 1", "tally 2", 1);
    let refused = tally(&edge).merge(newer.as_bytes());
    assert!(matches!(refused, Err(PartialError::Version(version)) if version == "2"));
    let small = Tally::new(&edge, &TallyOptions::default().budget(1_000)).unwrap();
    assert!(small.count([Hit::of("/a")]).unwrap_err().to_string().contains("`--partial FILE`"));
}

#[test]
fn the_log_of_the_demo_is_what_the_example_makes() {
    let mut made = Vec::new();
    access_log::demo(&mut made).unwrap();
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/lantern-ferries/access.log.gz");
    let mut kept = Vec::new();
    unpacked(std::fs::File::open(path).unwrap()).unwrap().read_to_end(&mut kept).unwrap();
    assert!(made == kept, "write it anew with the example `access_log`");
    assert_eq!(made.iter().filter(|byte| **byte == b'\n').count(), 20_000);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// A URL that is asked for by several methods is one, with all their requests.
    #[test]
    fn urls_are_counted_and_not_methods(
        asked in prop::collection::vec((0..3_usize, 0..6_usize, 1..4_u64), 0..40),
        most in 1..8_usize,
    ) {
        const URLS: [&str; 6] = ["/a", "/gone", "/no-such", "/old/none", "/nothing", "/s/old/a"];
        let methods = [Method::GET, Method::HEAD, Method::POST];
        let edge = edge();
        let own = tally(&edge);
        let hits = asked.iter().map(|(method, url, count)| {
            Hit::of(URLS[*url]).with_method(methods[*method].clone()).times(*count)
        });
        own.count(hits).unwrap();
        let report = own.report(most);
        let mut urls = BTreeSet::new();
        let mut endings: BTreeMap<Ending, BTreeSet<usize>> = BTreeMap::new();
        let mut missing: BTreeMap<usize, u64> = BTreeMap::new();
        for (method, url, count) in &asked {
            let whole = edge.site().url_of(URLS[*url]);
            let request = ravel::Request::new(methods[*method].clone(), &whole).unwrap();
            let ending = match edge.walk(&request) {
                walk if walk.outcome() == Outcome::Missing => Ending::Missing,
                walk if walk.outcome() == Outcome::Gone => Ending::Gone,
                walk if walk.outcome() == Outcome::Refused => Ending::Refused,
                walk if walk.hops() > 0 => Ending::Redirect,
                _ => Ending::File,
            };
            urls.insert(*url);
            endings.entry(ending).or_default().insert(*url);
            if ending == Ending::Missing {
                *missing.entry(*url).or_default() += count;
            }
        }
        prop_assert_eq!(report.urls(), urls.len() as u64);
        for one in report.endings() {
            prop_assert_eq!(one.urls(), endings[&one.ending()].len() as u64, "{:?}", one.ending());
        }
        let mut wanted: Vec<u64> = missing.values().copied().collect();
        wanted.sort_by_key(|requests| std::cmp::Reverse(*requests));
        wanted.truncate(most);
        let listed: Vec<u64> = report.missing().iter().map(|one| one.requests()).collect();
        prop_assert_eq!(listed, wanted);
    }
}
