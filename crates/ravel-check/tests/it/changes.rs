//! Changes of one kind each: every request that somebody sees answered differently is in a difference,
//! and no other.

use crate::answers::told;
use crate::universe::FILES;
use ravel::{Edge, FileList, Request, Rules};
use ravel_check::{DifferenceKind, compare};

/// Files come and go where redirects write what they capture: each URL that leads there differs.
#[test]
fn what_redirects_write_leads_to_files_that_come_and_go() {
    let (old, new) =
        (["index.html", "a.html", "b/index.html", "404.html"], ["404.html", "ab.html"]);
    for (before, after) in [
        ("", "redirect /q/{x} -> /{x}\n"),
        ("redirect /q/{x} -> /{x}\n", "redirect /q/{x} -> /{x}\n"),
        ("redirect /q/{x} -> /{x}\n", "redirect /q/{x} -> /{x} permanent\n"),
        (
            "redirect /q{/x*} -> {/x*}\n",
            "redirect /q{/x*} -> {/x*}\nheaders /q{/x*} on all\n  set a: 1\n",
        ),
        ("redirect {/x*} -> {/x*}\n", ""),
        ("redirect /{x}/ -> /{x}\n", "redirect /{x}/ -> /{x}\ngone /{+x}\n"),
        ("redirect /{x}b -> /{x}\n  when no file\n", "redirect /{x}b -> /{x}\n  when no file\n"),
        (
            "redirect /q/{x} -> /r/{x}\nredirect /r/{x} -> /{x}\n",
            "redirect /q/{x} -> /r/{x}\nredirect /r/{x} -> /{x}\n",
        ),
    ] {
        let site = "site https://h.example/\n  missing /404.html\n";
        let rules = [before, after].map(|rules| Rules::parse(&format!("{site}{rules}")).unwrap());
        let edges = [
            Edge::new(&rules[0], FileList::from_iter(old)),
            Edge::new(&rules[1], FileList::from_iter(new)),
        ];
        let comparison = compare(&edges[0], &edges[1]);
        for path in [
            "ab", "a", "b", "b/", "a.html", "ab.html", "ab/", "z", "/z", "bb", "abb", "/a", "a//",
            "",
        ] {
            for prefix in ["/", "/q/", "/r/"] {
                let request = Request::get(&format!("https://h.example{prefix}{path}")).unwrap();
                told(&edges, &comparison, &request, &format!("from {before} to {after}"));
            }
        }
    }
}

/// A rule that is the same takes other requests where it hangs on files, and leaves others to the
/// rules behind it.
#[test]
fn a_rule_that_hangs_on_files_takes_what_they_leave() {
    let redirect = "  pages loose\nredirect /b?k -> https://w.example/a\n  when no file\n";
    let elsewhere = "elsewhere /b/\n  when no file\nredirect /{x}/?k -> /d/{x}\n";
    let headers =
        "headers /b/ on redirects\n  when no file\n  set x-a: b\nredirect /{x}/?k -> /d/{x}\n";
    let table = [
        (headers, ["b.html", "c.html"], &["/b/?k=a", "/b/?k"][..]),
        (redirect, ["b/index.html", "a.html"], &["/b?k=a", "/b?z", "/b/?k"]),
        (elsewhere, ["b.html", "c.html"], &["/b/?k=a", "/b/?k", "/b/"]),
    ];
    for (rules, files, paths) in table {
        let text = format!("site https://h.example/\n{rules}");
        let rules = Rules::parse(&text).unwrap();
        let edges = files.map(|file| Edge::new(&rules, FileList::from_iter([file])));
        let comparison = compare(&edges[0], &edges[1]);
        for path in paths {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            assert!(comparison.difference_of(&request).is_some(), "{path} by {text}");
        }
    }
}

/// What rules look at behind a redirect from below another base path.
#[test]
fn an_alias_below_a_path_leads_to_rules_of_the_site() {
    let site = |rule: &str| {
        let text = format!("site https://h.example/\n  alias https://w.example/t/\n{rule}");
        Rules::parse(&text).unwrap()
    };
    let rules = [site("fallback /ab?k -> /a\n"), site("")];
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(["a.html"])));
    let comparison = compare(&edges[0], &edges[1]);
    let kind = |url: &str| {
        let found = comparison.difference_of(&Request::get(url).unwrap());
        found.map(|number| comparison.differences()[number].kind())
    };
    assert_eq!(kind("https://w.example/t/ab?k=a"), Some(DifferenceKind::Missing));
    assert_eq!(kind("https://w.example/t/ab"), None);
}

