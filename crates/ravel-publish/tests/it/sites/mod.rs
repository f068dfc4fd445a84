//! Random sites, rules and requests, made of pieces that meet each other constantly.

mod module;
mod showing;

pub(crate) use module::Module;
pub(crate) use showing::{SHOWING, showing_request};

use http::{HeaderName, HeaderValue, Method};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use ravel::address::Scheme;
use ravel::{Edge, Request, Rules};
use serde_json::{Value, json};

/// The request that a document asks for; none where a header cannot be sent.
pub(crate) fn request_of(request: &Value) -> Request {
    let text = |name: &str| request[name].as_str().unwrap();
    let scheme = if text("scheme") == "https" { Scheme::Https } else { Scheme::Http };
    let method = Method::from_bytes(text("method").as_bytes()).unwrap();
    let mut asked = Request::from_parts(method, scheme, text("host"), text("target"));
    for pair in request["headers"].as_array().unwrap() {
        let name = HeaderName::from_bytes(pair[0].as_str().unwrap().as_bytes()).unwrap();
        asked = asked.with_header(name, HeaderValue::from_str(pair[1].as_str().unwrap()).unwrap());
    }
    asked
}

/// The library's answer in the module's words.
pub(crate) fn answer(edge: &Edge, request: &Value) -> Value {
    let answer = edge.answer(&request_of(request));
    let headers: Vec<Value> =
        answer.headers().iter().map(|header| json!([header.name(), header.value()])).collect();
    json!({ "outcome": answer.outcome().as_str(), "status": answer.status(), "file": answer.file(), "headers": headers })
}

pub(crate) fn pick(list: &'static [&'static str]) -> impl Strategy<Value = &'static str> {
    prop::sample::select(list)
}

pub(crate) const FILES: [&str; 12] = [
    "index.html",
    "a/index.html",
    "a/b.html",
    "b.html",
    "404.html",
    "a/x.js",
    "c/index.html",
    "c.html",
    "caf\u{e9}.html",
    "A/Up.html",
    "b/data.json",
    "it's.txt",
];

pub(crate) fn site() -> impl Strategy<Value = String> {
    let url = pick(&["https://h.example/", "https://h.example/base/", "http://h.example/"]);
    let settings = [
        &["", "  alias w.example, v.example\n", "  alias https://w.example/old/, w.example\n"][..],
        &["", "  preview *.p.example, q.example\n"],
        &["", "  pages loose\n", "  pages exact\n"],
        &["", "  missing /404\n"],
        &["", "  languages en, de, pt-BR\n"],
        &["", "  hops each\n"],
        &["", "  ignore case\n"],
        &["", "  hsts 1y subdomains\n", "  hsts 30d\n", "  http allow\n"],
    ];
    let settings: Vec<_> = settings.into_iter().map(prop::sample::select).collect();
    (url, settings).prop_map(|(url, settings)| {
        let text: String = settings.concat();
        match url.starts_with("http:") {
            true => format!(
                "site {url}\n{}",
                text.replace("  hsts 1y subdomains\n", "")
                    .replace("  hsts 30d\n", "")
                    .replace("  http allow\n", "")
            ),
            false => format!("site {url}\n{text}"),
        }
    })
}

pub(crate) const PATTERNS: &[(&str, &[&str])] = &[
    ("/a", &[]),
    ("/a/", &[]),
    ("/b", &[]),
    ("/a/b", &[]),
    ("/c/", &[]),
    ("/x", &[]),
    ("/it's", &[]),
    ("/%3Cscript%3E", &[]),
    ("/__proto__", &[]),
    ("/{s}", &["s"]),
    ("/a/{s}", &["s"]),
    ("/{s}/{t}", &["s", "t"]),
    ("/{s}-{t}.html", &["s", "t"]),
    ("/a{s}b", &["s"]),
    ("/a{/r*}", &["r*"]),
    ("{/r*}", &["r*"]),
    ("{/r*}/b", &["r*"]),
    ("/a{/r*}/x{/u*}", &["r*", "u*"]),
    ("{+w}.html", &["w"]),
    ("/a{+w}b", &["w"]),
    ("/{s}{+w}", &["s", "w"]),
    ("/a?k={q}", &["q"]),
    ("/a?k=v", &[]),
    ("/a?k", &[]),
    ("/{s}?k={q}&m", &["s", "q"]),
    ("/a?k=v+w&n={q}", &["q"]),
    ("https://h.example/a", &[]),
    ("https://h.example{/r*}", &["r*"]),
    ("https://w.example/{s}", &["s"]),
    ("https://{l}.p.example/{s}", &["l", "s"]),
];

