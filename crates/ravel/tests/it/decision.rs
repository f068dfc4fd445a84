//! What requests get, through the public face of the library.

use crate::answers::{edge, headers_of, told};
use http::Method;
use ravel::{Edge, Request};

/// A site with one of everything; lines are counted from 1.
const RULES: &str = "\
site https://ferry.example/
  alias www.ferry.example, https://old.example/boats/
  preview *.preview.example
  missing /404.html
redirect /summer -> /offers/summer-2027/
redirect /port/{name} -> /ports/{name}/ permanent
  where name is not one of hidden
redirect /go?to={port} -> /ports/{port}/
redirect /pass{/any*} -> https://other.example{/any*}?via={any}#top
redirect /chain/1 -> /chain/2 permanent
redirect /chain/2 -> /chain/3
redirect /chain/3 -> /about permanent
redirect /round/a -> /round/b
redirect /round/b -> /round/a
redirect /grow/{+x} -> /grow/{+x}{+x}x
redirect /self -> /self
redirect /keep?id={id} -> /kept?id=1&n={id}
redirect /left?id={id} -> /kept drop query
redirect https://www.ferry.example/only-www -> /about
redirect /plain -> http://www.ferry.example/about#team
gone /loyalty{/any*}
elsewhere /api{/any*} \"the booking service\"
rewrite /today -> /timetable/weekday
rewrite /lost -> /nowhere
fallback /book{/step*} -> /book/
fallback /all{/step*} -> /book/ even files
missing /ports{/any*} -> /ports/unknown
headers /assets/{+file}
  set cache-control: max-age=31536000
headers {/any*} on all
  set x-one: 1
  add x-two: a
  add x-two: b
headers /about on served
  drop x-two
";

const FILES: [&str; 12] = [
    "index.html",
    "about.html",
    "404.html",
    "both.html",
    "both/index.html",
    "book/index.html",
    "timetable/weekday.html",
    "ports/unknown.html",
    "ports/skerry/index.html",
    "assets/site.css",
    "caf\u{e9} [1].txt",
    "data",
];

