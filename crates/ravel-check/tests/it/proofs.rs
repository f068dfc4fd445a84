//! What is decided for every address, held against asking every address: all paths over a small
//! alphabet up to a length, with all combinations of hosts, queries and cookies that the rules
//! could tell apart.

use std::cell::Cell;
use std::collections::BTreeSet;

use crate::universe::{conditions, pattern, requests};
use proptest::prelude::*;
use ravel::edge::{RuleResult, Step, WalkEnd};
use ravel::expect::verify;
use ravel::finding::{Finding, FindingPlace};
use ravel::program::Stage;
use ravel::rules::Code;
use ravel::{Edge, FileList, Outcome, Request, Rule, Rules};
use ravel_check::{Audit, verify_all, witnesses};
use ravel_testing::{is_whole, law};

const SITE: &str = "site https://h.example/\n  alias w.example\n";
const FILES: [&str; 4] = ["index.html", "a.html", "b/index.html", "ab/b.css"];

fn add(count: &Cell<u32>, one: bool) {
    count.set(count.get() + u32::from(one));
}

fn rule() -> impl Strategy<Value = String> {
    const ACTIONS: [&str; 8] =
        ["gone", "redirect", "redirect", "redirect", "rewrite", "fallback", "missing", "elsewhere"];
    const TARGETS: [&str; 11] = [
        "/a",
        "/b/",
        "/ab",
        "/{x}",
        "/a/{x}",
        "/b/{+x}",
        "{/x*}",
        "/b{/x*}",
        "/{y}",
        "https://w.example/a",
        "https://o.example/{x}",
    ];
    (
        prop::sample::select(&ACTIONS[..]),
        pattern(),
        prop::sample::select(&TARGETS[..]),
        conditions(),
    )
        .prop_map(|(action, pattern, target, conditions)| match action {
            "gone" | "elsewhere" => format!("{action} {pattern}\n{conditions}"),
            _ => format!("{action} {pattern} -> {target}\n{conditions}"),
        })
}

/// The rules that can be read, put together.
fn site_of(rules: &[String]) -> Rules {
    let good: String = rules
        .iter()
        .filter(|rule| Rules::parse(&format!("{SITE}{rule}")).is_ok())
        .cloned()
        .collect();
    Rules::parse(&format!("{SITE}  hops each\n{good}")).unwrap()
}

fn line(finding: &Finding) -> u32 {
    match finding.place() {
        FindingPlace::Line(line) => line.number(),
        _ => 0,
    }
}

fn has(findings: &[Finding], code: Code, number: u32) -> bool {
    findings.iter().any(|finding| {
        finding.code() == code
            && (line(finding) == number
                || finding.lines().iter().any(|line| line.number() == number))
    })
}

/// The lines of the rules that act on a request itself, not on where it is sent.
fn acting(edge: &Edge, request: &Request) -> BTreeSet<u32> {
    edge.explain(request)
        .words()
        .filter(|step| step.matched())
        .filter_map(|step| step.line())
        .map(|line| line.number())
        .collect()
}

#[test]
fn a_rule_never_acts_exactly_when_nothing_is_found_for_it() {
    let requests = requests();
    let (rules_seen, undecided, never) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let sets = prop::collection::vec(rule(), 1..7);
    law(200, &sets, |texts| {
        let rules = site_of(&texts);
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let audit = Audit::new(&edge);
        let findings = audit.rules();
        let remainders = audit.shadowings();
        let acts: BTreeSet<u32> =
            requests.iter().flat_map(|request| acting(&edge, request)).collect();
        let all = [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing];
        for rule in all.into_iter().flat_map(|stage| rules.rules(stage)) {
            let number = rule.line().number();
            let said = findings.iter().any(|finding| {
                line(finding) == number
                    && matches!(finding.code(), Code::UnreachableRule | Code::DuplicateRule)
            });
            if let Some(finding) = findings
                .iter()
                .find(|finding| line(finding) == number && finding.code() == Code::UnreachableRule)
            {
                covers(&edge, &requests, rule, finding)
                    .map_err(|why| TestCaseError::fail(format!("{why}: {texts:?}")))?;
            }
            let left = remainders.iter().find(|remainder| remainder.line() == rule.line());
            add(&rules_seen, true);
            add(&never, said);
            prop_assert!(
                !(said && acts.contains(&number)),
                "{rule} on line {number} acts, and is said not to: {texts:?}"
            );
            if let Some(left) = left {
                prop_assert!(
                    acting(&edge, left.example()).contains(&number),
                    "{rule} does not act on {}: {texts:?}",
                    left.example().url()
                );
            }
            let file_missing = has(&findings, Code::MissingFile, number);
            add(&undecided, !said && left.is_none() && !file_missing);
        }
        Ok(())
    });
    let (rules_seen, undecided, never) = (rules_seen.get(), undecided.get(), never.get());
    assert!(
        !is_whole() || never > rules_seen / 20,
        "only {never} of {rules_seen} are unreachable: the rules hardly meet"
    );
    assert!(
        !is_whole() || undecided * 25 <= rules_seen,
        "{undecided} of {rules_seen} rules are undecided"
    );
}

