//! What holds for every input.

use proptest::prelude::*;
use ravel::{Edge, FileList, Outcome, Request, Rules};

const SITE: &str = "site https://h.example/\n  alias www.h.example\n  preview *.p.example\n";

/// Pieces that patterns and targets are glued together from, so that they overlap and capture much.
fn piece() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec![
        "/", "a", "b", "/a", "//", "%2F", "..", "{x}", "{+y}", "{/z*}", "?k={q}", "?k", "&m=a",
        "#f", ".html", "\\", "@",
    ])
}

fn text(len: usize) -> impl Strategy<Value = String> {
    prop::collection::vec(piece(), 1..len).prop_map(|pieces| pieces.concat())
}

fn address() -> impl Strategy<Value = String> {
    let host = prop::sample::select(vec![
        "https://h.example",
        "http://h.example",
        "http://www.h.example",
        "https://x.p.example",
    ]);
    (host, "/?(a|b|/|%2F|%2e|//evil.example|\\?k=|&k=|=|%0d|%zz|#){0,8}")
        .prop_map(|(host, rest)| format!("{host}/{rest}"))
}

proptest! {
    #![proptest_config(ravel_testing::config(2_000))]

    #[test]
    fn a_local_redirect_stays_on_the_site(pattern in text(5), target in text(6), url in address()) {
        let rules = format!("{SITE}redirect /{pattern} -> /{target}\nredirect {pattern} -> {target}\n");
        if let (Ok(rules), Ok(request)) = (Rules::parse(&rules), Request::get(&url)) {
            let edge = Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "a/b/index.html"]));
            let answer = edge.answer(&request);
            let why = edge.explain(&request);
            prop_assert_eq!(&answer, why.answer());
            if let Some(location) = answer.location() {
                let to = ravel::address::Address::parse(location);
                prop_assert!(to.is_ok_and(|to| edge.site().has_host(to.host()) && to.as_str() == location), "{}", location);
            }
        }
    }

    #[test]
    fn one_hop_ends_where_many_do(
        base in prop::sample::select(vec!["", "a/"]),
        aliases in prop::sample::select(vec!["www.h.example", "www.h.example, https://h.example/b/", "https://www.h.example/b/"]),
        rules in prop::collection::vec(("/(a|b|a/b|b/a|b/|\\{x\\}|a\\{/x\\*\\})", "/(a|b|a/b|b/a|page|page\\.html|b/page|b/)"), 1..5),
        host in prop::sample::select(vec!["https://h.example", "http://www.h.example", "https://x.p.example"]),
        path in "/(a|b|a/b|b/a|b/|a/a|page\\.html|b/page)",
    ) {
        let rules: String = rules.iter().map(|(pattern, target)| format!("redirect {pattern} -> {target}\n")).collect();
        let edge = |hops: &str| {
            let text = format!("site https://h.example/{base}\n  alias {aliases}\n  preview *.p.example\n  hops {hops}\n{rules}");
            Rules::parse(&text).ok().map(|rules| Edge::new(&rules, FileList::from_iter(["page.html", "b/index.html"])))
        };
        if let (Some(one), Some(each)) = (edge("one"), edge("each")) {
            let request = Request::get(&format!("{host}{path}")).unwrap();
            let (one, each) = (one.walk(&request), each.walk(&request));
            prop_assert_eq!(one.outcome(), each.outcome(), "{}{}\n{}", host, path, rules);
            if each.outcome() != Outcome::Loop {
                prop_assert_eq!(one.url(), each.url());
                prop_assert!(one.hops() <= 1, "{} hops", one.hops());
            }
        }
    }

    /// What is known before anybody asks is what is found where somebody asks why.
    #[test]
    fn explaining_changes_nothing(
        base in prop::sample::select(vec!["", "", "a/"]),
        settings in prop::sample::subsequence(vec![
            "alias www.h.example", "alias www.h.example, https://h.example/b/", "preview *.p.example", "ignore case", "hops each",
            "hops one", "http allow", "hsts 365d subdomains", "pages loose",
        ], 0..4),
        lines in prop::collection::vec(prop_oneof![
            8 => "redirect /(a|b|A|a/b) -> /(b|b/|c|c\\.html|d|//c)( permanent| 308|)",
            4 => "redirect /(a|b)(\\?k=a|\\?k||) -> /(c|d)( drop query|)(\n  when scheme is http|\n  when header x-a|)",
            1 => (text(4), text(4)).prop_map(|(pattern, target)| format!("redirect {pattern} -> {target}")),
            4 => "(gone|elsewhere) /(a|b|a/b|\\{x\\}|a\\{/x\\*\\}|a\\{\\+x\\})(\\?k=a||)",
            1 => "headers /(a|b|\\{\\+x\\})( on redirects| on all)\n  (set|add) cache-control: no-store",
            1 => "rewrite /(c|d|a) -> /index\\.html",
        ], 1..7),
        whole in prop::option::weighted(0.1, "redirect (https://h|http://www\\.h)\\.example/(a|b) -> /(c|d)"),
        url in prop_oneof![
            1 => address(),
            4 => "https?://h\\.example/(a|b|a/b)",
            4 => "https?://(h|www\\.h|x\\.p)\\.example/(a/|)(a|b|A|a/b|c|d|c/|c\\.html)(\\?k=a|\\?z|\\?|)",
        ],
        method in prop::sample::select(vec!["GET", "HEAD", "POST"]),
    ) {
        let site: String = settings.iter().map(|setting| format!("  {setting}\n")).collect();
        let lines: Vec<&String> = lines.iter().chain(&whole).filter(|line| Rules::parse(&format!("{SITE}{line}")).is_ok()).collect();
        let rules: String = lines.iter().map(|line| format!("{line}\n")).collect();
        let rules = format!("site https://h.example/{base}\n{site}{rules}");
        if let (Ok(rules), Ok(request)) = (Rules::parse(&rules), Request::new(method.parse().unwrap(), &url)) {
            let edge = Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "c.html"]));
            let (answer, why) = (edge.answer(&request), edge.explain(&request));
            prop_assert_eq!(&answer, why.answer());
            prop_assert_eq!(answer.outcome() == Outcome::Redirect, answer.location().is_some());
        }
    }

    /// Any text is read, or every problem points at a place within it; what is read has a canonical
    /// form that means the same.
    #[test]
    fn any_text_is_read_or_its_problems_have_places(text in any::<String>(), body in any::<String>()) {
        let bodies = ["redirect", "headers", "expect", "fallback", "include", "gone"].map(|keyword| {
            format!("{SITE}{keyword} {text}\n  {body}\n  set {body}\n  where {text}\n  when {body}\n")
        });
        for rules in bodies.iter().chain([&text]) {
            match Rules::parse(rules) {
                Err(problems) => for problem in problems.iter() {
                    let lines = rules.lines().count().max(1);
                    let number = problem.place().line().number() as usize;
                    prop_assert!((1..=lines + 1).contains(&number), "{number} of {lines}: {rules:?}");
                    let line = rules.lines().nth(number - 1).unwrap_or_default();
                    let columns = problem.place().columns().clone();
                    prop_assert!(columns.start <= columns.end && columns.end <= line.len() + 1, "{columns:?} of {line:?}");
                },
                Ok(read) => {
                    let again = Rules::parse(&ravel::language::format(rules).unwrap()).unwrap();
                    prop_assert_eq!(read.expectations().len(), again.expectations().len());
                }
            }
        }
    }

    #[test]
    fn no_words_of_the_language_panic(words in prop::collection::vec(word(), 0..40)) {
        let text: String = words.concat();
        if let Err(problems) = Rules::parse(&format!("{SITE}{text}")) {
            prop_assert!(problems.iter().len() > 0);
            prop_assert!(!problems.to_string().is_empty());
        }
    }

    /// Any text as a request: it is refused with 400 or 421, or its walk ends, and each answer of it is
    /// the one that asking for that URL alone gets.
    #[test]
    fn any_request_ends(url in any::<String>(), host in any::<String>(), target in any::<String>()) {
        let rules = Rules::parse(&format!("{SITE}redirect {{+x}}b -> /{{+x}}?q={{x}}\nredirect /k?a={{v}} -> /{{v}}#{{v}}\n")).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(["index.html"]));
        let http = ravel::address::Scheme::Http;
        let mut requests = vec![Request::from_parts(http::Method::GET, http, &host, &target)];
        requests.push(Request::from_parts(http::Method::GET, http, "h.example", &format!("/{target}")));
        requests.extend(Request::get(&format!("https://h.example/{url}")));
        for request in requests {
            let walk = edge.walk(&request);
            let first = &walk.first().answer();
            match request.address() {
                Err(_) => prop_assert_eq!(first.status(), Some(400)),
                Ok(address) if !edge.site().has_host(address.host()) => prop_assert_eq!(first.status(), Some(421)),
                Ok(_) => prop_assert!(first.location().is_some() || first.outcome() != Outcome::Redirect),
            }
            if walk.hops() > 0 && walk.end() == ravel::edge::WalkEnd::Answer {
                let last = Request::get(walk.url()).unwrap();
                prop_assert_eq!(edge.answer(&last).status(), walk.last().1.answer().status(), "{}", walk.url());
            }
        }
    }
}

/// A word, a line end or a break of the language.
fn word() -> impl Strategy<Value = String> {
    let words = "site redirect gone elsewhere rewrite fallback missing headers expect include table where when not language cookie \
                 header host scheme method preview no file is one of digits matches set add drop on all goes to serves has lacks as in \
                 hops permanent 308 -> /a /b{x} {/z*} /c?k={q} \"[a-z]+\" 1..3 x-a: a, b # \" https://h.example/ GET";
    let words: Vec<String> = words.split_whitespace().map(|word| format!("{word} ")).collect();
    prop_oneof![6 => prop::sample::select(words), 1 => Just("\n".to_owned()), 1 => Just("\n  ".to_owned()), 1 => "\\PC{1,4}"]
}
