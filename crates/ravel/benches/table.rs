//! One table of ratios, each taken in one run: `cargo bench -p ravel`.
//!
//! Things that are compared are interleaved of several rounds, so that each finds in the caches what it
//! used itself and not what the others did; the fastest round of each counts, since what else the
//! machine does makes a round slower, never faster.

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};

use http::{HeaderMap, Method};
use ravel::address::Address;
use ravel::{Edge, FileList, Request, Rules};
use rustc_hash::FxHashMap;

const TURNS: usize = 6;
const ROUNDS: usize = 4;
const SITE: &str = "site https://harbour.example/\n";

fn main() {
    // Cargo's test runner asks benches for their tests.
    if std::env::args().any(|argument| argument == "--list" || argument == "--test") {
        return;
    }
    println!("{:58} {:>10} {:>10} {:>7}", "", "this", "that", "ratio");
    let few = answering(Shape::Worded, 100);
    answering(Shape::Worded, 10_000);
    answering(Shape::Worded, 100_000);
    answering(Shape::Flat, 100_000);
    let many = answering(Shape::Worded, 1_000_000);
    row("(a) answer at 1 000 000 rules / at 100 rules", many, few);
    reading(100_000);
    worst_case(1_000);
    let (few, many) = (explaining(20_000), explaining(200_000));
    row("(e) explanation at 200 000 rules / at 20 000 rules", many, few);
    long_paths();
}

fn row(what: &str, this: Duration, that: Duration) {
    println!(
        "{what:58} {:>10} {:>10} {:>7.2}",
        shown(this),
        shown(that),
        this.as_secs_f64() / that.as_secs_f64()
    );
}

fn shown(time: Duration) -> String {
    match time.as_nanos() {
        nanos @ 0..10_000 => format!("{nanos} ns"),
        nanos @ 10_000..10_000_000 => format!("{} us", nanos / 1_000),
        nanos => format!("{} ms", nanos / 1_000_000),
    }
}

/// Times each in turns; the fastest round of each, per `per` operations.
fn fastest<const N: usize>(per: usize, mut run: [&mut dyn FnMut(); N]) -> [Duration; N] {
    let mut best = [Duration::MAX; N];
    for _ in 0..TURNS {
        for (best, run) in best.iter_mut().zip(&mut run) {
            for _ in 0..ROUNDS {
                let start = Instant::now();
                run();
                *best = (*best).min(start.elapsed());
            }
        }
    }
    best.map(|time| time / per as u32)
}

const WORDS: [&str; 32] = [
    "night",
    "boat",
    "harbour",
    "winter",
    "lantern",
    "skerry",
    "heronsea",
    "crossing",
    "timetable",
    "storm",
    "quay",
    "island",
    "bakery",
    "lighthouse",
    "market",
    "spring",
    "captain",
    "rope",
    "letter",
    "summer",
    "seal",
    "pier",
    "fog",
    "morning",
    "stone",
    "garden",
    "wind",
    "bench",
    "marsh",
    "cliff",
    "post",
    "story",
];
const SECTIONS: [&str; 5] = ["news", "blog", "offers", "logbook", "press"];

/// How the addresses of an old site look.
#[derive(Clone, Copy, PartialEq)]
enum Shape {
    /// `/news/fog/2014/11/23/night-boat-4711.html`
    Worded,
    /// `/old/section-4/page-4711.html`
    Flat,
}

/// The old address number `at`: nine literal to one with a capture.
fn old(shape: Shape, at: usize) -> String {
    if shape == Shape::Flat {
        return match at % 10 {
            9 => format!("/archive-{at}/{{page}}"),
            _ => format!("/old/section-{}/page-{at}.html", at / 1_000),
        };
    }
    let word = |shift: usize| WORDS[(at.wrapping_mul(2_654_435_761) >> shift) % WORDS.len()];
    let (a, b, c) = (word(7), word(13), word(19));
    match at % 10 {
        9 => format!("/tags/{a}-{at}/{{page}}"),
        _ => {
            let (section, year, month, day) =
                (SECTIONS[at % 5], 2008 + at / 10 % 16, 1 + at / 160 % 12, 1 + at / 1920 % 28);
            format!("/{section}/{a}/{year}/{month:02}/{day:02}/{b}-{c}-{at}.html")
        }
    }
}

