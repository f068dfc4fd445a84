//! What a capture turns into where a target puts it.

use proptest::prelude::*;
use ravel::address::{Address, form_decode, parameters};
use ravel::{Edge, FileList, Request, Rules};

/// Where one redirect leads, or the status of what else is answered.
fn leads(rule: &str, url: &str) -> String {
    let rules = Rules::parse(&format!("site https://h.example/\n  hops each\nredirect {rule}\n"));
    let rules = rules.unwrap_or_else(|problems| panic!("{problems}"));
    let edge = Edge::new(&rules, FileList::default());
    let request = Request::get(&format!("https://h.example{url}")).unwrap();
    let answer = edge.answer(&request);
    answer.location().map_or(answer.status().unwrap_or_default().to_string(), str::to_owned)
}

#[test]
fn captures_keep_their_meaning() {
    let cases = [
        // path -> path: as it was sent
        ("/a/{x} -> /b/{x}", "/a/c%20d%2Fe", "https://h.example/b/c%20d%2Fe"),
        ("/a/{x} -> /b/{x}", "/a/%C3%A9", "https://h.example/b/%C3%A9"),
        ("/a{/x*} -> /b{/x*}", "/a/c/d/", "https://h.example/b/c/d/"),
        ("/a{/x*} -> /b{/x*}", "/a", "https://h.example/b"),
        ("/a/{+x} -> /b/{+x}", "/a/", "https://h.example/b/"),
        ("/a/{+x} -> /{+x}.html", "/a/c/d", "https://h.example/c/d.html"),
        ("/{x}-{y} -> /{y}/{x}", "/c-d-e", "https://h.example/d-e/c"),
        // query -> query: as it was sent
        ("/a?q={x} -> /b?r={x}", "/a?q=c+d%2Fe", "https://h.example/b?r=c+d%2Fe"),
        ("/a?q={x} -> /b?r={x}", "/a?q=%zz", "https://h.example/b?r=%zz"),
        // path -> query: decoded, then encoded
        ("/a/{x} -> /b?q={x}", "/a/c%20d&e=f", "https://h.example/b?q=c%20d%26e%3Df"),
        ("/a{/x*} -> /b?q={x}", "/a/c/d", "https://h.example/b?q=%2Fc%2Fd"),
        // query -> path: one segment, or nothing
        ("/a?q={x} -> /b/{x}/", "/a?q=c+d", "https://h.example/b/c%20d/"),
        ("/a?q={x} -> /b/{x}/", "/a?q=c%2Fd", "https://h.example/b/c%2Fd/"),
        ("/a?q={x} -> /b/{x}/", "/a?q=%C3%A9", "https://h.example/b/%C3%A9/"),
        ("/a?q={x} -> /b/{x}/", "/a?q=.", "404"),
        ("/a?q={x} -> /b/{x}/", "/a?q=%2e%2E", "404"),
        ("/a?q={x} -> /b/{x}/", "/a?q=%00", "404"),
        ("/a?q={x} -> /b/{x}/", "/a?q=%ff", "404"),
        ("/a?q={x} -> /b/{x}/", "/a?q=...", "https://h.example/b/.../"),
        ("/a?q={x} -> /b/..{x}/", "/a?q=x", "https://h.example/b/..x/"),
        // any -> fragment
        ("/a/{x} -> /b#{x}", "/a/c%20d", "https://h.example/b#c%20d"),
        ("/a?q={x} -> /b#{x}", "/a?q=c+d", "https://h.example/b#c%20d"),
        // any -> host
        ("/a/{x} -> https://{x}.o.example/", "/a/Skerry", "https://skerry.o.example/"),
        ("/a?q={x} -> https://{x}.o.example/", "/a?q=skerry-2", "https://skerry-2.o.example/"),
        ("/a/{x} -> https://{x}.o.example/", "/a/evil.example", "404"),
        ("/a/{x} -> https://{x}.o.example/", "/a/a%2Fb", "404"),
        ("/a/{x} -> https://{x}.o.example/", "/a/-a", "404"),
        ("/a/{x} -> https://{x}.o.example/", "/a/%C3%A9", "404"),
        // what was not named is carried, in order and bytes
        ("/a -> /b", "/a?x=1&y&z=%7e+", "https://h.example/b?x=1&y&z=%7e+"),
        ("/a -> /b?y=2", "/a?x=1&y=1&z", "https://h.example/b?y=2&x=1&z"),
        ("/a -> /b?y=2", "/a?%79=1", "https://h.example/b?y=2"),
        ("/a?x={v} -> /b", "/a?x=&x=1&y=2&x=3", "https://h.example/b?y=2"),
        ("/a?x -> /b", "/a?y&x", "https://h.example/b?y"),
        ("/a?x=1 -> /b", "/a?x=2&x=1&y", "https://h.example/b?y"),
        ("/a?x=1 -> /b", "/a?x=2", "404"),
        ("/a?x=c+d -> /b", "/a?x=c%20d", "https://h.example/b"),
        ("/a -> /b drop query", "/a?x=1", "https://h.example/b"),
        ("/a -> /b?y=1 drop query", "/a?x=1", "https://h.example/b?y=1"),
        ("/a -> https://o.example/b#f", "/a?x=1", "https://o.example/b?x=1#f"),
        // slashes and dots
        ("/go/{+x} -> /{+x}", "/go///evil.example", "https://h.example/evil.example"),
        ("/go{+x} -> {+x}", "/go", "https://h.example/"),
        ("/go{+x} -> {+x}", "/goa", "https://h.example/a"),
        ("/go/{+x} -> /b/{+x}/../c", "/go/d", "https://h.example/b/c"),
    ];
    for (rule, url, expected) in cases {
        // A target with dots beside an expression is no target.
        if rule.contains("/../") {
            assert!(
                Rules::parse(&format!("site https://h.example/\nredirect {rule}\n")).is_err(),
                "{rule}"
            );
            continue;
        }
        assert_eq!(leads(rule, url), expected, "{rule} for {url}");
    }
}

