//! Laws of the decision, on random sites.

use std::collections::BTreeMap;

use crate::sites::{FILES, pick, readable, request, request_of, rule, site};
use http::HeaderMap;
use http::header::{COOKIE, HOST, HeaderName, HeaderValue};
use proptest::prelude::*;
use ravel::address::Address;
use ravel::edge::{Answer, WalkEnd};
use ravel::program::Stage;
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_check::Audit;
use ravel_publish as publish;
use url::Url;

fn edge(site: &str, rules: &[String]) -> Edge {
    Edge::new(&readable(site, rules), FileList::from_iter(FILES))
}

/// What a request gets, which is what is explained to who asks why: no shortcut says otherwise.
fn answered<'e>(edge: &'e Edge, request: &Request) -> Answer<'e> {
    let answer = edge.answer(request);
    assert_eq!(answer, *edge.explain(request).answer(), "{request:?}");
    answer
}

/// Request headers that conditions look at, each with values that they tell apart.
const HEADERS: &[(&str, &[&str])] = &[
    ("x-h", &["on", "off", "nnn"]),
    ("cookie", &["c=1", "c=2; d=2", "d=\"a b\"", "c=3"]),
    ("accept-language", &["de", "en", "pt-br;q=0.5, de;q=0.4"]),
    ("sec-x", &["1", "2"]),
    ("referer", &["/a"]),
];

/// A value for each header, or none.
fn headers() -> impl Strategy<Value = HeaderMap> {
    let each: Vec<_> =
        HEADERS.iter().map(|(_, values)| prop::option::of(prop::sample::select(*values))).collect();
    each.prop_map(|values| {
        let pairs =
            HEADERS.iter().zip(values).filter_map(|((name, _), value)| Some((name, value?)));
        pairs
            .map(|(name, value)| (HeaderName::from_static(name), HeaderValue::from_static(value)))
            .collect()
    })
}