/// Whether the lines of a finding take every request on which the rule would act if it stood alone.
fn covers(edge: &Edge, requests: &[Request], rule: &Rule, finding: &Finding) -> Result<(), String> {
    let takers: BTreeSet<u32> = finding.lines().iter().map(|line| line.number()).collect();
    let alone = Rules::parse(&format!("{SITE}gone {}\n", rule.pattern())).unwrap();
    let alone = Edge::new(&alone, FileList::default());
    let by_files = finding.message().contains("file");
    for request in
        requests.iter().filter(|request| alone.answer(request).outcome() == Outcome::Gone)
    {
        let why = edge.explain(request);
        let hidden = why.words().any(|step| {
            step.line() == Some(rule.line())
                && matches!(step.step(), Step::Rule(_, RuleResult::Shadowed(_)))
        });
        if hidden && !by_files && acting(edge, request).is_disjoint(&takers) {
            return Err(format!("{} is not taken by {takers:?}", request.url()));
        }
    }
    Ok(())
}

#[test]
fn every_circle_is_found_and_none_invented() {
    let requests = requests();
    let (sets_seen, loops, undecided) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let sets = prop::collection::vec(
        rule().prop_filter("redirects", |rule| rule.starts_with("redirect")),
        2..6,
    );
    law(200, &sets, |texts| {
        let rules = site_of(&texts);
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let findings = Audit::new(&edge).rules();
        add(&sets_seen, true);
        add(&undecided, findings.iter().any(|finding| finding.code() == Code::Undecided));
        for finding in findings.iter().filter(|finding| finding.code() == Code::RedirectLoop) {
            add(&loops, true);
            let shown = finding.example().unwrap();
            let mut example = Request::new(shown.method().clone(), shown.url()).unwrap();
            for (name, value) in shown.headers() {
                example = example.with_header(name.parse().unwrap(), value.parse().unwrap());
            }
            let round = edge.walk(&example).outcome() == Outcome::Loop;
            prop_assert!(round, "{} does not loop: {texts:?}", example.url());
        }
        for request in &requests {
            let walk = edge.walk_unexplained(request);
            if walk.end() != WalkEnd::Loop {
                continue;
            }
            let on_the_way: Vec<u32> = walk
                .answers()
                .iter()
                .filter_map(|(_, why)| why.answer().line())
                .map(|line| line.number())
                .collect();
            let found = on_the_way.iter().any(|number| {
                has(&findings, Code::RedirectLoop, *number)
                    || has(&findings, Code::Undecided, *number)
            });
            prop_assert!(
                found,
                "{} {:?} is a redirect loop unseen: {texts:?}",
                request.url(),
                request.headers()
            );
        }
        Ok(())
    });
    let (sets_seen, loops, undecided) = (sets_seen.get(), loops.get(), undecided.get());
    assert!(!is_whole() || loops > 10, "only {loops} loops in {sets_seen} sets");
    assert!(
        !is_whole() || undecided * 5 <= sets_seen,
        "{undecided} of {sets_seen} sets have something that is undecided"
    );
}