proptest! {
    #![proptest_config(ravel_testing::config(1_000))]

    #[test]
    fn a_capture_means_the_same_in_a_query(sent in "([a-c]|%[2-7][0-9A-F]|[&=+;é ]){1,8}") {
        prop_assume!(!sent.contains("%2F") && !sent.contains("%7F"));
        let url = leads("/a/{x} -> /b?q={x}", &format!("/a/{sent}"));
        prop_assume!(url != "404" && url != "400");
        let to = Address::parse(&url).unwrap();
        let asked = Address::parse(&format!("https://h.example/a/{sent}")).unwrap();
        let meant: Vec<u8> = percent_encoding::percent_decode_str(&asked.path()[3..]).collect();
        let values: Vec<Vec<u8>> = parameters(to.query().unwrap()).map(|(_, _, value)| form_decode(value.unwrap()).into_owned()).collect();
        prop_assert_eq!(values, vec![meant], "{}", url);
    }

    #[test]
    fn a_parameter_becomes_one_segment_or_none(sent in "([a-c./]|%[0-9A-F][0-9A-F]|[+;é ]){1,8}") {
        let url = leads("/a?q={x} -> /b/{x}/c", &format!("/a?q={sent}"));
        if url != "404" {
            let to = Address::parse(&url).unwrap();
            let segments: Vec<&str> = to.path().split('/').collect();
            prop_assert_eq!(segments.len(), 4, "{}", url);
            let meant = Address::parse(&format!("https://h.example/?q={sent}")).unwrap();
            let meant = form_decode(meant.query().unwrap().strip_prefix("q=").unwrap()).into_owned();
            prop_assert_eq!(percent_encoding::percent_decode_str(segments[2]).collect::<Vec<u8>>(), meant);
        }
    }

    #[test]
    fn no_capture_chooses_the_host(sent in "([a-c./:@\\\\%-]|%2[eEfF]|%3[aA]|%40|%5[cC]){0,10}", rule in 0..4_usize) {
        let rule = ["/a/{x} -> https://{x}.o.example/", "/a{+x} -> {+x}", "/a{/x*} -> {/x*}", "/a{+x} -> https://o.example{+x}"][rule];
        let url = leads(rule, &format!("/a/{sent}"));
        if url.starts_with("https://") {
            let to = Address::parse(&url).unwrap();
            let expected = to.host() == "h.example" || to.host() == "o.example"
                || to.host().strip_suffix(".o.example").is_some_and(|label| !label.contains('.'));
            prop_assert!(expected, "{}", url);
        }
    }
}