fn table(shape: Shape, rules: usize) -> String {
    let mut text = String::from("old,new,status\n");
    for at in 0..rules {
        let new =
            if at % 10 == 9 { format!("/pages/{at}/{{page}}") } else { format!("/pages/{at}") };
        writeln!(text, "{},{new},permanent", old(shape, at)).unwrap();
    }
    text
}

fn read(table: &str) -> Rules {
    let load = |_: &str| Ok::<_, String>(table.as_bytes().to_vec());
    Rules::parse_with(&format!("{SITE}redirect\n  table moved.csv\n"), load).unwrap()
}

/// Paths to ask for, in an order that no cache foresees: half are old addresses, half are old
/// addresses gone wrong.
fn asked(shape: Shape, rules: usize) -> Vec<String> {
    let mut state = 1_usize;
    let mut paths = Vec::new();
    for number in 0..10_000 {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let at = (state >> 33) % rules;
        let path = old(shape, at).replace("{page}", "winter");
        paths.push(if number % 2 == 0 { path } else { format!("{path}/") });
    }
    paths
}

/// (a) One answer, beside a look-up of the same path in a hash map and in a radix router.
fn answering(shape: Shape, rules: usize) -> Duration {
    let edge = Edge::new(&read(&table(shape, rules)), FileList::from_iter(["index.html"]));
    let mut map: FxHashMap<String, usize> = FxHashMap::default();
    let mut router = matchit::Router::new();
    for at in 0..rules {
        map.insert(old(shape, at), at);
        router.insert(old(shape, at), at).unwrap();
    }
    let paths = asked(shape, rules);
    let requests: Vec<Request> = paths
        .iter()
        .map(|path| Request::get(&format!("https://harbour.example{path}")).unwrap())
        .collect();
    let hits = requests.iter().filter(|request| edge.answer(request).status() == Some(301)).count();
    assert_eq!(hits, requests.len() / 2, "half of them are redirected");
    let [answer, hash, radix] = fastest(
        paths.len(),
        [
            &mut || requests.iter().for_each(|request| drop(black_box(edge.answer(request)))),
            &mut || {
                paths.iter().for_each(|path| {
                    black_box(map.get(path.as_str()));
                })
            },
            &mut || {
                paths.iter().for_each(|path| {
                    black_box(router.at(path).is_ok());
                })
            },
        ],
    );
    let flat = if shape == Shape::Flat { ", flat" } else { "" };
    row(&format!("(a) answer / bare hash look-up, {rules} rules{flat}"), answer, hash);
    row(&format!("(a) answer / radix router's look-up, {rules} rules{flat}"), answer, radix);
    answer
}

/// (b) Reading and compiling rules, beside reading the same rows as CSV.
fn reading(rules: usize) {
    let text = table(Shape::Worded, rules);
    let [compiled, rows] = fastest(
        1,
        [&mut || drop(black_box(Edge::new(&read(&text), FileList::default()))), &mut || {
            let mut reader = csv::Reader::from_reader(text.as_bytes());
            let mut record = csv::StringRecord::new();
            while reader.read_record(&mut record).unwrap() {
                black_box(&record);
            }
        }],
    );
    row(&format!("(b) read and compile / read as CSV, {rules} rows"), compiled, rows);
}

/// (e) One explanation, with the rules that nearly matched.
fn explaining(rules: usize) -> Duration {
    let table = table(Shape::Worded, rules);
    let edge = Edge::new(&read(&table), FileList::from_iter(["index.html"]));
    let requests: Vec<Request> = asked(Shape::Worded, rules)
        .iter()
        .take(1_000)
        .map(|path| Request::get(&format!("https://harbour.example{path}")).unwrap())
        .collect();
    let [explanation] = fastest(
        requests.len(),
        [&mut || requests.iter().for_each(|request| drop(black_box(edge.explain(request))))],
    );
    explanation
}