/// Of several `/` at the start of what a redirect writes, one is left: there, one side leads elsewhere.
#[test]
fn what_begins_with_several_slashes_is_told_apart() {
    let (root, below) = ("site https://h.example/\n", "site https://h.example/s/\n");
    let itself = "redirect {/x*} -> {/x*}\n";
    let table = [
        ((root, ""), (root, itself)),
        ((below, itself), (root, itself)),
        ((below, itself), (root, "")),
        ((root, "redirect /t{/x*} -> {/x*}\n"), (root, "redirect /t{/x*} -> /u{/x*}\n")),
        ((root, "redirect /t/{+x} -> /{+x}\n"), (root, "redirect /t/{+x} -> /s/{+x}\n")),
    ];
    for editions in table {
        let texts = <[_; 2]>::from(editions).map(|(site, rules)| format!("{site}{rules}"));
        let rules = texts.each_ref().map(|text| Rules::parse(text).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for path in ["/c", "//c", "/s/c", "/s//c", "/s//", "/s/", "/t/c", "/t//c", "/t///c", "/t//"]
        {
            for scheme in ["http", "https"] {
                let request = Request::get(&format!("{scheme}://h.example{path}")).unwrap();
                told(&edges, &comparison, &request, &format!("{texts:?}"));
            }
        }
    }
}

/// What one file is shown for before, others are shown for by what is captured.
#[test]
fn files_that_captures_name_are_told_apart() {
    let table = [
        ("rewrite /{+x} -> /a\n", "gone /\nfallback /{x}/{y} -> /{x}\n"),
        ("rewrite /{+x} -> /a\nfallback /{x}/{y} -> /{x}\n", "gone /\nfallback /{x}/{y} -> /{x}\n"),
        ("fallback /{x}/{y} -> /{x}\n", "fallback /{x}/{y} -> /{y}\n"),
        ("fallback /{x}/{y} -> /{x}\n", "fallback /{x}/{z} -> /{x}\n"),
        ("", "missing /{x}/{y} -> /{x}\n"),
        ("rewrite /b/{y} -> /b\n", "rewrite /b/{y} -> /{y}\n"),
    ];
    for texts in table {
        let rules = <[_; 2]>::from(texts).map(|rules| {
            Rules::parse(&format!("site https://h.example/\n  missing /404.html\n{rules}")).unwrap()
        });
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for path in ["/a/a", "/a/b", "/b/a", "/b/b", "/c/a", "/404/c", "/c/404", "/a", "/b/c"] {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            let found = told(&edges, &comparison, &request, &format!("{texts:?}"));
            let kind = found.map(|number| comparison.differences()[number].kind());
            assert_ne!(kind, Some(DifferenceKind::Undecided), "{path}: {texts:?}");
        }
    }
}

/// A redirect loop is one, wherever it comes back to.
#[test]
fn loops_are_told_by_where_they_begin() {
    let site = |rules: &str| {
        let text = format!("site https://h.example/\n  hops each\nredirect /{{x}}/ -> {rules}\n");
        Rules::parse(&text).unwrap()
    };
    let around = "/{x}\nredirect /{+x} -> /b/";
    let rules = ["/a/{x}", &format!("/a{around}"), &format!("/c{around}")].map(site);
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
    let comparison = compare(&edges[0], &edges[1]);
    for path in ["/a/b", "/a/b/", "/b/", "/b", "/c", "/a/c", "/c/"] {
        let request = Request::get(&format!("https://h.example{path}")).unwrap();
        let found = comparison.difference_of(&request).expect("a difference");
        assert_eq!(comparison.differences()[found].kind(), DifferenceKind::Loop, "{path}");
    }
    assert!(compare(&edges[1], &edges[2]).differences().is_empty());
}

/// A page that loose URLs show is the same page at each, also where redirects write them.
#[test]
fn pages_at_several_urls_are_one_difference() {
    let rules = ["", "  pages loose\n"].map(|pages| {
        let text = format!(
            "site https://h.example/\n{pages}  hops each\nredirect /{{y}}{{/x*}}?k -> {{/x*}}\n"
        );
        Rules::parse(&text).unwrap()
    });
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(["a.html"])));
    let comparison = compare(&edges[0], &edges[1]);
    for path in ["/t/a.html?k=a", "/t/a/?k", "/a.html", "/a/"] {
        let request = Request::get(&format!("https://h.example{path}")).unwrap();
        assert!(comparison.difference_of(&request).is_some(), "{path}");
    }
}

/// What is gone shows the 404 page of the visitor.
#[test]
fn what_is_gone_is_shown_by_the_visitors_404_page() {
    let site = "site https://h.example/\n  missing /404.html\ngone /\n";
    let rules = ["missing /{+x} -> /a\n  when cookie c\n", ""]
        .map(|rules| Rules::parse(&format!("{site}{rules}")).unwrap());
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
    let comparison = compare(&edges[0], &edges[1]);
    let request = Request::get("https://h.example/").unwrap();
    let kind = |request: &Request| {
        comparison.difference_of(request).map(|number| comparison.differences()[number].kind())
    };
    // Of the others, `vary` alone is not the same.
    assert_eq!(kind(&request), Some(DifferenceKind::Headers));
    let cookie = http::HeaderValue::from_static("c=1");
    let request = request.with_header(http::header::COOKIE, cookie);
    assert_eq!(kind(&request), Some(DifferenceKind::File));
}

