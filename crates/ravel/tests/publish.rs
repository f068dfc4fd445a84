//! What is published decides as the library does, in a JavaScript engine, for random rules and addresses.

use boa_engine::{Context, JsString, JsValue, Source, js_string};
use http::{HeaderName, HeaderValue, Method};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules, publish};
use serde_json::{Value, json};

/// The module in an engine.
struct Module(Context);

impl Module {
    fn new(edge: &Edge) -> Module {
        let text = publish::module(&publish::table(edge)).replace("\nexport ", "\n");
        let mut context = Context::default();
        context.eval(Source::from_bytes(text.as_bytes())).unwrap_or_else(|error| panic!("{error}"));
        Module(context)
    }

    fn decide(&mut self, request: &Value) -> Value {
        let global = self.0.global_object();
        let text = JsValue::from(JsString::from(request.to_string().as_str()));
        global.set(js_string!("asked"), text, true, &mut self.0).unwrap();
        let answer = self.0.eval(Source::from_bytes("JSON.stringify(decide(JSON.parse(asked)))"));
        let answer = answer.unwrap_or_else(|error| panic!("{error}: {request}"));
        serde_json::from_str(&answer.as_string().unwrap().to_std_string().unwrap()).unwrap()
    }
}

/// The library's answer in the module's words.
fn answer(edge: &Edge, request: &Value) -> Value {
    let text = |name: &str| request[name].as_str().unwrap();
    let scheme = if text("scheme") == "https" { Scheme::Https } else { Scheme::Http };
    let method = Method::from_bytes(text("method").as_bytes()).unwrap();
    let mut asked = Request::from_parts(method, scheme, text("host"), text("target"));
    for pair in request["headers"].as_array().unwrap() {
        let name = HeaderName::from_bytes(pair[0].as_str().unwrap().as_bytes()).unwrap();
        asked = asked.with_header(name, HeaderValue::from_str(pair[1].as_str().unwrap()).unwrap());
    }
    let answer = edge.answer(&asked);
    let headers: Vec<Value> = answer.headers().iter().map(|header| json!([header.name, header.value])).collect();
    json!({ "outcome": answer.outcome().as_str(), "status": answer.status(), "file": answer.file(), "headers": headers })
}

fn pick(list: &'static [&'static str]) -> impl Strategy<Value = &'static str> {
    prop::sample::select(list)
}

const FILES: [&str; 12] = [
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

fn site() -> impl Strategy<Value = String> {
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
                text.replace("  hsts 1y subdomains\n", "").replace("  hsts 30d\n", "").replace("  http allow\n", "")
            ),
            false => format!("site {url}\n{text}"),
        }
    })
}

const PATTERNS: &[(&str, &[&str])] = &[
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

fn target(captures: &'static [&'static str]) -> BoxedStrategy<String> {
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
        "/404",
        "/A/up",
        "/%3C/script%3E?x=%27%22",
    ])
    .prop_map(str::to_owned);
    if captures.is_empty() {
        return literal.boxed();
    }
    let slot = prop::sample::select(captures);
    let used = (slot, pick(&["/a/_", "/_", "/x/_/b", "/_.html", "/a?q=_&r=1", "/a#_", "/._/b", "https://away.example/_"]))
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
    prop_oneof![1 => literal, 2 => used].boxed()
}

fn conditions(captures: &'static [&'static str]) -> impl Strategy<Value = String> {
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
        .map(|test| if test.is_empty() { String::new() } else { format!("  where {name} {test}\n") })
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

fn rule() -> impl Strategy<Value = String> {
    prop::sample::select(PATTERNS).prop_flat_map(|(pattern, captures)| {
        let kind = pick(&["redirect", "redirect", "redirect", "gone", "elsewhere", "rewrite", "fallback", "missing", "headers"]);
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
            ]),
            pick(&["", " on missing", " on redirects", " on all"]),
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

fn request() -> impl Strategy<Value = Value> {
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
    let path = prop::collection::vec(segment, 0..4).prop_map(|segments| format!("/{}", segments.join("/")));
    let base = pick(&["", "", "/base", "/old"]);
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
    ]);
    let method = pick(&["GET", "GET", "GET", "HEAD", "POST", "OPTIONS"]);
    (host, base, path, query, headers, method, pick(&["https", "https", "http"])).prop_map(|(host, base, path, query, header, method, scheme)| {
        let headers: Vec<Value> = header.split_once(": ").map(|(name, value)| json!([name, value])).into_iter().collect();
        json!({ "method": method, "scheme": scheme, "host": host, "target": format!("{base}{path}{query}"), "headers": headers })
    })
}

