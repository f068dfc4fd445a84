//! A walk is what a browser that knows nothing of the rules does with the answers, one after
//! another; an explanation tells of the line that decided.

use std::collections::HashSet;

use http::Method;
use proptest::prelude::*;
use ravel::edge::{RuleResult, Step, WalkEnd};
use ravel::{Edge, FileList, Outcome, Request, Rules};
use url::Url;

/// Follows answers as a browser does: it resolves each location against what it asked, keeps the
/// fragment, and stops at 20.
fn follow(edge: &Edge, url: &str, method: Method) -> (String, Vec<u16>, WalkEnd) {
    let (mut at, mut method) = (Url::parse(url).unwrap(), method);
    let mut seen = HashSet::new();
    let mut statuses = Vec::new();
    loop {
        let mut asked = at.clone();
        asked.set_fragment(None);
        seen.insert(asked.to_string());
        let answer = edge.answer(&Request::new(method.clone(), at.as_str()).unwrap());
        statuses.push(answer.status().unwrap_or_default());
        let Some(location) = answer.location() else {
            return (at.to_string(), statuses, WalkEnd::Answer);
        };
        let mut to = at.join(location).unwrap();
        if let (None, Some(fragment)) = (to.fragment(), at.fragment()) {
            to.set_fragment(Some(fragment));
        }
        if !edge.site().has_host(to.host_str().unwrap()) {
            return (to.to_string(), statuses, WalkEnd::Away);
        }
        let mut next = to.clone();
        next.set_fragment(None);
        if seen.contains(next.as_str()) || statuses.len() > 20 {
            return (to.to_string(), statuses, WalkEnd::Loop);
        }
        if matches!((answer.status().unwrap_or_default(), method.as_str()), (301 | 302, "POST"))
            || (answer.status() == Some(303) && method != Method::HEAD)
        {
            method = Method::GET;
        }
        at = to;
    }
}

fn rule() -> impl Strategy<Value = String> {
    prop_oneof![
        6 => "redirect /(a|b|c|d|a/b) -> /(a|b|c|d|page|page\\.html|b#top)( permanent| 303| 307| 308|)",
        2 => "redirect /(\\{x\\}/go|a\\{/x\\*\\}) -> /(\\{x\\}|d\\{x\\}|a/\\{x\\})",
        1 => "redirect /(a|b) -> https://(away\\.example/|www\\.h\\.example/|h\\.example/old/)(a|c)",
        1 => "(gone|elsewhere) /(c|d)",
        1 => "fallback /d\\{/x\\*\\} -> /",
    ]
}

proptest! {
    #![proptest_config(ravel_testing::config(3_000))]

    #[test]
    fn a_walk_is_what_browsers_do(
        hops in prop::sample::select(vec!["one", "each"]),
        rules in prop::collection::vec(rule(), 0..8),
        url in "https?://(h|www\\.h|x\\.p)\\.example/(old/|)(a|b|c|d|a/b|d/go|a/go|page\\.html|page/)(\\?k|)(#f|)",
        method in prop::sample::select(vec!["GET", "HEAD", "POST"]),
    ) {
        let site = format!("site https://h.example/\n  alias www.h.example, https://h.example/old/\n  preview *.p.example\n  hops {hops}\n");
        let rules: String = rules.iter().filter(|rule| Rules::parse(&format!("{site}{rule}\n")).is_ok()).map(|rule| format!("{rule}\n")).collect();
        let Ok(rules) = Rules::parse(&format!("{site}{rules}")) else { return Ok(()) };
        let edge = Edge::new(&rules, FileList::from_iter(["index.html", "page.html"]));
        let method: Method = method.parse().unwrap();
        let walk = edge.walk(&Request::new(method.clone(), &url).unwrap());
        let (end, statuses, how) = follow(&edge, &url, method);
        let answered: Vec<u16> = walk.answers().iter().map(|(_, explanation)| explanation.answer().status().unwrap_or_default()).collect();
        prop_assert_eq!((walk.url(), &answered, walk.end()), (&*end, &statuses, how), "{}", url);
        prop_assert_eq!(walk.hops(), statuses.iter().filter(|status| (300..400).contains(*status)).count());
        prop_assert_eq!(walk.outcome() == Outcome::Loop, how == WalkEnd::Loop || statuses.last() == Some(&508));

        for (asked, explanation) in walk.answers() {
            prop_assert!(!explanation.steps().is_empty());
            let Some(line) = explanation.answer().line() else { continue };
            let told = explanation.words().filter(|step| step.line() == Some(line));
            let decided = told.filter(|step| match step.step() {
                Step::Rule(rule, result) => Some(*rule) == explanation.answer().rule() && *result == RuleResult::Matched,
                _ => explanation.answer().rule().is_none(),
            });
            prop_assert!(decided.count() > 0, "{} is decided by line {}, of which nothing is told", asked, line.number());
        }
    }
}