#[test]
fn expect_every_is_what_every_address_says() {
    let requests = requests();
    const OUTCOMES: [&str; 16] = [
        "is gone",
        "is missing",
        "is elsewhere",
        "serves /a.html",
        "serves /b/index.html",
        "goes to /a",
        "goes to /b/",
        "has x-robots-tag",
        "lacks x-robots-tag",
        "goes to https://o.example/a",
        "redirects to /a",
        "redirects to https://o.example/a as 302",
        "is not missing",
        "is not gone",
        "is not elsewhere",
        "has location: https://o.example/a",
    ];
    const HEADERS: [&str; 3] = [
        "",
        "headers /a{/any*} on all\n  set x-robots-tag: noindex\n",
        "headers /{+x}\n  set cache-control: no-store\n",
    ];
    let (seen, held, undecided) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let sets = (
        prop::collection::vec(rule(), 1..5),
        pattern(),
        prop::sample::select(&OUTCOMES[..]),
        prop::sample::select(&HEADERS[..]),
    );
    law(250, &sets, |(mut texts, subject, outcome, headers)| {
        texts.push(headers.to_owned());
        let good: Vec<String> = texts
            .iter()
            .filter(|rule| Rules::parse(&format!("{SITE}{rule}")).is_ok())
            .cloned()
            .collect();
        let text = format!(
            "{SITE}{}expect every {subject} {outcome}\nexpect / {outcome}\n",
            good.concat()
        );
        let rules =
            Rules::parse(&text).map_err(|problems| TestCaseError::fail(problems.to_string()))?;
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let verdict = verify_all(&edge)
            .into_iter()
            .find(|verdict| verdict.asked().starts_with("every"))
            .unwrap();
        let matcher = Rules::parse(&format!("{SITE}gone {subject}\n")).unwrap();
        let matcher = Edge::new(&matcher, FileList::default());
        let one = &rules.expectations()[0];
        let failing = |request: &&Request| {
            let canonical = request.url().starts_with("https://h.example/");
            if !canonical || matcher.answer(request).outcome() != Outcome::Gone {
                return false;
            }
            let expectation =
                rules.every_expectations()[0].of_request(request, one.outcome().cloned());
            let carried = request.url().contains('?') && outcome.contains("s to ");
            !verify(&edge, &expectation).holds() && !carried
        };
        let shortest = requests.iter().filter(failing).map(|request| request.url().len()).min();
        add(&seen, true);
        add(&held, verdict.holds());
        let got = verdict.failures().first().map_or("", |failure| failure.got());
        if got.starts_with("undecided") {
            add(&undecided, true);
            return Ok(());
        }
        if verdict.holds() {
            prop_assert_eq!(shortest, None, "{}", text);
        } else if let Some(shortest) = shortest {
            let example = got.split_whitespace().next().unwrap();
            prop_assert!(
                example.len() <= shortest,
                "{} is longer than {}: {}",
                example,
                shortest,
                text
            );
        }
        Ok(())
    });
    let (seen, held, undecided) = (seen.get(), held.get(), undecided.get());
    assert!(!is_whole() || held * 40 > seen, "only {held} of {seen} hold: the test shows little");
    assert!(!is_whole() || undecided * 12 <= seen, "{undecided} of {seen} are undecided");
}

#[test]
fn witnesses_stand_for_what_differs() {
    let text = "site https://h.example/\n  alias www.h.example\n\
        redirect /news{/story*} -> https://journal.example{/story*}\n\
        redirect /old/{x} -> /a\n  where x is one of one, two\n\
        expect every /news{/s*} goes to https://journal.example{/s*}\n\
        expect every /old/{x} lacks x-a\n";
    let rules = Rules::parse(text).unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["a.html"]));
    let asked = |at: usize, most| -> Vec<String> {
        witnesses(&edge, &rules.every_expectations()[at], most)
            .iter()
            .map(|one| one.url().to_string())
            .collect()
    };
    assert!(
        asked(0, 9).iter().all(|url| url.starts_with("https://h.example/news"))
            && !asked(0, 9).is_empty()
    );
    let old = asked(1, 9);
    assert!(
        old.iter().any(|url| url.ends_with("/old/one") || url.ends_with("/old/two"))
            && old.len() > 1,
        "{old:?}"
    );
    assert_eq!(asked(1, 1).len(), 1);
}

/// A canonical redirect that a rule takes back makes a loop, also for some visitors alone, and where
/// another rule shows the file.
#[test]
fn canonical_redirects_taken_back_are_loops() {
    let cases = [
        "redirect /{x}/ -> /{x}\n",
        "rewrite /a/{x} -> /{x}\nredirect /{x}/ -> /{x}\n",
        "redirect /{x}/ -> /{x}\n  when cookie c\n",
        "redirect /{x}/ -> /{x}\n  when not language is de\n",
    ];
    for rules in cases {
        let text = format!("site https://h.example/\n  languages en, de\n{rules}");
        let rules = ravel::Rules::parse(&text).unwrap();
        let files = ["index.html", "timetables/index.html", "quays/index.html"];
        let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(files));
        let findings = ravel_check::Audit::new(&edge).rules();
        let codes: Vec<&str> = findings.iter().map(|finding| finding.code().name()).collect();
        assert!(codes.contains(&"redirect-loop"), "{text}: {codes:?}");
    }
}
