//! What a running host answered, held against expectations: what is asked next, and what does not
//! hold.

use http::{HeaderMap, HeaderName, HeaderValue, Method};
use ravel::edge::WalkEnd;
use ravel::expect::live::{LiveAnswer, LiveWalk, NextStep, compare, next};
use ravel::{Request, Rules};

const SITE: &str = "site https://h.example/\n  alias www.h.example\n";

/// An answer: its status, and header fields as `name: value` lines.
fn seen(url: &str, status: u16, fields: &str) -> LiveAnswer {
    let mut headers = HeaderMap::new();
    for (name, value) in fields.split('\n').filter_map(|field| field.split_once(": ")) {
        headers.append(
            HeaderName::from_bytes(name.as_bytes()).unwrap(),
            HeaderValue::from_str(value).unwrap(),
        );
    }
    LiveAnswer::new(url, status, headers, Vec::new())
}

fn told(next: &NextStep) -> String {
    match next {
        NextStep::Ask(request) => format!("{} {}", request.method(), request.url()),
        NextStep::Done(WalkEnd::Answer) => "ends".to_owned(),
        NextStep::Done(WalkEnd::Away) => "away".to_owned(),
        NextStep::Done(WalkEnd::Loop) => "loop".to_owned(),
    }
}

#[test]
fn redirects_are_followed_as_browsers_do() {
    let rules = Rules::parse(SITE).unwrap();
    let cases = [
        ("GET", 200, "location: /b", "ends"),
        ("GET", 301, "location: /b", "GET https://h.example/b"),
        ("GET", 302, "location: b?x=1", "GET https://h.example/dir/b?x=1"),
        ("GET", 302, "location: ?x=1", "GET https://h.example/dir/a?x=1"),
        ("GET", 302, "location: //www.h.example/b#f", "GET https://www.h.example/b#f"),
        ("GET", 302, "location: http://h.example/dir/a", "GET http://h.example/dir/a"),
        ("GET", 302, "location: https://h.example:443/b", "GET https://h.example/b"),
        ("GET", 302, "location: https://h.example:8443/b", "away"),
        ("GET", 302, "location: https://away.example/b", "away"),
        ("GET", 302, "location: https://h.example/dir/a", "loop"),
        ("GET", 302, "location: #f", "loop"),
        ("GET", 302, "", "ends"),
        ("GET", 302, "location: mailto:me@h.example", "ends"),
        ("GET", 304, "location: /b", "ends"),
        ("POST", 301, "location: /b", "GET https://h.example/b"),
        ("POST", 303, "location: /b", "GET https://h.example/b"),
        ("POST", 307, "location: /b", "POST https://h.example/b"),
        ("POST", 308, "location: /b", "POST https://h.example/b"),
        ("HEAD", 303, "location: /b", "HEAD https://h.example/b"),
    ];
    for (method, status, fields, expected) in cases {
        let method = Method::from_bytes(method.as_bytes()).unwrap();
        let request = Request::new(method.clone(), "https://h.example/dir/a").unwrap();
        assert_eq!(
            told(&next(rules.site(), &request, &[])),
            format!("{method} https://h.example/dir/a")
        );
        let answers = [seen("https://h.example/dir/a", status, fields)];
        assert_eq!(
            told(&next(rules.site(), &request, &answers)),
            expected,
            "{method} {status} {fields}"
        );
    }
    // A fragment goes along until another takes its place.
    let request = Request::get("https://h.example/a#part").unwrap();
    let answers = [seen("https://h.example/a#part", 302, "location: /b")];
    assert_eq!(told(&next(rules.site(), &request, &answers)), "GET https://h.example/b#part");
    // Redirects that never come back end, too.
    let endless: Vec<LiveAnswer> = (0..21)
        .map(|at| seen(&format!("https://h.example/{at}"), 302, &format!("location: /{}", at + 1)))
        .collect();
    assert_eq!(told(&next(rules.site(), &request, &endless[..20])), "GET https://h.example/20");
    assert_eq!(told(&next(rules.site(), &request, &endless)), "loop");
}

/// An address, with the status and the header fields that it got.
type Answer = (&'static str, u16, &'static str);