/// Each change, with a request that it makes a difference to, if there is one, and one that it makes
/// none to; nothing is left undecided.
#[test]
fn what_redirects_come_to_is_told_apart() {
    let site = "site https://h.example/\n  missing /404.html\n";
    let table = [
        // A redirect drops the query, and so leads to itself without one alone.
        (
            "redirect /{x} -> /a\n",
            "redirect /{x} -> /a\nredirect /a -> /a drop query\n",
            "/a?z",
            "/a",
        ),
        ("redirect /b -> /a\n", "redirect /b -> /a drop query\n", "/b?z", "/b"),
        // The second of two redirects drops it.
        (
            "redirect /k -> /b\nredirect /b -> /a\n",
            "redirect /k -> /b\nredirect /b -> /a drop query\n",
            "/k?z",
            "/k",
        ),
        (
            "redirect /{x}b -> /b/\ngone /b/\nrewrite /{+x} -> /ab\n",
            "redirect /{x}b -> /b/ drop query\nrewrite /{+x} -> /ab\n",
            "/ab?k=a",
            "/404.html?k=a",
        ),
        // Both come to one URL, and only for what is captured so.
        (
            "redirect /k/{x} -> /{x}\nrewrite /{y} -> /a\n",
            "redirect /k/{x} -> /c\n",
            "/k/c",
            "/ab/b.css",
        ),
        // Another rule looks at the query.
        (
            "redirect /b?k=b -> /ab\n",
            "redirect /b?k=b -> /ab\nredirect /{x} -> /b/ drop query\n",
            "/b?k=a",
            "/b/?k=a",
        ),
        // A pattern of several captures takes what another wrote.
        (
            "redirect /v{n}{/p*} -> /en/{n}.0{/p*}\nredirect /{l}/1.0{/p*} -> /{l}/1.1{/p*}\n",
            "redirect /v{n}{/p*} -> /en/{n}.0{/p*}\nredirect /{l}/1.0{/p*} -> /{l}/1.2{/p*}\n",
            "/v1/a",
            "/v2/a",
        ),
        (
            "redirect /v{n}{/p*} -> /en/{n}.0{/p*}\nredirect /{l}/1.0{/p*} -> /{l}/1.1{/p*}\n",
            "redirect /v1{/p*} -> /en/1.1{/p*}\nredirect /v{n}{/p*} -> /en/{n}.0{/p*}\n\
             redirect /{l}/1.0{/p*} -> /{l}/1.1{/p*}\n",
            "",
            "/v1/a",
        ),
        // By the same URLs, but only where that is asked which is written.
        (
            "  hops each\nredirect /a?k -> /b/ drop query\n",
            "  hops each\nredirect /a.html -> /a?k=a\nredirect /a?k -> /b/ drop query\n",
            "/a.html?k=a",
            "/a?k=a",
        ),
        // Behind a file's own address there are rules, too.
        (
            "redirect /k{/p*} -> /ab{/p*}\n",
            "redirect /k{/p*} -> /ab{/p*}\ngone /ab/b.css\n",
            "/k//b.css",
            "/k/c",
        ),
        (
            "redirect /k{/p*} -> /b{/p*}\ngone /b/\n",
            "redirect /k{/p*} -> /b{/p*}\ngone /{x}/\n",
            "/a/",
            "/k/index.html",
        ),
    ];
    for (old, new, differs, same) in table {
        let rules = [old, new].map(|rules| Rules::parse(&format!("{site}{rules}")).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        let about = format!("from {old} to {new}");
        let paths = [(differs, true), (same, false)].into_iter();
        for (path, wanted) in paths.filter(|(path, _)| !path.is_empty()) {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            let found = told(&edges, &comparison, &request, &about);
            assert_eq!(found.is_some(), wanted, "{path}: {about}");
        }
        for difference in comparison.differences() {
            assert_eq!(difference.why(), None, "{about}: {}", difference.example().url());
        }
    }
}

/// A rule that does what the site does of itself can go: nobody sees it, but for what is seen.
#[test]
fn a_rule_that_does_what_the_site_does_is_no_difference() {
    let site = "site https://h.example/\n  missing /404.html\n";
    let table = [
        ("redirect /b -> /b/ permanent\n", "/b", Some(DifferenceKind::Lifetime)),
        ("redirect /b -> /b/\n", "/b", Some(DifferenceKind::Status)),
        ("redirect {/x*}/index.html -> /{x}/\n", "/b/index.html", Some(DifferenceKind::Status)),
        ("redirect {/x*}/index.html -> /{x}/\n", "/b/", None),
        ("redirect /a/ -> /b/\n", "/a/", Some(DifferenceKind::Target)),
        // The page is not built, and nothing else leads there.
        ("redirect /c/index.html -> /c/\n", "/c/index.html", Some(DifferenceKind::Target)),
        ("redirect /c/index.html -> /\n", "/c/index.html", Some(DifferenceKind::Missing)),
    ];
    for (rule, path, wanted) in table {
        let rules = [rule, ""].map(|rule| Rules::parse(&format!("{site}{rule}")).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for scheme in ["http", "https"] {
            let request = Request::get(&format!("{scheme}://h.example{path}")).unwrap();
            let found = told(&edges, &comparison, &request, rule);
            let kind = found.map(|number| comparison.differences()[number].kind());
            // A redirect to the canonical origin is made by the site.
            let is_of_headers = wanted == Some(DifferenceKind::Lifetime) && scheme == "http";
            assert!(
                kind == wanted || (is_of_headers && kind.is_some()),
                "{scheme} {path}: {kind:?}"
            );
        }
    }
}

/// What redirects write is read again and again by the next: sets of paths that lead into sets that
/// lead into sets.
#[test]
fn redirects_that_write_for_each_other_are_told_apart() {
    let site = "site https://h.example/\n  missing /404.html\n  ignore case\n  hops each\n";
    let table = [
        ("redirect {/x*}/index.html -> /{x}/\n", "redirect {/x*}/index.html -> /{x}\n"),
        ("gone /{x}/\nredirect {/x*}/b -> /{x}\n", "redirect {/x*}/b -> /{x}\n"),
        (
            "fallback /{x}b -> /ab\n  when language is de\ngone /{x}/\nredirect {/x*}/b -> /{x}\n",
            "fallback /{x}b -> /ab\n  when language is de\nredirect {/x*}/b -> /{x}\n",
        ),
        ("redirect /{y}{/x*}/b -> /{x}/{y}\n", "redirect /{y}{/x*}/b -> {/x*}/a\n"),
        ("redirect /{a}/{b}{/x*} -> /{a}{b}{/x*}\n", "redirect /{a}/{b}{/x*} -> /{a}-{b}{/x*}\n"),
    ];
    let ends =
        ["", "/b", "/B", "/b/b", "/b/b/b", "/index.html", "/INDEX.html", "/index.html/index.html"];
    for texts in table {
        let languages = "  languages en, de\n";
        let rules = <[_; 2]>::from(texts)
            .map(|rules| Rules::parse(&format!("{site}{languages}{rules}")).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for path in ["", "/a", "/A", "/b", "/ab", "/c", "//c", "/ab/b.css", "/a/b/c"] {
            for end in ends.into_iter().filter(|end| !(path.is_empty() && end.is_empty())) {
                let request = Request::get(&format!("https://h.example{path}{end}")).unwrap();
                told(&edges, &comparison, &request, &format!("{texts:?}"));
            }
        }
        for why in comparison.differences().iter().filter_map(|difference| difference.why()) {
            assert!(!why.contains("overlap"), "{why}: {texts:?}");
        }
    }
}

/// What statements set on redirects is known from the first hop, wherever it leads.
#[test]
fn headers_of_redirects_are_decided_wherever_these_lead() {
    let statement = "headers {/x*} on all\n  when language is de\n  set x-robots-tag: noindex\n";
    let redirects = "redirect {/x*}/b -> /{x}\nredirect /c/{+x} -> /b/{x}\n  when cookie c\n";
    for (settings, statement) in [
        ("  hops each\n", statement.to_owned()),
        ("", statement.to_owned()),
        ("  hops each\n", statement.replace("all", "redirects").replace("x-robots-tag", "vary")),
        ("", statement.replace("language is de", "cookie d")),
    ] {
        let site = format!("site https://h.example/\n  languages en, de\n{settings}");
        let rules = [&statement, ""]
            .map(|statement| Rules::parse(&format!("{site}{statement}{redirects}")).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for path in ["/", "/a", "/a/b", "/b/b/b/b/b", "/c/c/b", "/c/a", "/ab/b.css/b", "/d/b/b"] {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            for (name, value) in
                [("accept-language", "de"), ("accept-language", "en"), ("cookie", "c=1; d")]
            {
                let name = http::HeaderName::from_static(name);
                let request =
                    request.clone().with_header(name, http::HeaderValue::from_static(value));
                let found = told(&edges, &comparison, &request, &statement);
                let kind = found.map(|number| comparison.differences()[number].kind());
                assert!(matches!(kind, None | Some(DifferenceKind::Headers)), "{path}: {kind:?}");
            }
        }
    }
}