proptest! {
    #![proptest_config(ravel_testing::config(600))]

    /// Every location is what a browser's parser makes of it.
    #[test]
    fn a_location_is_a_fixed_point_of_the_url_parser(
        site in site(), rules in prop::collection::vec(rule(), 0..12), requests in prop::collection::vec(request(), 24)
    ) {
        let edge = edge(&site, &rules);
        for asked in requests {
            let request = request_of(&asked);
            let host = asked["host"].as_str().unwrap();
            // What no browser can send: `xn--` and no name.
            if Url::parse(&format!("http://{host}/")).is_err() {
                continue;
            }
            if let Some(location) = answered(&edge, &request).location() {
                prop_assert_eq!(Url::parse(location).unwrap().to_string(), location, "{}", asked);
                prop_assert_eq!(Address::parse_location(location).unwrap().into_string(), location);
            }
        }
    }

    /// A browser that follows locations, resolving each as browsers do, comes to the end that the
    /// walk says, and asks no URL twice unless that is a loop.
    #[test]
    fn following_locations_is_the_walk(
        site in site(), rules in prop::collection::vec(rule(), 0..12), requests in prop::collection::vec(request(), 12)
    ) {
        let edge = edge(&site, &rules);
        for asked in requests {
            let request = request_of(&asked);
            let Ok(first) = request.address() else { continue };
            if request.headers().contains_key(HOST) || Url::parse(first.as_str()).map_or(true, |url| url.as_str() != first.as_str()) {
                continue;
            }
            let walk = edge.walk(&request);
            let fast = edge.walk_unexplained(&request);
            prop_assert_eq!((walk.url(), walk.end(), walk.answers().len()), (fast.url(), fast.end(), fast.answers().len()), "{}", asked);
            for ((_, why), (_, fast)) in walk.answers().iter().zip(fast.answers()) {
                prop_assert_eq!(why.answer(), fast.answer(), "{}", asked);
            }
            let mut at = Url::parse(first.as_str()).unwrap();
            let mut seen = vec![at.clone()];
            for (url, explanation) in walk.answers() {
                prop_assert_eq!(at.as_str(), url);
                let Some(location) = explanation.answer().location() else { break };
                let mut to = at.join(location).unwrap();
                if to.fragment().is_none() {
                    to.set_fragment(at.fragment());
                }
                let known = seen.iter().any(|known| known[..url::Position::AfterQuery] == to[..url::Position::AfterQuery]);
                prop_assert!(!known || walk.end() == WalkEnd::Loop, "{} comes back from {}", to, url);
                seen.push(to.clone());
                at = to;
            }
            prop_assert_eq!(at.as_str(), walk.url());
        }
    }

    /// Requests for one URL that agree in what `vary` names get one answer, whatever their other
    /// headers.
    #[test]
    fn vary_is_sound(
        site in site(), rules in prop::collection::vec(rule(), 1..12), asked in prop::collection::vec(request(), 8),
        ours in prop::collection::vec(headers(), 8), theirs in prop::collection::vec(headers(), 8), heads in any::<bool>(),
    ) {
        let edge = edge(&site, &rules);
        for ((asked, ours), theirs) in asked.iter().zip(ours).zip(theirs) {
            let url = request_of(asked);
            let Ok(url) = url.address() else { continue };
            let request = |method, headers: &HeaderMap| Request::of(method, url.clone()).with_headers(headers.clone());
            let one = answered(&edge, &request(http::Method::GET, &ours));
            let named: Vec<&str> = one.headers().iter().filter(|header| header.name() == "vary").flat_map(|header| header.value().split(", ")).collect();
            if named.contains(&"*") {
                continue;
            }
            // As the first in all that is named, as the second in all else.
            let mut mixed = theirs.clone();
            for name in named {
                let name: HeaderName = name.parse().unwrap();
                mixed.remove(&name);
                ours.get_all(&name).into_iter().for_each(|value| { mixed.append(&name, value.clone()); });
            }
            let method = if heads { http::Method::HEAD } else { http::Method::GET };
            let other = answered(&edge, &request(method, &mixed));
            prop_assert_eq!(one, other, "{} {:?} {:?}", url, ours, mixed);
        }
    }

    /// What explains itself is what is answered, and no shortcut says otherwise.
    #[test]
    fn explained_and_fast_answers_are_equal(
        site in site(), rules in prop::collection::vec(rule(), 0..12), requests in prop::collection::vec(request(), 24)
    ) {
        let edge = edge(&site, &rules);
        for asked in requests {
            let request = request_of(&asked);
            let (answer, why) = (edge.answer(&request), edge.explain(&request));
            prop_assert_eq!(&answer, why.answer(), "{}", asked);
            // The history of each header ends in what is sent.
            let mut sent: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
            for step in why.headers() {
                let values = sent.entry(step.name()).or_default();
                match step.change() {
                    ravel::edge::HeaderChange::Set(value) => *values = vec![value],
                    ravel::edge::HeaderChange::Added(value) => values.push(value),
                    _ => values.clear(),
                }
            }
            sent.retain(|_, values| !values.is_empty());
            let mut answered: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
            for header in answer.headers() {
                answered.entry(header.name()).or_default().push(header.value());
            }
            prop_assert_eq!(sent, answered, "{}", asked);
        }
    }
}

proptest! {
    #![proptest_config(ravel_testing::config(120))]

    /// A table or an included file that is named twice is as a copy under another name.
    #[test]
    fn a_file_named_twice_is_as_a_copy(
        first in group(), between in prop::collection::vec(rule(), 0..3), second in group(),
        table in prop::collection::vec(("/(a|b|c|x|a/b|\\{s\\})", "/(a|b|c|x|d)"), 1..5),
        included in prop::collection::vec(rule(), 1..4), accepted in any::<bool>(), asked in prop::collection::vec(request(), 12),
    ) {
        let site = "site https://h.example/\n  files dist\n  missing /404\n";
        let table: String = table.iter().map(|(old, new)| format!("{old},{new}\n")).collect();
        let table = format!("old,new\n{table}");
        let included: String = included.iter().filter(|rule| Rules::parse(&format!("{site}{rule}")).is_ok()).cloned().collect();
        let between: String = between.iter().filter(|rule| Rules::parse(&format!("{site}{rule}")).is_ok()).cloned().collect();
        let load = |name: &str| Ok::<_, String>(if name.ends_with(".csv") { table.clone() } else { included.clone() }.into_bytes());
        let accept = if accepted { "    accept duplicate-rule \"on purpose\"\n" } else { "" };
        let text = |copy: &str| format!("{site}{first}  table m.csv\ninclude i.ravel\n{between}{second}  table m{copy}.csv\n{accept}include i{copy}.ravel\n");
        let [twice, copied] = ["", "-2"].map(|copy| Rules::parse_with(&text(copy), load));
        let (Ok(twice), Ok(copied)) = (twice, copied) else { return Ok(()) };
        let [twice, copied] = [twice, copied].map(|rules| Edge::new(&rules, FileList::from_iter(FILES)));
        prop_assert_eq!(publish::module(&publish::table(&twice)), publish::module(&publish::table(&copied)));
        let findings = |edge: &Edge| {
            let audit = Audit::new(edge);
            let found = audit.rules();
            let shown = format!("{:#?}", audit.report(found).findings());
            shown.replace("m-2.csv", "m.csv").replace("i-2.ravel", "i.ravel")
        };
        prop_assert_eq!(findings(&twice), findings(&copied), "{}", text(""));
        for asked in asked {
            let request = request_of(&asked);
            let (one, other) = (answered(&twice, &request), answered(&copied, &request));
            prop_assert_eq!((one.outcome(), one.headers(), one.rule()), (other.outcome(), other.headers(), other.rule()));
        }
    }
}

