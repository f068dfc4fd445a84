//! Any two lines as the host and the target of a request: a location is what a URL parser leaves as
//! it is.

#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules};

const RULES: &str = "site https://h.example/base/\n  alias w.example\n  preview *.p.example\n\
    redirect\n  /a/{x}?k={k} -> /{k}/{x}\n\
    redirect https://{h}.p.example/c/{+x} -> https://{h}.o.example/{+x}?q={x}#{x}\n\
    rewrite /r/{x} -> /{x}\nfallback /f{/x*} -> /\n";

static EDGE: LazyLock<Edge> = LazyLock::new(|| {
    let rules = Rules::parse(RULES).expect("the rules are valid");
    Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "caf\u{e9}.html"]))
});

fuzz_target!(|text: &str| {
    let Some((host, target)) = text.split_once('\n') else { return };
    let scheme = if text.len() % 2 == 0 { Scheme::Https } else { Scheme::Http };
    let _ = Request::get(target);
    let request = Request::from_parts(http::Method::GET, scheme, host, target);
    let answer = EDGE.answer(&request);
    assert_eq!(answer, *EDGE.explain(&request).answer());
    let real = url::Url::parse(&format!("http://{host}/")).is_ok();
    if let Some(location) = answer.location().filter(|_| real) {
        let read = url::Url::parse(location).expect("a location is a URL");
        assert_eq!(read.as_str(), location);
    }
});