/// A walk of answers.
fn walk(answers: &[Answer]) -> LiveWalk {
    let rules = Rules::parse(SITE).unwrap();
    let request = Request::get(answers[0].0).unwrap();
    let answers: Vec<LiveAnswer> =
        answers.iter().map(|(url, status, fields)| seen(url, *status, fields)).collect();
    match next(rules.site(), &request, &answers) {
        NextStep::Done(end) => LiveWalk::new(answers, end),
        NextStep::Ask(request) => panic!("{} is asked next", request.url()),
    }
}

#[test]
fn what_does_not_hold_is_said() {
    const A: &str = "https://h.example/a";
    const B: &str = "https://h.example/b";
    let to_b = (A, 301, "location: /b");
    let cases: &[(&str, &[Answer], &str)] = &[
        ("/a goes to /b", &[to_b, (B, 200, "")], ""),
        ("/a goes to /b as 301 in 1 hop", &[to_b, (B, 200, "")], ""),
        (
            "/a goes to /b as 302",
            &[to_b, (B, 200, "")],
            "goes to https://h.example/b as 301 in 1 hop, which is 200",
        ),
        (
            "/a goes to /b in 2 hops",
            &[to_b, (B, 200, "")],
            "goes to https://h.example/b as 301 in 1 hop, which is 200",
        ),
        (
            "/a goes to /b",
            &[to_b, (B, 404, "")],
            "goes to https://h.example/b as 301 in 1 hop, which is 404",
        ),
        ("/a goes to /b", &[(A, 200, "")], "200"),
        ("/a goes to /b", &[(A, 200, "age: 90")], "200 (from a cache, 90 s old)"),
        ("/a goes to https://away.example/x", &[(A, 302, "location: https://away.example/x")], ""),
        (
            "/a goes to /b",
            &[(A, 302, "location: https://away.example/x")],
            "goes to https://away.example/x as 302 in 1 hop, which is not this site",
        ),
        ("/a goes to /b#f", &[(A, 302, "location: /b#f"), ("https://h.example/b#f", 200, "")], ""),
        ("/a is gone", &[(A, 410, "")], ""),
        ("/a is gone", &[(A, 404, "")], "404"),
        ("/a is missing", &[(A, 404, "")], ""),
        ("/a is missing as 404", &[(A, 404, "")], ""),
        ("/a is missing", &[(A, 200, "")], "200"),
        ("/a is refused", &[(A, 405, "")], ""),
        ("/a is refused as 400", &[(A, 405, "")], "405"),
        ("/a is a loop", &[(A, 508, "")], ""),
        ("/a is a loop", &[(A, 302, "location: /a")], ""),
        ("/a is a loop", &[(A, 200, "")], "200"),
        ("/a serves /a.html", &[(A, 200, "")], ""),
        ("/a serves /other.html", &[(A, 200, "")], "other bytes"),
        (
            "/a serves /a.html",
            &[to_b, (B, 200, "")],
            "goes to https://h.example/b as 301 in 1 hop, which is 200",
        ),
        ("/a has x-a", &[(A, 200, "x-a: 1")], ""),
        ("/a has x-a: 1", &[(A, 200, "x-a: 2\nx-a: 1")], ""),
        ("/a has x-a: 1, 2", &[(A, 200, "x-a: 1\nx-a: 2")], ""),
        ("/a has x-a: 1", &[(A, 200, "x-a: 2")], "x-a: 2"),
        ("/a has x-a", &[(A, 200, "")], "200 without x-a"),
        ("/a has x-a containing b", &[(A, 200, "x-a: abc")], ""),
        ("/a lacks x-a", &[(A, 200, "x-a: 1")], "x-a: 1"),
        ("/a lacks x-a", &[(A, 200, "")], ""),
        ("/a goes to /b\n  has x-a: 1", &[to_b, (B, 200, "x-a: 1")], ""),
        (
            "/a goes to https://away.example/x\n  has x-a",
            &[(A, 302, "location: https://away.example/x")],
            "the visitor leaves the site",
        ),
    ];
    for (expected, answers, got) in cases {
        let rules = Rules::parse(&format!("{SITE}expect {expected}\n"))
            .unwrap_or_else(|problems| panic!("{expected}: {problems}"));
        let same =
            |file: &str, _: &LiveAnswer| (file != "a.html").then(|| "other bytes".to_owned());
        let failures = compare(&rules.expectations()[0], &walk(answers), same);
        let found: Vec<&str> = failures.iter().map(|failure| failure.got()).collect();
        let wanted: Vec<&str> = Some(*got).filter(|got| !got.is_empty()).into_iter().collect();
        assert_eq!(found, wanted, "{expected}");
    }
}