/// (d) The worst case of the index: patterns with the same text around their captures are all
/// candidates.
fn worst_case(rules: usize) {
    let alike: String =
        (0..rules).map(|at| format!("  /{{a}}-{at}-{{b}} -> /pages/{at}\n")).collect();
    let spread: String =
        (0..rules).map(|at| format!("  /{at}-{{a}}-{{b}} -> /pages/{at}\n")).collect();
    let edge = |text: &str| {
        Edge::new(&Rules::parse(&format!("{SITE}redirect\n{text}")).unwrap(), FileList::default())
    };
    let (alike, spread) = (edge(&alike), edge(&spread));
    let requests: Vec<Request> = (0..1_000)
        .map(|at| {
            Request::get(&format!("https://harbour.example/{at}-{}-{at}", at % rules)).unwrap()
        })
        .collect();
    let [alike, spread] = fastest(
        requests.len(),
        [
            &mut || requests.iter().for_each(|request| drop(black_box(alike.answer(request)))),
            &mut || requests.iter().for_each(|request| drop(black_box(spread.answer(request)))),
        ],
    );
    row(&format!("(d) worst case: {rules} rules alike in one segment / apart"), alike, spread);
}

/// A path of 8 000 characters of the worst case, beside an ordinary one of 80, per byte.
fn long_paths() {
    let patterns = [
        "{+x}/b",
        "{/x*}/b{/y*}",
        "{+x}b{+y}",
        "/a{/x*}/a/c/b{/y*}",
        "{+x}a{y}b/{+z}c",
        "{+x}a{y}c{+z}",
        "{+x}/{y}q{/z*}",
        "{/x*}/b{/y*}/c",
        "/a{/x*}/b",
        "/a/{x}/a{/y*}/q",
        "{/x*}/a/a/b",
        "/{a}/{b}/{c}{/d*}/e",
        "/a{+x}a{+y}b",
        "{+x}/{y}b{+z}c",
        "/{a}/a{/b*}/{c}/z",
        "{/x*}/{y}z",
        "/a/a/a{+r}z",
        "{+a}/a/{b}a{+c}/z",
    ];
    let rules: String = patterns.iter().map(|pattern| format!("  {pattern} -> /found\n")).collect();
    let edge =
        Edge::new(&Rules::parse(&format!("{SITE}redirect\n{rules}")).unwrap(), FileList::default());
    let request = |path: String| {
        let address = Address::parse(&format!("https://harbour.example{path}")).unwrap();
        Request::of(Method::GET, address).with_headers(HeaderMap::new())
    };
    let ordinary = request(format!(
        "/timetable/{}/weekday/northquay-to-heronsea-by-way-of-skerry/{}",
        2027,
        "departures".repeat(2)
    ));
    let hurting = [
        "/a".repeat(4_000),
        "/aa".repeat(2_666),
        format!("/{}", "a".repeat(8_000)),
        "/ad".repeat(2_666),
    ]
    .map(request);
    for (name, hurting) in ["/a/a/…", "/aa/aa/…", "/aaaa…", "/ad/ad/…"].iter().zip(&hurting)
    {
        let length = hurting.address().unwrap().path().len();
        let short = ordinary.address().unwrap().path().len();
        let [long, ordinary] = fastest(
            1,
            [&mut || (0..100).for_each(|_| drop(black_box(edge.answer(hurting)))), &mut || {
                (0..100 * length / short).for_each(|_| drop(black_box(edge.answer(&ordinary))))
            }],
        );
        row(
            &format!("a byte of {name} ({length}) / of an ordinary path ({short})"),
            long / 100,
            ordinary / 100,
        );
    }
}