pub(crate) fn target(captures: &'static [&'static str]) -> BoxedStrategy<String> {
    let literal = pick(&[
        "/a",
        "/a/",
        "/b",
        "/x",
        "/",
        "/c",
        "/b?own=1",
        "/x#part",
        "https://w.example/a",
        "https://away.example/z?k=0",
        "https://away.example:8443/a?b='c'#d`e",
        "http://away.example:443/",
        "https://127.1/x",
        "/b?",
        "/x?q='all'",
        "http://h.example/base/b",
        "https://h.example/base",
        "https://w.example/old/a",
        "https://h.example/elsewhere",
        "/404",
        "/A/up",
        "/%3C/script%3E?x=%27%22",
    ])
    .prop_map(str::to_owned);
    if captures.is_empty() {
        return literal.boxed();
    }
    let slot = prop::sample::select(captures);
    let labels = prop::sample::select(captures)
        .prop_map(|name| format!("https://{{{}}}.away.example/x", name.trim_end_matches('*')));
    let used = (
        slot,
        pick(&[
            "/a/_",
            "/_",
            "/x/_/b",
            "/_.html",
            "/a?q=_&r=1",
            "/a#_",
            "/._/b",
            "https://away.example/_",
            "/a?_",
            "https://w.example/old/_",
        ]),
    )
        .prop_map(|(name, text)| {
            let written = match name.strip_suffix('*') {
                Some(name) => format!("{{/{name}*}}"),
                None => format!("{{{name}}}"),
            };
            match text.contains("/_") && name.ends_with('*') {
                true => text.replacen("/_", &written, 1),
                false => text.replacen('_', &written.replace("{/", "{").replace("*}", "}"), 1),
            }
        });
    prop_oneof![4 => literal, 8 => used, 1 => labels].boxed()
}

pub(crate) fn conditions(captures: &'static [&'static str]) -> impl Strategy<Value = String> {
    let name = captures.first().map_or("", |name| name.trim_end_matches('*'));
    let wheres: Vec<String> = match name {
        "" => vec![String::new()],
        name => [
            "",
            "",
            "is digits",
            "is digits 2..3",
            "is one of a, b, caf\u{e9}",
            "is not one of a, x",
            "matches \"[a-c]+(b|/x)?\"",
        ]
        .iter()
        .map(
            |test| if test.is_empty() { String::new() } else { format!("  where {name} {test}\n") },
        )
        .collect(),
    };
    let whens = pick(&[
        "",
        "",
        "",
        "",
        "  when preview\n",
        "  when not no file\n",
        "  when no file\n",
        "  when scheme is http\n",
        "  when method is POST, GET\n",
        "  when cookie c\n",
        "  when cookie c is 1\n",
        "  when cookie c is one of 1, 3\n",
        "  when cookie d is not one of \"a b\", 2\n",
        "  when not cookie c contains 1\n",
        "  when header x-h is one of on, \"on, off\"\n",
        "  when header x-h is not one of on, off\n",
        "  when header accept-language contains de\n  when not cookie c\n",
        "  when header sec-x is 1\n",
        "  when not header referer\n  when header x-h is on\n",
        "  when not cookie d\n",
        "  when header x-h\n",
        "  when header x-h is on\n",
        "  when header x-h contains n\n",
        "  when host is h.example\n",
        "  when language is de\n",
        "  when not language is en, pt-BR\n",
    ]);
    (prop::sample::select(wheres), whens).prop_map(|(where_, when)| format!("{where_}{when}"))
}

pub(crate) fn rule() -> impl Strategy<Value = String> {
    prop::sample::select(PATTERNS).prop_flat_map(|(pattern, captures)| {
        let kind = pick(&[
            "redirect",
            "redirect",
            "redirect",
            "gone",
            "elsewhere",
            "rewrite",
            "fallback",
            "missing",
            "headers",
        ]);
        let end = pick(&["", "", " permanent", " 307", " drop query", " 308 drop query"]);
        (
            kind,
            target(captures),
            end,
            conditions(captures),
            pick(&[
                "set cache-control: no-store",
                "add x-t: <\"'&",
                "drop content-type",
                "set vary: x-h, accept",
                "set x-robots-tag: all",
                "drop vary",
                "set vary: *",
            ]),
            pick(&[
                "",
                " on missing",
                " on redirects",
                " on all",
                " type text/html",
                " on all type text/*, application/json",
            ]),
        )
            .prop_map(move |(kind, target, end, conditions, op, on)| match kind {
                "redirect" => format!("redirect {pattern} -> {target}{end}\n{conditions}"),
                "gone" | "elsewhere" => format!("{kind} {pattern}\n{conditions}"),
                "headers" => format!("headers {pattern}{on}\n{conditions}  {op}\n"),
                kind => {
                    let path = target.split(['?', '#']).next().unwrap_or("/a");
                    let path = if path.contains("://") { "/b" } else { path };
                    format!(
                        "{kind} {pattern} -> {path}{}\n{conditions}",
                        if kind == "fallback" && end.is_empty() { " even files" } else { "" }
                    )
                }
            })
    })
}