#[test]
fn what_addresses_get() {
    let edge = edge(RULES, &FILES);
    let cases = [
        // Hosts and the canonical address.
        ("https://ferry.example/", "200 index.html"),
        ("http://ferry.example/", "301 https://ferry.example/"),
        ("http://www.ferry.example/about?q=1", "301 https://ferry.example/about?q=1"),
        ("https://www.ferry.example/about.html", "301 https://ferry.example/about"),
        ("https://WWW.Ferry.Example.:443/", "301 https://ferry.example/"),
        ("https://old.example/boats/about", "301 https://ferry.example/about"),
        ("https://old.example/boats", "301 https://ferry.example/"),
        ("https://old.example/planes", "404 outside"),
        ("https://stranger.example/", "421 refused"),
        ("https://ferry.example/%", "400 refused"),
        ("https://ferry.example/a\\b", "400 refused"),
        // Pages.
        ("https://ferry.example/about", "200 about.html"),
        ("https://ferry.example/about.html", "301 https://ferry.example/about"),
        ("https://ferry.example/about/", "301 https://ferry.example/about"),
        ("https://ferry.example/index.html", "301 https://ferry.example/"),
        ("https://ferry.example/index", "404 404.html"),
        ("https://ferry.example/both", "200 both.html"),
        ("https://ferry.example/both/", "200 both/index.html"),
        ("https://ferry.example/both.html", "301 https://ferry.example/both"),
        ("https://ferry.example/both/index.html", "301 https://ferry.example/both/"),
        ("https://ferry.example/ports/skerry", "301 https://ferry.example/ports/skerry/"),
        ("https://ferry.example/ports//skerry/", "301 https://ferry.example/ports/skerry/"),
        ("https://ferry.example/404", "200 404.html"),
        ("https://ferry.example/data", "200 data"),
        ("https://ferry.example/data/", "404 404.html"),
        ("https://ferry.example/%63afe%CC%81 %5b1].txt", "200 caf\u{e9} [1].txt"),
        ("https://ferry.example/assets%2Fsite.css", "404 404.html"),
        // Redirects.
        ("https://ferry.example/summer", "302 https://ferry.example/offers/summer-2027/"),
        (
            "http://www.ferry.example/summer?a=1&a=2",
            "302 https://ferry.example/offers/summer-2027/?a=1&a=2",
        ),
        ("https://ferry.example/summer/", "404 404.html"),
        ("https://ferry.example/port/skerry", "301 https://ferry.example/ports/skerry/"),
        ("https://ferry.example/port/hidden", "404 404.html"),
        ("https://ferry.example/port/..%2f..", "301 https://ferry.example/ports/..%2F../"),
        (
            "https://ferry.example/go?x=1&to=skerry&to=z",
            "302 https://ferry.example/ports/skerry/?x=1",
        ),
        ("https://ferry.example/go?to=", "404 404.html"),
        ("https://ferry.example/go?to=a+b%2Fc", "302 https://ferry.example/ports/a%20b%2Fc/"),
        ("https://ferry.example/go?to=..", "404 404.html"),
        ("https://ferry.example/go?to=a%0Db", "404 404.html"),
        ("https://ferry.example/go?to=%FF", "404 404.html"),
        ("https://ferry.example/pass/a%20b", "302 https://other.example/a%20b?via=%2Fa%20b#top"),
        ("https://ferry.example/pass", "302 https://other.example/?via=#top"),
        (
            "https://ferry.example/keep?id=7&n=8&id=9&z=1",
            "302 https://ferry.example/kept?id=1&n=7&z=1",
        ),
        ("https://ferry.example/left?id=7&n=8", "302 https://ferry.example/kept"),
        ("https://www.ferry.example/only-www", "302 https://ferry.example/about"),
        ("http://www.ferry.example/only-www", "302 https://ferry.example/about"),
        ("https://ferry.example/only-www", "404 404.html"),
        ("https://ferry.example/self", "404 404.html"),
        // One hop.
        ("http://www.ferry.example/chain/1", "302 https://ferry.example/about"),
        ("https://ferry.example/chain/3", "301 https://ferry.example/about"),
        ("https://ferry.example/plain", "302 https://ferry.example/about#team"),
        ("https://ferry.example/round/a", "508 loop"),
        // The rest.
        ("https://ferry.example/loyalty/card", "410 404.html"),
        ("https://ferry.example/loyalty", "410 404.html"),
        ("https://ferry.example/loyaltycard", "404 404.html"),
        ("https://ferry.example/api/seats", "0 elsewhere"),
        ("https://ferry.example/today", "200 timetable/weekday.html"),
        ("https://ferry.example/lost", "404 404.html"),
        ("https://ferry.example/book/seat/14A", "200 book/index.html"),
        ("https://ferry.example/book/x.js", "404 404.html"),
        ("https://ferry.example/book/v1.2", "200 book/index.html"),
        ("https://ferry.example/all/x.js", "200 book/index.html"),
        ("https://ferry.example/ports/atlantis", "404 ports/unknown.html"),
        // Previews.
        ("https://spring.preview.example/about", "200 about.html"),
        ("http://spring.preview.example/about.html", "301 http://spring.preview.example/about"),
        (
            "https://spring.preview.example/summer",
            "302 https://spring.preview.example/offers/summer-2027/",
        ),
        ("https://spring.preview.example/plain", "302 https://spring.preview.example/about#team"),
        ("https://a.b.preview.example/", "421 refused"),
        ("https://preview.example/", "421 refused"),
    ];
    for (url, expected) in cases {
        let request = Request::get(url).unwrap();
        assert_eq!(told(&edge, &request), expected, "{url}");
        assert_eq!(
            edge.explain(&request).answer().status().unwrap_or_default().to_string(),
            expected[..expected.find(' ').unwrap()],
            "{url}"
        );
    }
}

#[test]
fn methods_and_raw_targets() {
    let edge = edge(RULES, &FILES);
    let cases = [
        (Method::HEAD, "ferry.example", "/about", "200 about.html"),
        (Method::POST, "ferry.example", "/about", "405 refused"),
        (Method::POST, "www.ferry.example", "/about", "308 https://ferry.example/about"),
        (Method::POST, "ferry.example", "/chain/1", "301 https://ferry.example/chain/2"),
        (Method::POST, "ferry.example", "/loyalty", "410 404.html"),
        (Method::GET, "ferry.example:8443", "/about", "200 about.html"),
        (Method::GET, "", "/about", "400 refused"),
        (Method::GET, "ferry.example", "about", "400 refused"),
        (Method::GET, "ferry.example", "*", "400 refused"),
    ];
    for (method, host, target, expected) in cases {
        let request =
            Request::from_parts(method.clone(), ravel::address::Scheme::Https, host, target);
        assert_eq!(told(&edge, &request), expected, "{method} {host} {target}");
    }
    let request =
        Request::from_parts(Method::PUT, ravel::address::Scheme::Https, "ferry.example", "/about");
    assert_eq!(edge.answer(&request).header("allow"), Some("GET, HEAD"));
}

