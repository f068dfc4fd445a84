//! Redirects that lead to redirects: one hop, several, and none that end.

use std::fmt::Write;

use http::Method;
use ravel::edge::WalkEnd;
use ravel::{Edge, FileList, Outcome, Request, Rules};

fn edge(rules: &str) -> Edge {
    let rules = Rules::parse(rules).unwrap_or_else(|problems| panic!("{problems}"));
    Edge::new(&rules, FileList::from_iter(["index.html", "end.html", "about.html"]))
}

const SITE: &str = "site https://h.example/\n  alias w.example\n  preview p.example\n";

#[test]
fn the_status_of_one_hop() {
    let rules = format!(
        "{SITE}redirect permanent\n  /pp -> /p\n  /p  -> /end\n  /pt -> /t\n  /p8 -> /8\nredirect\n  /t  -> /end\n  /tp -> /p\n  /t7 -> /7\n\
         redirect /8 -> /end 308\nredirect /7 -> /end 307\nredirect /3 -> /p 303\nredirect /away -> https://o.example/x permanent\n\
         redirect /pa -> /away permanent\nredirect /f -> /g#one\nredirect /g -> /end permanent\nredirect /h -> /i#two\nredirect /i -> /end#three\n\
         redirect /old.html -> /end.html permanent\n"
    );
    let edge = edge(&rules);
    #[rustfmt::skip]
    let cases = [
        // the first temporary step's, else the first that a rule made, else the canonical step's
        // own
        ("https://h.example/p",   301, "https://h.example/end", Some("max-age=86400")),
        ("https://h.example/pp",  301, "https://h.example/end", Some("max-age=86400")),
        ("https://h.example/p8",  301, "https://h.example/end", Some("max-age=86400")),
        ("https://h.example/8",   308, "https://h.example/end", Some("max-age=86400")),
        ("https://h.example/pt",  302, "https://h.example/end", None),
        ("https://h.example/tp",  302, "https://h.example/end", None),
        ("https://h.example/t7",  302, "https://h.example/end", None),
        ("https://h.example/3",   303, "https://h.example/end", None),
        ("http://w.example/",     301, "https://h.example/", Some("max-age=3600")),
        ("http://w.example/p",    301, "https://h.example/end", Some("max-age=86400")),
        ("http://w.example/7",    307, "https://h.example/end", None),
        ("http://w.example/end/", 301, "https://h.example/end", Some("max-age=3600")),
        ("http://w.example/old.html", 301, "https://h.example/end", Some("max-age=86400")),
        ("http://w.example/pa",   301, "https://o.example/x", Some("max-age=86400")),
        ("http://p.example/p",    301, "http://p.example/end", Some("max-age=86400")),
        // a fragment lives on until a later step sets another
        ("https://h.example/f",   302, "https://h.example/end#one", None),
        ("https://h.example/h",   302, "https://h.example/end#three", None),
    ];
    for (url, status, location, kept) in cases {
        let answer = edge.answer(&Request::get(url).unwrap());
        assert_eq!(
            (answer.status().unwrap_or_default(), answer.location()),
            (status, Some(location)),
            "{url}"
        );
        assert_eq!(answer.header("cache-control"), kept, "{url}");
    }
}

/// `/0` leads to `/1`, and so on, for this many steps.
fn chain(steps: usize, settings: &str) -> Edge {
    let mut rules = format!("{SITE}{settings}redirect\n");
    for step in 0..steps {
        writeln!(rules, "  /{step} -> /{}", step + 1).unwrap();
    }
    edge(&rules)
}

#[test]
fn a_chain_has_sixteen_steps_at_most() {
    for (steps, outcome) in [
        (1, Outcome::Redirect),
        (15, Outcome::Redirect),
        (16, Outcome::Redirect),
        (17, Outcome::Loop),
        (40, Outcome::Loop),
    ] {
        let edge = chain(steps, "");
        let answer = edge.answer(&Request::get("https://h.example/0").unwrap());
        assert_eq!(answer.outcome(), outcome, "{steps} steps");
        assert_eq!(
            answer.status().unwrap_or_default(),
            if outcome == Outcome::Loop { 508 } else { 302 }
        );
    }
    let each = chain(5, "  hops each\n");
    let walk = each.walk(&Request::get("https://h.example/0").unwrap());
    assert_eq!((walk.hops(), walk.url(), walk.end()), (5, "https://h.example/5", WalkEnd::Answer));
    let far = chain(30, "  hops each\n");
    assert_eq!(far.walk(&Request::get("https://h.example/0").unwrap()).end(), WalkEnd::Loop);
}

