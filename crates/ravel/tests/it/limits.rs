//! Limits of the decision: each was seen by no test before.

use http::header::{CACHE_CONTROL, HOST, HeaderName, HeaderValue};
use http::{HeaderMap, Method};
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules};

const FILES: [&str; 4] = ["index.html", "about.html", "de/index.html", "404.html"];

fn edge(text: &str) -> Edge {
    let rules = Rules::parse(text).unwrap_or_else(|problems| panic!("{text}\n{problems}"));
    Edge::new(&rules, FileList::from_iter(FILES))
}

/// The status with the location or the file.
fn told(edge: &Edge, request: &Request) -> String {
    let answer = edge.answer(request);
    let what = answer.location().or(answer.file()).unwrap_or("-");
    format!("{} {what}", answer.status().unwrap_or_default())
}

fn get(edge: &Edge, url: &str) -> String {
    told(edge, &Request::get(url).unwrap())
}

fn with(url: &str, fields: &[(&'static str, &'static str)]) -> Request {
    let mut headers = HeaderMap::new();
    for (name, value) in fields {
        headers.append(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    Request::get(url).unwrap().with_headers(headers)
}

/// Two lines are two, whether or not they say the same (RFC 9112, section 3.2).
#[test]
fn two_equal_host_lines_are_refused() {
    let edge = edge("site https://h.example/\n");
    let asked = |lines: &[&'static str]| {
        let mut headers = HeaderMap::new();
        for line in lines {
            headers.append(HOST, HeaderValue::from_static(line));
        }
        let request = Request::from_parts(Method::GET, Scheme::Https, "h.example", "/");
        told(&edge, &request.with_headers(headers))
    };
    assert_eq!(asked(&["h.example"]), "200 index.html");
    assert_eq!(asked(&["h.example", "h.example"]), "400 -");
}

/// With `hsts subdomains` plain HTTP is sent to HTTPS below a base path of its host; what is outside
/// has no part in the promise.
#[test]
fn hsts_ends_at_the_base_path() {
    let edge = edge("site https://h.example/base/\n  hsts 1y subdomains\n");
    assert_eq!(get(&edge, "http://h.example/base/about"), "301 https://h.example/base/about");
    assert_eq!(get(&edge, "http://h.example/other"), "404 -");
    let promised = |url: &str| {
        let request = Request::get(url).unwrap();
        edge.answer(&request).header("strict-transport-security").is_some()
    };
    assert!(promised("https://h.example/base/about"));
    assert!(!promised("https://h.example/other") && !promised("http://h.example/base/about"));
}

/// A captured label is the first one, and one alone.
#[test]
fn a_captured_label_is_one() {
    let edge = edge(
        "site https://h.example/\n  preview *.p.example\nredirect https://{x}.p.example/a -> /about?x={x}\n",
    );
    assert_eq!(get(&edge, "https://one.p.example/a"), "302 https://one.p.example/about?x=one");
    assert_eq!(get(&edge, "https://two.one.p.example/a"), "421 -");
}

/// A host may have 253 bytes; a target with more does not match.
#[test]
fn hosts_have_at_most_253_bytes() {
    let above = format!("{}.{}.{}", "a".repeat(63), "b".repeat(63), "c".repeat(63));
    let text = format!(
        "site https://h.example/\n  preview *.p.example\nredirect https://{{x}}.p.example/a -> https://{{x}}.{above}/\n"
    );
    let edge = edge(&text);
    let asked = |label: usize| {
        let label = "x".repeat(label);
        edge.answer(&Request::get(&format!("https://{label}.p.example/a")).unwrap())
            .location()
            .map(|to| to.len() - "https://".len() - 1)
    };
    // 191 bytes and a dot are above the label.
    assert_eq!(asked(61), Some(253));
    assert_eq!(asked(62), None);
}

/// What is written in a target is written as browsers would send it.
#[test]
fn locations_are_normalized() {
    let edge = edge(
        "site https://h.example/\nredirect /a -> /b/../c/./d%7e?q=\"x\"\nredirect /e -> HTTPS://OTHER.Example:443/%5b%5d#`\n\
         redirect /f -> http://127.1/x\n",
    );
    assert_eq!(get(&edge, "https://h.example/a"), "302 https://h.example/c/d~?q=%22x%22");
    assert_eq!(get(&edge, "https://h.example/e"), "302 https://other.example/%5B%5D#%60");
    assert_eq!(get(&edge, "https://h.example/f"), "302 http://127.0.0.1/x");
}

/// The base path, too, matches in any case, and is written as the rules do.
#[test]
fn the_base_path_under_ignore_case() {
    let edge = edge("site https://h.example/Docs/\n  ignore case\nredirect /old -> /about\n");
    assert_eq!(get(&edge, "https://h.example/Docs/about"), "200 about.html");
    assert_eq!(get(&edge, "https://h.example/docs/about"), "301 https://h.example/Docs/about");
    assert_eq!(get(&edge, "https://h.example/DOCS/OLD"), "302 https://h.example/Docs/about");
    assert_eq!(get(&edge, "https://h.example/docs"), "301 https://h.example/Docs/");
}

#[test]
fn what_is_gone_is_asked_for_again() {
    let edge = edge(
        "site https://h.example/\ngone /old\ngone /kept\nheaders /kept on all\n  set cache-control: max-age=60\n",
    );
    let kept = |url: &str| {
        let request = Request::get(url).unwrap();
        let answer = edge.answer(&request);
        (answer.status(), answer.header(CACHE_CONTROL.as_str()).map(str::to_owned))
    };
    assert_eq!(kept("https://h.example/old"), (Some(410), Some("no-cache".to_owned())));
    assert_eq!(kept("https://h.example/kept"), (Some(410), Some("max-age=60".to_owned())));
}

/// 301 and 302 turn POST into GET, and no other method (Fetch, section 4.4).
#[test]
fn a_put_stays_one_behind_301() {
    let edge = edge("site https://h.example/\n  hops each\nredirect /a -> /about permanent\n");
    for (method, status) in [(Method::POST, 200), (Method::PUT, 405), (Method::GET, 200)] {
        let request = Request::new(method.clone(), "https://h.example/a").unwrap();
        let walk = edge.walk(&request);
        assert_eq!((walk.hops(), walk.status()), (1, Some(status)), "{method}");
    }
}

/// A language with the quality 0 is not wanted (RFC 9110, section 12.4.2).
#[test]
fn quality_0_is_not_wanted() {
    let edge = edge(
        "site https://h.example/\n  languages en, de\nredirect / -> /de/\n  when language is de\n",
    );
    let asked = |value: &'static str| {
        told(&edge, &with("https://h.example/", &[("accept-language", value)]))
    };
    let (to_de, stays) = ("302 https://h.example/de/", "200 index.html");
    for (value, expected) in [
        ("de", to_de),
        ("de;q=0.001", to_de),
        ("de;q=0", stays),
        ("de;q=0.000", stays),
        ("de;q=0, en;q=0.1", stays),
        ("en;q=0, de;q=0.1", to_de),
    ] {
        assert_eq!(asked(value), expected, "{value}");
    }
}

/// Once the origin has changed, what browsers send under `sec-*` and the like may be another: a rule
/// that looks at it is not joined.
#[test]
fn joining_stops_at_headers_that_another_origin_does_not_get() {
    let rules = |condition: &str| {
        edge(&format!(
            "site https://h.example/\n  alias www.h.example\nredirect /b -> /a\nredirect /a -> /about\n  when {condition}\n"
        ))
    };
    for (condition, field) in [
        ("header sec-fetch-mode is navigate", ("sec-fetch-mode", "navigate")),
        ("header sec-gpc is 1", ("sec-gpc", "1")),
        ("cookie c", ("cookie", "c=1")),
        ("header referer contains x", ("referer", "https://x.example/")),
        ("header origin is null", ("origin", "null")),
    ] {
        let edge = rules(condition);
        let same = told(&edge, &with("https://h.example/b", &[field]));
        assert_eq!(same, "302 https://h.example/about", "{condition}");
        let other = told(&edge, &with("https://www.h.example/b", &[field]));
        assert_eq!(other, "302 https://h.example/a", "{condition}");
    }
    let edge = rules("header x-mine is 1");
    let other = told(&edge, &with("https://www.h.example/b", &[("x-mine", "1")]));
    assert_eq!(other, "302 https://h.example/about");
}

/// Names in `vary` are merged whatever their case.
#[test]
fn vary_is_merged_in_any_case() {
    let edge = edge(
        "site https://h.example/\nredirect / -> /about\n  when cookie c\nheaders / on all\n  set vary: COOKIE, Accept\n",
    );
    for request in
        [with("https://h.example/", &[]), with("https://h.example/", &[("cookie", "c=1")])]
    {
        let answer = edge.answer(&request);
        let vary = answer.header("vary").unwrap().to_ascii_lowercase();
        let names: Vec<&str> = vary.split(',').map(str::trim).collect();
        assert_eq!(names.iter().filter(|name| **name == "cookie").count(), 1, "{vary}");
        assert!(names.contains(&"accept"), "{vary}");
    }
}