#[test]
fn header_fields_and_their_lines() {
    let edge = edge(RULES, &FILES);
    let html = "content-type: text/html; charset=utf-8 @-";
    let text = "content-type: text/plain; charset=utf-8 @-";
    let cases: &[(&str, &[&str])] = &[
        (
            "https://ferry.example/assets/site.css",
            &[
                "content-type: text/css; charset=utf-8 @-",
                "cache-control: max-age=31536000 @29",
                "x-one: 1 @31",
                "x-two: a @32",
                "x-two: b @33",
            ],
        ),
        (
            "https://ferry.example/assets/none.css",
            &[html, "x-one: 1 @31", "x-two: a @32", "x-two: b @33", "cache-control: no-cache @-"],
        ),
        ("https://ferry.example/about", &[html, "x-one: 1 @31", "cache-control: no-cache @-"]),
        (
            "https://ferry.example/port/a",
            &[
                "location: https://ferry.example/ports/a/ @6",
                text,
                "x-one: 1 @31",
                "x-two: a @32",
                "x-two: b @33",
                "cache-control: max-age=86400 @-",
            ],
        ),
        (
            "https://x.preview.example/data",
            &[
                "content-type: application/octet-stream @-",
                "x-one: 1 @31",
                "x-two: a @32",
                "x-two: b @33",
                "x-robots-tag: noindex @-",
            ],
        ),
        ("https://old.example/planes", &[text, "cache-control: no-cache @-"]),
        ("https://stranger.example/", &[text]),
        ("https://ferry.example/api/x", &[]),
    ];
    for (url, expected) in cases {
        assert_eq!(headers_of(&edge, &Request::get(url).unwrap()), *expected, "{url}");
    }
    let canonical = edge.answer(&Request::get("http://ferry.example/data").unwrap());
    assert_eq!(canonical.header("cache-control"), Some("max-age=3600"));
}

#[test]
fn settings_of_the_site() {
    let files =
        ["index.html", "about.html", "Docs/index.html", "docs/A.html", "start.html", "404.html"];
    let long = format!("hops each\nredirect /a -> /b\nredirect /b -> /c{}", "");
    let cases = [
        // settings, address, what it gets
        ("pages loose", "https://h.example/about/", "200 about.html"),
        ("pages loose", "https://h.example/about.html", "200 about.html"),
        ("pages loose", "https://h.example/Docs", "200 Docs/index.html"),
        ("pages exact", "https://h.example/about", "404 missing"),
        ("pages exact", "https://h.example/about.html", "200 about.html"),
        ("pages exact", "https://h.example/Docs/", "200 Docs/index.html"),
        ("pages exact", "https://h.example/Docs/index.html", "200 Docs/index.html"),
        ("pages exact", "https://h.example/Docs", "404 missing"),
        ("index start.html", "https://h.example/", "200 start.html"),
        ("index start.html", "https://h.example/index.html", "301 https://h.example/index"),
        ("ignore case", "https://h.example/ABOUT", "301 https://h.example/about"),
        ("ignore case", "https://h.example/docs/", "301 https://h.example/Docs/"),
        ("pages loose\n  ignore case", "https://h.example/DOCS/a", "200 docs/A.html"),
        ("http allow", "http://h.example/about", "200 about.html"),
        ("http allow\n  alias w.example", "http://w.example/about", "301 http://h.example/about"),
        ("http allow\nredirect /x -> /about", "http://h.example/x", "302 http://h.example/about"),
        (
            "hops each\nredirect /a -> /b\nredirect /b -> /about",
            "https://h.example/a",
            "302 https://h.example/b",
        ),
        (
            "hops each\nredirect /a -> /b\nredirect /b -> /a",
            "https://h.example/a",
            "302 https://h.example/b",
        ),
        (&long, "https://h.example/b", "302 https://h.example/c"),
        ("hsts 1y subdomains\nredirect /a -> /b", "http://h.example/a", "301 https://h.example/a"),
        ("hsts 1y subdomains\n  alias w.example", "http://w.example/a", "301 https://w.example/a"),
        ("hsts 1y\nredirect /a -> /b", "http://h.example/a", "302 https://h.example/b"),
        ("missing /about", "https://h.example/none", "404 about.html"),
    ];
    for (settings, url, expected) in cases {
        let edge = edge(&format!("site https://h.example/\n  {settings}\n"), &files);
        assert_eq!(told(&edge, &Request::get(url).unwrap()), expected, "{settings}: {url}");
    }
    let plain = edge("site http://h.example/\n  alias w.example\n", &files);
    assert_eq!(told(&plain, &Request::get("https://h.example/about").unwrap()), "200 about.html");
    assert_eq!(
        told(&plain, &Request::get("https://w.example/about").unwrap()),
        "301 https://h.example/about"
    );
}