/// A site's text, without the rules that can not be read with its settings.
fn readable(site: &str, rules: &[String]) -> Rules {
    let mut text = site.to_owned();
    for rule in rules {
        let longer = format!("{text}{rule}");
        if Rules::parse(&longer).is_ok() {
            text = longer;
        }
    }
    Rules::parse(&text).unwrap_or_else(|problems| panic!("{text}{problems}"))
}

#[test]
fn the_module_decides_as_the_library_does() {
    let long = std::env::var_os("RAVEL_LONG").is_some();
    let (sets, requests) = if long { (1_000, 100) } else { (125, 48) };
    let config = Config { cases: sets, failure_persistence: None, max_shrink_iters: 400, ..Config::default() };
    let mut runner = if long {
        TestRunner::new(config)
    } else {
        TestRunner::new_with_rng(
            config,
            proptest::test_runner::TestRng::deterministic_rng(proptest::test_runner::RngAlgorithm::ChaCha),
        )
    };
    let strategy = (site(), prop::collection::vec(rule(), 0..12), prop::collection::vec(request(), requests));
    let result = runner.run(&strategy, |(site, rules, requests)| {
        let rules = readable(&site, &rules);
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let mut module = Module::new(&edge);
        for request in requests {
            prop_assert_eq!(module.decide(&request), answer(&edge, &request), "{}", request);
        }
        Ok(())
    });
    result.unwrap_or_else(|error| panic!("{error}"));
}

#[test]
fn pages_stand_where_file_servers_show_them() {
    let cases: &[(&str, &str)] = &[
        ("/summer", "summer/index.html"),
        ("/summer/", "summer/index.html"),
        ("/a/b.html", "a/b.html"),
        ("/caf%C3%A9", "caf\u{e9}/index.html"),
        ("/two%20words", "two words/index.html"),
        ("/__proto__", "__proto__/index.html"),
        // What is sent as another type, is no name of a file, or would be hidden is left to the missing page.
        ("/old.php", ""),
        ("/data.json", ""),
        ("/a%2Fb", ""),
        ("/a//b", ""),
        ("/.hidden", ""),
        ("/bad%FF", ""),
        // A file stands where a folder would have to be, or a folder where the file would.
        ("/plain/more", ""),
        ("/folder.html", ""),
    ];
    for (path, expected) in cases {
        let rules = Rules::parse(&format!("site https://h.example/\nredirect {path} -> /\n")).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(["index.html", "plain", "folder.html/x.txt"]));
        let published = publish::files(&edge, &publish::table(&edge), None);
        let pages: Vec<&str> = published.pages.keys().map(String::as_str).filter(|name| *name != "404.html").collect();
        let expected: Vec<&str> = Some(*expected).filter(|name| !name.is_empty()).into_iter().collect();
        assert_eq!(pages, expected, "{path}");
        assert_eq!(published.limits[0].exactness, publish::Exactness::Near, "{path}");
    }
}

#[test]
fn what_a_script_can_not_see_is_not_promised() {
    let rules = Rules::parse(
        "site https://h.example/\n  languages en, de\nredirect /a{/r*} -> /b\n  when header x-a\nredirect /b{/r*} -> /c\n  when cookie c\n\
         redirect /c{/r*} -> /d\n  when not method is POST\nfallback /app -> /shell\nfallback /deep{/r*} -> /shell\nrewrite /w{/r*} -> /shell\nrewrite /v -> /shell\n",
    )
    .unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "shell.html", "d.html"]));
    let published = publish::files(&edge, &publish::table(&edge), Some("<!DOCTYPE html><HTML><HEAD lang=en><title>x</title>"));
    let done: Vec<(&str, &str)> =
        published.limits[1..].iter().map(|limit| (limit.what.as_str(), limit.exactness.name())).collect();
    assert_eq!(
        done,
        [
            ("redirect /a{/r*} -> /b", "not"),
            ("redirect /b{/r*} -> /c", "nearly"),
            ("redirect /c{/r*} -> /d", "not"),
            ("fallback /app -> /shell", "exactly"),
            ("fallback /deep{/r*} -> /shell", "nearly"),
            ("rewrite /w{/r*} -> /shell", "nearly"),
            ("rewrite /v -> /shell", "exactly"),
        ]
    );
    assert_eq!(published.pages["app/index.html"], publish::Page::Copy("shell.html".into()));
    let publish::Page::Text(missing) = &published.pages["404.html"] else { panic!() };
    assert!(
        missing.starts_with("<!DOCTYPE html><HTML><HEAD lang=en><meta charset=\"utf-8\">\n<script>")
            && missing.ends_with("<title>x</title>")
    );
}