pub(crate) fn request() -> impl Strategy<Value = Value> {
    let host = pick(&[
        "h.example",
        "h.example",
        "h.example",
        "H.Example.:443",
        "w.example",
        "v.example",
        "q.example",
        "x.p.example",
        "p.example",
        "z.example",
        "bad host",
        "h.example:http",
        "h.example:+80",
        "xn--a.p.example",
        "a--b.p.example",
        "A_b.p.example",
        "bücher.p.example",
        "h%2Eexample",
        "127.0.0.1",
        "127.1",
        "[2001:DB8::1]",
        "[::ffff:192.0.2.1]:443",
        "[::1",
        "",
    ]);
    let segment = pick(&[
        "a",
        "b",
        "c",
        "x",
        "A",
        "",
        "b.html",
        "index.html",
        "x.js",
        "caf%C3%A9",
        "cafe%CC%81",
        "..",
        "%2e",
        "%2F",
        "12",
        "a-b.html",
        "ab",
        "aab",
        "%41",
        "%",
        "__proto__",
        "up",
        "Up",
        "data.json",
        "it's.txt",
        "\u{2028}",
        "<script>",
        "%E2%80%A8",
    ]);
    let path = prop::collection::vec(segment, 0..4)
        .prop_map(|segments| format!("/{}", segments.join("/")));
    let base = pick(&["", "", "/base", "/old", "/BASE", "/base/base"]);
    let query = pick(&[
        "",
        "",
        "",
        "?k=v",
        "?k=v+w&n=%31",
        "?k=&k=z%2Fq&x",
        "?m&k=%C3%A9",
        "?own=2&other=3",
        "?",
        "?k=..&m",
        "?k=.",
        "?k=%00",
        "?\u{e9}=<",
        "?__proto__=1",
        "#frag",
        "?k=a%FFb",
        "?k='`\"<>&q='all'",
        "?k=xn--a&q=",
        "?k=ab--c",
        "#`'\"<>",
    ]);
    let headers = pick(&[
        "",
        "",
        "",
        "cookie: c=1; d=\"2\"",
        "cookie: c=2",
        "x-h: on",
        "x-h: nnn",
        "accept-language: de;q=0.7, en;q=0.29, pt",
        "accept-language: pt-BR-x-y, *",
        "accept-language: fr;q=1.5, de;q=.4",
        "x-h: on\nx-h: off",
        "x-h:  on \ncookie: c=1\ncookie: d=a b; c=3",
        "sec-x: 1\nreferer: /a\nx-h: on",
        "host: h.example",
        "host: w.example\nhost: w.example",
        "accept-language: DE-at;q=0.001,en;q=0",
    ]);
    let method = pick(&["GET", "GET", "GET", "HEAD", "POST", "OPTIONS"]);
    (host, base, path, query, headers, method, pick(&["https", "https", "http"])).prop_map(|(host, base, path, query, header, method, scheme)| {
        let headers: Vec<Value> = header.lines().filter_map(|line| line.split_once(": ")).map(|(name, value)| json!([name, value])).collect();
        json!({ "method": method, "scheme": scheme, "host": host, "target": format!("{base}{path}{query}"), "headers": headers })
    })
}

/// A site's text, without the rules that cannot be read with its settings.
pub(crate) fn readable(site: &str, rules: &[String]) -> Rules {
    let mut text = site.to_owned();
    for rule in rules {
        let longer = format!("{text}{rule}");
        if Rules::parse(&longer).is_ok() {
            text = longer;
        }
    }
    Rules::parse(&text).unwrap_or_else(|problems| panic!("{text}{problems}"))
}

/// A runner that tries the same cases every time.
pub(crate) fn runner(cases: u32) -> TestRunner {
    let config =
        Config { cases, failure_persistence: None, max_shrink_iters: 400, ..Config::default() };
    let rng = proptest::test_runner::TestRng::deterministic_rng(
        proptest::test_runner::RngAlgorithm::ChaCha,
    );
    TestRunner::new_with_rng(config, rng)
}
