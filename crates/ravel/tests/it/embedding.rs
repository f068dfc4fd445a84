//! What a server that embeds the decision relies on: responses, and an edge that threads share.

use std::sync::Arc;

use http::{HeaderMap, HeaderValue, Method, Response};
use ravel::address::Scheme;
use ravel::edge::ElsewhereError;
use ravel::{Edge, FileList, Request, Rules};

fn edge() -> Edge {
    let rules = Rules::parse(
        "site https://h.example/\n  alias w.example\n  missing /404\n\
         redirect /a/{x} -> /b/{x}\nredirect /kept -> /b permanent\ngone /gone\n\
         elsewhere /api{/x*} \"the API\"\nredirect /round -> /trip\nredirect /trip -> /round\n\
         redirect /mine -> /b\n  when cookie c\n\
         headers {/any*} on all\n  add x-a: one\n  add x-a: two\n",
    );
    let files = FileList::from_iter(["index.html", "b.html", "404.html"]);
    Edge::new(&rules.unwrap_or_else(|problems| panic!("{problems}")), files)
}

/// Every outcome as a response: its status and headers are the answer's, in order.
#[test]
fn an_answer_becomes_a_response() {
    let edge = edge();
    let cases = [
        (Method::GET, "h.example", "/b", 200),
        (Method::HEAD, "h.example", "/", 200),
        (Method::GET, "h.example", "/a/%C3%A9?q=1", 302),
        (Method::GET, "h.example", "/kept", 301),
        (Method::POST, "w.example", "/b", 308),
        (Method::GET, "h.example", "/gone", 410),
        (Method::GET, "h.example", "/none", 404),
        (Method::GET, "h.example", "/round", 508),
        (Method::GET, "h.example", "/mine", 404),
        (Method::PUT, "h.example", "/b", 405),
        (Method::GET, "h.example", "/%zz", 400),
        (Method::GET, "other.example", "/", 421),
    ];
    for (method, host, target, status) in cases {
        let request = Request::from_parts(method, Scheme::Https, host, target);
        let answer = edge.answer(&request);
        let response = Response::<()>::try_from(&answer).unwrap();
        assert_eq!(response.status(), status, "{host}{target}");
        let sent: Vec<(&str, &str)> = response
            .headers()
            .iter()
            .map(|(name, value)| (name.as_str(), value.to_str().unwrap()))
            .collect();
        let mut said: Vec<(&str, &str)> =
            answer.headers().iter().map(|header| (header.name(), header.value())).collect();
        assert_eq!(sent.len(), said.len(), "{sent:?}");
        said.retain(|pair| !sent.contains(pair));
        assert_eq!(said, [], "{host}{target}");
    }
}

#[test]
fn what_another_service_answers_is_no_response() {
    let edge = edge();
    let request = Request::get("https://h.example/api/x").unwrap();
    let error = Response::<()>::try_from(&edge.answer(&request)).unwrap_err();
    assert_eq!(error, ElsewhereError);
    assert_eq!(error.to_string(), "another service answers this request");
}

/// One edge for all threads: each gets what one alone gets.
#[test]
fn threads_share_an_edge() {
    let edge = Arc::new(edge());
    let ask = |edge: &Edge| -> Vec<String> {
        let paths = ["/", "/b", "/a/x", "/gone", "/none", "/api/x", "/round"];
        let asked = paths.map(|path| Request::get(&format!("https://h.example{path}")).unwrap());
        asked.iter().map(|request| format!("{:?}", edge.answer(request))).collect()
    };
    let alone = ask(&edge);
    let threads: Vec<_> = (0..4)
        .map(|_| {
            let edge = Arc::clone(&edge);
            std::thread::spawn(move || ask(&edge))
        })
        .collect();
    for thread in threads {
        assert_eq!(thread.join().unwrap(), alone);
    }
}

/// What a proxy hands on: the headers of a request decide, however they are cased and joined.
#[test]
fn headers_are_those_of_the_request() {
    let edge = edge();
    let with = |pairs: &[(&'static str, &'static str)]| {
        let headers: HeaderMap = pairs
            .iter()
            .map(|(name, value)| (name.parse().unwrap(), HeaderValue::from_static(value)))
            .collect();
        let request = Request::from_parts(Method::GET, Scheme::Https, "h.example", "/mine");
        edge.answer(&request.with_headers(headers)).status()
    };
    assert_eq!(with(&[]), Some(404));
    assert_eq!(with(&[("cookie", "c=1")]), Some(302));
    assert_eq!(with(&[("Cookie", "d=1; c=")]), Some(302));
    assert_eq!(with(&[("cookie", "cc=1")]), Some(404));
    assert_eq!(with(&[("host", "h.example:443"), ("cookie", "c=1")]), Some(302));
    assert_eq!(with(&[("host", "w.example")]), Some(400), "two hosts");
}
