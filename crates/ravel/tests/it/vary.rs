//! What answers depend on: conditions, and the headers that `vary` names.

use crate::answers::{edge, told};
use http::{HeaderMap, HeaderName, HeaderValue};
use ravel::Request;

#[test]
fn conditions_and_vary() {
    let rules = "site https://h.example/\n  languages en, de, pt-BR\n  preview p.example\n  alias w.example\n\
                 redirect / -> /de/\n  when language is de\n\
                 redirect / -> /pt/\n  when language is pt-BR\n\
                 redirect /beta -> /b\n  when cookie beta is on\n\
                 redirect /lite -> /l\n  when header save-data is on\n  when not header user-agent contains Lynx\n\
                 redirect /post -> /p\n  when method is POST, GET\n\
                 redirect /pre -> /q\n  when preview\n\
                 redirect /nofile -> /n\n  when no file\n\
                 redirect /about -> /n\n  when no file\n\
                 redirect /w -> /www\n  when host is w.example\n  when scheme is http\n";
    let edge = edge(rules, &["index.html", "about.html"]);
    let cases: &[(&str, &str, &str, &str)] = &[
        ("GET https://h.example/", "", "200 index.html", "accept-language"),
        (
            "GET https://h.example/",
            "accept-language: de-AT, en;q=0.5",
            "302 https://h.example/de/",
            "accept-language",
        ),
        (
            "GET https://h.example/",
            "accept-language: fr, de;q=0.1",
            "302 https://h.example/de/",
            "accept-language",
        ),
        (
            "GET https://h.example/",
            "accept-language: en;q=0.2, de;q=0",
            "200 index.html",
            "accept-language",
        ),
        (
            "GET https://h.example/",
            "accept-language: pt-br-x-y",
            "302 https://h.example/pt/",
            "accept-language",
        ),
        (
            "GET https://h.example/",
            "accept-language: pt, *;q=0.1",
            "200 index.html",
            "accept-language",
        ),
        ("GET https://h.example/beta", "cookie: a=b; beta=on", "302 https://h.example/b", "cookie"),
        ("GET https://h.example/beta", "cookie: beta=off", "404 missing", "cookie"),
        ("GET http://h.example/beta", "cookie: beta=on", "302 https://h.example/b", "cookie"),
        (
            "GET https://w.example/lite",
            "save-data: on",
            "302 https://h.example/l",
            "save-data, user-agent",
        ),
        (
            "GET https://h.example/lite",
            "save-data: on|user-agent: Lynx/2",
            "404 missing",
            "save-data, user-agent",
        ),
        ("HEAD https://h.example/post", "", "302 https://h.example/p", ""),
        ("PUT https://h.example/post", "", "405 refused", ""),
        ("GET https://p.example/pre", "", "302 https://p.example/q", ""),
        ("GET https://h.example/pre", "", "404 missing", ""),
        ("GET https://h.example/nofile", "", "302 https://h.example/n", ""),
        ("GET https://h.example/about", "", "200 about.html", ""),
        ("GET http://w.example/w", "", "302 https://h.example/www", ""),
        ("GET https://w.example/w", "", "301 https://h.example/w", ""),
    ];
    for (asked, given, expected, vary) in cases {
        let (method, url) = asked.split_once(' ').unwrap();
        let headers: HeaderMap = given
            .split('|')
            .filter_map(|field| field.split_once(": "))
            .map(|(name, value)| {
                (name.parse::<HeaderName>().unwrap(), value.parse::<HeaderValue>().unwrap())
            })
            .collect();
        let request = Request::new(method.parse().unwrap(), url).unwrap().with_headers(headers);
        assert_eq!(told(&edge, &request), *expected, "{asked} with {given}");
        assert_eq!(
            edge.answer(&request).header("vary").unwrap_or_default(),
            *vary,
            "{asked} with {given}"
        );
    }
}

#[test]
fn a_cookie_is_not_known_on_another_origin() {
    let edge = edge(
        "site https://h.example/\n  alias w.example\nredirect https://w.example/a -> https://h.example/b\n\
         redirect /b -> /c\n  when cookie x\n",
        &[],
    );
    let request = Request::get("https://w.example/a")
        .unwrap()
        .with_header("cookie".parse().unwrap(), "x=1".parse().unwrap());
    assert_eq!(told(&edge, &request), "302 https://h.example/b");
    let there =
        Request::get("https://h.example/b").unwrap().with_headers(request.headers().clone());
    assert_eq!(told(&edge, &there), "302 https://h.example/c");
}