#[test]
fn base_paths() {
    let rules = "site https://h.example/guide/\n  alias www.h.example, https://h.example/old/\n  preview p.example\n\
                 redirect /map -> /chart\nredirect https://h.example/map -> /chart\nfallback /app{/x*} -> /app/\n\
                 redirect /out{/x*} -> {/x*}\n";
    let edge = edge(rules, &["index.html", "chart.html", "app/index.html"]);
    let cases = [
        ("https://h.example/guide/", "200 index.html"),
        ("https://h.example/guide", "301 https://h.example/guide/"),
        ("https://h.example/guide/map", "302 https://h.example/guide/chart"),
        ("https://h.example/map", "302 https://h.example/guide/chart"),
        ("https://h.example/chart", "404 outside"),
        ("https://h.example/guidebook", "404 outside"),
        ("https://h.example/old/chart.html", "301 https://h.example/guide/chart"),
        ("https://www.h.example/guide/chart", "301 https://h.example/guide/chart"),
        ("https://p.example/guide", "301 https://p.example/guide/"),
        ("https://p.example/map", "302 https://p.example/guide/chart"),
        ("https://h.example/guide/app/x", "200 app/index.html"),
        ("https://h.example/guide/out//evil.example", "302 https://h.example/guide/evil.example"),
        ("https://h.example/guide/out/", "302 https://h.example/guide/"),
        ("https://h.example/guide/out", "302 https://h.example/guide/"),
    ];
    for (url, expected) in cases {
        assert_eq!(told(&edge, &Request::get(url).unwrap()), expected, "{url}");
    }
}

#[test]
fn explanations_name_what_did_not_act() {
    let edge = edge(RULES, &FILES);
    let came = |url: &str| -> Vec<String> {
        let explanation = edge.explain(&Request::get(url).unwrap());
        let line = |step: &ravel::edge::StepWords<'_>| step.line().map_or(0, |line| line.number());
        explanation.words().map(|step| format!("{} {step}", line(&step))).collect()
    };
    let holds = |url: &str, wanted: &str| {
        let steps = came(url);
        assert!(steps.iter().any(|step| step == wanted), "{url}: {wanted} is not among {steps:#?}");
    };
    holds("https://ferry.example/summer", "5 redirect /summer -> /offers/summer-2027/: matched");
    holds(
        "https://ferry.example/summer/",
        "5 redirect /summer -> /offers/summer-2027/: did not match: the path goes on with `/`",
    );
    holds(
        "https://ferry.example/port/hidden",
        "6 redirect /port/{name} -> /ports/{name}/ permanent: condition not met: `where name is not one of hidden`",
    );
    holds(
        "https://ferry.example/self",
        "16 redirect /self -> /self: does not match: its target is the requested URL",
    );
    holds("https://ferry.example/about", "0 file about.html: matched");
    holds(
        "https://ferry.example/book/x.js",
        "25 fallback /book{/step*} -> /book/: does not match: the URL ends in a known file extension, and the rule does not say `even files`",
    );
    holds(
        "https://ferry.example/round/a",
        "0 redirects: they lead back to https://ferry.example/round/a",
    );
    let hidden = super_edge();
    let why = hidden.explain(&Request::get("https://h.example/a").unwrap());
    assert!(
        why.words().any(|step| step.result() == "shadowed by edge.ravel:2"),
        "{:#?}",
        why.steps()
    );
}

fn super_edge() -> Edge {
    edge(
        "site https://h.example/\nredirect {/all*} -> https://elsewhere.example{/all*}\nredirect /a -> /b\n",
        &[],
    )
}

/// The index knows paths by parts of their hashes. Of so many that are not there some look like one
/// that is.
#[test]
fn paths_that_only_look_like_a_rule_are_missing() {
    let rules: String = (0..3_000).map(|at| format!("redirect /old/{at} -> /new/{at}\n")).collect();
    let edge = edge(&format!("site https://h.example/\n{rules}"), &["index.html"]);
    for at in 0..300_000 {
        let request = Request::get(&format!("https://h.example/none/{at}")).unwrap();
        assert_eq!(edge.answer(&request).status(), Some(404), "{at}");
    }
}
