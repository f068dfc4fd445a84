//! A small world: every request of it, and rules that overlap in it constantly.

use http::HeaderMap;
use http::header::{ACCEPT_LANGUAGE, COOKIE, HeaderName, HeaderValue};
use proptest::prelude::*;
use ravel::Request;

/// The files of a small site.
pub(crate) const FILES: [&str; 5] =
    ["index.html", "a.html", "b/index.html", "ab/b.css", "404.html"];

/// Every path of at most this many characters after the first `/`.
const MAX_EXTENSION_BYTES: usize = 4;

/// All paths over a small alphabet up to a length, on both hosts, with all queries and cookies that
/// rules tell apart.
pub(crate) fn requests() -> Vec<Request> {
    let mut paths = vec!["/".to_owned()];
    let mut last = paths.clone();
    for _ in 0..MAX_EXTENSION_BYTES {
        last = last
            .iter()
            .flat_map(|path| ["/", "a", "b"].map(|next| format!("{path}{next}")))
            .collect();
        paths.extend(last.iter().cloned());
    }
    let mut requests = Vec::new();
    for path in &paths {
        for query in ["", "?k=a", "?k=b", "?k", "?k=a&k=b"] {
            for origin in ["https://h.example", "http://w.example"] {
                let request = Request::get(&format!("{origin}{path}{query}")).unwrap();
                requests.push(request.clone());
                requests.push(request.with_header(COOKIE, HeaderValue::from_static("c=1")));
            }
        }
    }
    requests
}

/// A pattern, of which nearly every two have an address in common.
pub(crate) fn pattern() -> impl Strategy<Value = String> {
    const PATHS: [&str; 20] = [
        "/",
        "/a",
        "/a/",
        "/b",
        "/b/",
        "/ab",
        "/a/b",
        "/{x}",
        "/{x}/",
        "/a/{x}",
        "/{x}/{y}",
        "/{x}b",
        "/a{x}",
        "/{+x}",
        "/a{+x}",
        "{/x*}",
        "/a{/x*}",
        "/b{/x*}",
        "{/x*}/b",
        "/{y}{/x*}",
    ];
    const QUERIES: [&str; 8] = ["", "", "", "", "?k", "?k=a", "?k=b", "?k={q}"];
    (prop::sample::select(&PATHS[..]), prop::sample::select(&QUERIES[..]))
        .prop_map(|(path, query)| format!("{path}{query}"))
}

/// What a rule may ask besides; many such rules are refused, since their pattern has no `x`.
pub(crate) fn conditions() -> impl Strategy<Value = &'static str> {
    prop::sample::select(
        &[
            "",
            "",
            "",
            "",
            "",
            "",
            "  when cookie c\n",
            "  when not cookie c\n",
            "  when host is w.example\n",
            "  when host is h.example\n",
            "  when no file\n",
            "  where x is one of a, b\n",
            "  where x is not one of b\n",
            "  where x matches \"a*\"\n",
        ][..],
    )
}

const TARGETS: [&str; 12] = [
    "/a",
    "/b/",
    "/ab",
    "/ab/b.css",
    "/{x}",
    "/a/{x}",
    "/b/{+x}",
    "{/x*}",
    "/b{/x*}",
    "https://w.example/a",
    "https://o.example/{x}",
    "/a?k={q}",
];

/// A rule of any kind, with a condition of any kind.
pub(crate) fn rule() -> impl Strategy<Value = String> {
    rule_to(TARGETS.to_vec())
}

/// Also one that writes a path of a query, or of captures in another order, of which an audit leaves
/// open whether it loops.
pub(crate) fn rule_of_queries() -> impl Strategy<Value = String> {
    const MORE: [&str; 9] = [
        "/{q}",
        "/a/{q}",
        "/a{q}/{x}",
        "/{y}/{x}",
        "https://o.example/{q}",
        "/a?k=a",
        "/b?k={x}",
        "/a?z={y}",
        "/b#{x}",
    ];
    rule_to([&TARGETS[..], &MORE].concat())
}

fn rule_to(targets: Vec<&'static str>) -> impl Strategy<Value = String> {
    const ACTIONS: [&str; 12] = [
        "gone",
        "redirect",
        "redirect",
        "redirect",
        "redirect",
        "rewrite",
        "fallback",
        "missing",
        "elsewhere",
        "headers",
        "headers",
        "headers",
    ];
    const CONDITIONS: [&str; 16] = [
        "",
        "",
        "",
        "",
        "",
        "",
        "  when cookie c\n",
        "  when not cookie c\n",
        "  when header x-h is on\n",
        "  when language is de\n",
        "  when not language is de\n",
        "  when host is w.example\n",
        "  when no file\n",
        "  where x is one of a, b\n",
        "  where x is not one of b\n",
        "  where x matches \"a*\"\n",
    ];
    const SCOPES: [&str; 4] = ["", " on missing", " on redirects", " on all"];
    const QUERIES: [&str; 4] = ["", "", "", " drop query"];
    const OPS: [&str; 3] =
        ["  set x-robots-tag: noindex\n", "  add x-a: 1\n", "  drop cache-control\n"];
    let parts = (
        prop::sample::select(&ACTIONS[..]),
        pattern(),
        prop::sample::select(targets),
        prop::sample::select(&CONDITIONS[..]),
        prop::sample::select(&SCOPES[..]),
        prop::sample::select(&OPS[..]),
        prop::sample::select(&QUERIES[..]),
    );
    parts.prop_map(|(action, pattern, target, condition, scope, op, query)| match action {
        "gone" | "elsewhere" => format!("{action} {pattern}\n{condition}"),
        "headers" => format!("headers {pattern}{scope}\n{condition}{op}"),
        "redirect" => format!("redirect {pattern} -> {target}{query}\n{condition}"),
        _ => format!("{action} {pattern} -> {target}\n{condition}"),
    })
}

/// All paths over a small alphabet up to a length, and those of files.
pub(crate) fn paths() -> Vec<String> {
    let mut paths = vec!["/".to_owned()];
    let mut last = paths.clone();
    for _ in 0..3 {
        let longer = |path: &String| ["/", "a", "b"].map(|next| format!("{path}{next}"));
        last = last.iter().flat_map(longer).collect();
        paths.extend(last.iter().cloned());
    }
    paths.extend(["/ab/b.css", "/a.html", "/404", "/404.html", "/index.html"].map(str::to_owned));
    paths
}

/// Every combination of the headers that conditions ask for.
pub(crate) fn headers() -> Vec<HeaderMap> {
    let known = [(COOKIE, "c=1"), (HeaderName::from_static("x-h"), "on"), (ACCEPT_LANGUAGE, "de")];
    (0..1 << known.len())
        .map(|chosen: u32| {
            let is_chosen = |at: &usize| chosen & (1 << at) != 0;
            let chosen = (0..known.len()).filter(is_chosen).map(|at| known[at].clone());
            chosen.map(|(name, value)| (name, HeaderValue::from_static(value))).collect()
        })
        .collect()
}