#[test]
fn addresses_do_not_grow_without_end() {
    let edge = edge(&format!(
        "{SITE}redirect /long/{{x}} -> /{{x}}{{x}}\nredirect /a/{{+x}} -> /b/{{+x}}\n"
    ));
    let long = "y".repeat(5_000);
    let doubled = edge.answer(&Request::get(&format!("https://h.example/long/{long}")).unwrap());
    // The last URL that fits, here the first, is left to the next request, which is too long then.
    let location = doubled.location().unwrap();
    assert_eq!(
        (doubled.status(), location.len()),
        (Some(302), "https://h.example/".len() + 10_000)
    );
    let next = edge.answer(&Request::get(location).unwrap());
    assert_eq!((next.outcome(), next.status()), (Outcome::Refused, Some(414)));
    let once = edge.answer(&Request::get(&format!("https://h.example/a/{long}")).unwrap());
    assert_eq!(once.status(), Some(302));
}

#[test]
fn loops_are_found_either_way() {
    let rules = "redirect /a -> /b\nredirect /b -> /a?x=1\nredirect /in{/r*} -> https://w.example/out{/r*}\n\
                 redirect /out{/r*} -> http://h.example/in{/r*}\n";
    for (settings, status, answers) in [("", 508, 1), ("  hops each\n", 302, 3)] {
        let edge = edge(&format!("{SITE}{settings}{rules}"));
        let walk = edge.walk(&Request::get("https://h.example/in/x").unwrap());
        assert_eq!(
            (walk.outcome(), walk.first().answer().status().unwrap_or_default()),
            (Outcome::Loop, status)
        );
        assert!(walk.answers().len() >= answers || answers == 1, "{}", walk.answers().len());
    }
    // `/b` adds a parameter, which comes back the second time round.
    let edge = edge(&format!("{SITE}{rules}"));
    assert_eq!(edge.answer(&Request::get("https://h.example/a").unwrap()).status(), Some(508));
}

#[test]
fn an_alias_below_the_own_host_is_part_of_the_hop() {
    let rules = "site https://h.example/\n  alias https://h.example/old/\nredirect /a -> /old/about\nredirect /b -> /about\n";
    let edge = edge(rules);
    for path in ["a", "b", "old/about", "old/b"] {
        let walk = edge.walk(&Request::get(&format!("https://h.example/{path}")).unwrap());
        assert_eq!((walk.hops(), walk.url()), (1, "https://h.example/about"), "{path}");
    }
}

#[test]
fn methods_go_step_by_step() {
    let rules =
        format!("{SITE}redirect /a -> /b\nredirect /b -> /end 307\nredirect /c -> /end 303\n");
    let edge = edge(&rules);
    let post =
        |path: &str| Request::new(Method::POST, &format!("https://h.example{path}")).unwrap();
    assert_eq!(edge.answer(&post("/a")).location(), Some("https://h.example/b"));
    let status = |walk: &ravel::edge::Walk<'_>| {
        walk.answers()
            .iter()
            .map(|(_, step)| step.answer().status().unwrap_or_default())
            .collect::<Vec<_>>()
    };
    // 302 makes a GET of a POST; 307 keeps it; 303 makes a GET of anything but HEAD.
    assert_eq!(status(&edge.walk(&post("/a"))), [302, 307, 200]);
    assert_eq!(status(&edge.walk(&post("/b"))), [307, 405]);
    assert_eq!(status(&edge.walk(&post("/c"))), [303, 200]);
    let canonical = Request::new(Method::PUT, "http://w.example/end").unwrap();
    assert_eq!(status(&edge.walk(&canonical)), [308, 405]);
}

#[test]
fn a_promise_for_subdomains_is_seen_on_its_host_first() {
    let edge = edge(
        &SITE
            .replace("  preview", "  hsts 1y subdomains\n  preview")
            .replace("p.example\n", "p.example\nredirect /a -> /end\n"),
    );
    let walk = edge.walk(&Request::get("http://w.example/a?q=1").unwrap());
    let asked: Vec<&str> = walk.answers().iter().map(|(url, _)| url.as_str()).collect();
    assert_eq!(
        asked,
        ["http://w.example/a?q=1", "https://w.example/a?q=1", "https://h.example/end?q=1"]
    );
    assert_eq!(walk.answers()[0].1.answer().header("strict-transport-security"), None);
    assert_eq!(
        walk.answers()[1].1.answer().header("strict-transport-security"),
        Some("max-age=31536000; includeSubDomains")
    );
    let preview = edge.answer(&Request::get("http://p.example/a").unwrap());
    assert_eq!(preview.location(), Some("http://p.example/end"));
}
