//! A small world: every request of it, and rules that overlap in it constantly.
#![allow(dead_code, reason = "each test file uses some of it")]

use http::header::{COOKIE, HeaderValue};
use proptest::prelude::*;
use ravel::Request;

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