/// The line of a group of redirects, with a condition or not.
fn group() -> impl Strategy<Value = String> {
    let conditions =
        pick(&["", "  when cookie c\n", "  when host is h.example\n", "  when no file\n"]);
    (pick(&["redirect", "redirect permanent"]), conditions)
        .prop_map(|(head, condition)| format!("{head}\n{condition}"))
}

/// No page varies by a condition that none of its answers could feel.
#[test]
fn vary_names_only_what_could_be_felt() {
    let rules = Rules::parse(
        "site https://h.example/\n  missing /404\n\
         headers {/any*} on missing\n  set x-a: 1\n  when header x-m\n\
         headers {/any*} type image/*\n  set x-b: 1\n  when header x-t\n\
         redirect /self -> /self\n  when header x-self\n\
         redirect /to?x={x} -> /{x}\n  when header x-dots\n\
         fallback /app{/s*} -> /none/\n  when header x-none\n\
         redirect /only/{y} -> /b\n  where y is digits\n  when header x-where\n\
         redirect /post -> /b\n  when method is POST\n  when header x-post\n\
         redirect /cookie -> /b\n  when cookie c\n",
    )
    .unwrap();
    let edge =
        Edge::new(&rules, FileList::from_iter(["index.html", "b.html", "404.html", "cat.png"]));
    let cases = [
        ("/b", None),
        ("/cat.png", Some("x-t")),
        ("/nothing", Some("x-m")),
        ("/self", Some("x-m")),
        ("/to?x=..", Some("x-m")),
        ("/to?x=b", Some("x-m, x-dots")),
        ("/app/x", Some("x-m")),
        ("/only/a", Some("x-m")),
        ("/only/1", Some("x-m, x-where")),
        ("/post", Some("x-m")),
        ("/cookie", Some("x-m, cookie")),
    ];
    for (path, vary) in cases {
        let answer = answered(&edge, &Request::get(&format!("https://h.example{path}")).unwrap());
        assert_eq!(answer.header("vary"), vary, "{path}");
    }
    let with = Request::get("https://h.example/cookie")
        .unwrap()
        .with_header(COOKIE, HeaderValue::from_static("c=1"));
    assert_eq!(answered(&edge, &with).header("vary"), Some("cookie"));
}

/// A table that is named under two groups gives rules of their own, each with its own finding.
#[test]
fn rules_of_one_line_are_told_apart() {
    let load = |_: &str| Ok::<_, String>(b"old,new\n/a,/b\n".to_vec());
    let text = "site https://h.example/\nredirect\n  when cookie c\n  table m.csv\nredirect\n  table m.csv\nredirect\n  table m.csv\n";
    let rules = Rules::parse_with(text, load).unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "b.html"]));
    let ids: Vec<usize> =
        edge.program().rules(Stage::Redirect).map(|rule| rule.id().index()).collect();
    assert_eq!(ids, [0, 1, 2]);
    let audit = Audit::new(&edge);
    let codes: Vec<&str> = audit
        .rules()
        .iter()
        .map(|finding| finding.code().name())
        .filter(|code| *code != "missing-slash-variant")
        .collect();
    assert_eq!(codes, ["duplicate-rule"]);
    let answer = answered(&edge, &Request::get("https://h.example/a").unwrap());
    assert_eq!(
        (answer.outcome(), answer.rule().map(|rule| rule.index())),
        (Outcome::Redirect, Some(1))
    );
}
