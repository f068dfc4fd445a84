//! Coverage: what is called unnoticed can be changed in the text of the rules, what is not cannot.

use std::cell::Cell;

use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use ravel::{Edge, FileList, Rules};
use ravel_check::{CoverageState, coverage, verify_all};

/// A rule: its line, and a condition on the line below it.
#[derive(Debug, Clone)]
struct Written {
    line: &'static str,
    condition: Option<&'static str>,
}

/// What is changed of one rule.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Edit {
    Remove,
    Permanent,
    Home,
    Unconditional,
}

const LINES: [&str; 10] = [
    "redirect /a -> /about",
    "redirect /a{/x*} -> https://o.example{/x*}",
    "redirect /b/{x} -> /about",
    "redirect /b/{x} -> /a",
    "redirect /{x} -> https://o.example/{x}",
    "gone /b{/x*}",
    "rewrite /c -> /about",
    "fallback /app{/x*} -> /about",
    "missing /app{/x*} -> /about",
    "elsewhere /api{/x*}",
];
const CONDITIONS: [&str; 3] =
    ["  when method is GET\n", "  when cookie beta\n", "  when host is h.example\n"];
const EXPECTATIONS: [&str; 12] = [
    "expect /a goes to /about",
    "expect /a redirects to /about as 302",
    "expect /a/1 redirects to https://o.example/1",
    "expect /b/1 is gone",
    "expect /b/1 goes to /about",
    "expect /b/1 is not missing",
    "expect /c serves /about.html",
    "expect /app/1 serves /about.html",
    "expect /app/1 is missing",
    "expect /api/1 is elsewhere",
    "expect every /b/{x} is not missing",
    "expect every /a/{x} redirects to https://o.example/{x}",
];

fn text(rules: &[Written], edit: Option<(usize, Edit)>, expectations: &[&str]) -> String {
    let mut text = "site https://h.example/\n  alias w.example\n".to_owned();
    for (at, rule) in rules.iter().enumerate() {
        let edit = edit.filter(|(edited, _)| *edited == at).map(|(_, edit)| edit);
        if edit == Some(Edit::Remove) {
            continue;
        }
        let status = if edit == Some(Edit::Permanent) { " 301" } else { "" };
        let line = match (edit, rule.line.split_once(" -> ")) {
            (Some(Edit::Home), Some((pattern, _))) => format!("{pattern} -> /"),
            _ => rule.line.to_owned(),
        };
        text.push_str(&format!("{line}{status}\n"));
        if edit != Some(Edit::Unconditional) {
            text.push_str(rule.condition.unwrap_or_default());
        }
    }
    text + &expectations.join("\n") + "\n"
}

fn edge(text: &str) -> Edge {
    let rules = Rules::parse(text).unwrap_or_else(|problems| panic!("{text}{problems}"));
    Edge::new(&rules, FileList::from_iter(["index.html", "about.html"]))
}

/// The expectations, in order, that hold.
fn holding(edge: &Edge) -> Vec<bool> {
    verify_all(edge).iter().map(|verdict| verdict.holds()).collect()
}

#[test]
fn unnoticed_changes_are_not_noticed_and_the_others_are() {
    let rule = (prop::sample::select(&LINES[..]), prop::option::weighted(0.3, 0..3_usize))
        .prop_map(|(line, at)| Written { line, condition: at.map(|at| CONDITIONS[at]) });
    let sets =
        (prop::collection::vec(rule, 1..5), prop::sample::subsequence(&EXPECTATIONS[..], 1..7));
    let (unnoticed, noticed, uncovered) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let config = ravel_testing::config(300);
    TestRunner::new(config)
        .run(&sets, |(rules, expectations)| {
            let whole = text(&rules, None, &expectations);
            let before = edge(&whole);
            let held = holding(&before);
            let covered = coverage(&before);
            prop_assert_eq!(covered.len(), rules.len());
            for (at, rule) in rules.iter().enumerate() {
                let line = whole.lines().enumerate().filter(|(_, text)| *text == rule.line);
                let same = rules[..at].iter().filter(|other| other.line == rule.line).count();
                let number = line.map(|(number, _)| number as u32 + 1).nth(same).unwrap();
                let one = covered.iter().find(|one| one.line().number() == number).unwrap();
                let mut edits = vec![(Edit::Remove, "be removed")];
                if rule.line.starts_with("redirect") {
                    edits.push((Edit::Permanent, "have the status 301"));
                }
                if rule.line.contains(" -> ") {
                    edits.push((Edit::Home, "have the target `/`"));
                }
                if rule.condition.is_some() {
                    edits.push((Edit::Unconditional, "do without `"));
                }
                for (edit, words) in edits {
                    let after = holding(&edge(&text(&rules, Some((at, edit)), &expectations)));
                    let same = held.iter().zip(&after).all(|(before, after)| !before || *after);
                    let said = one.unnoticed().iter().any(|text| text.starts_with(words));
                    match one.state() {
                        CoverageState::Covered => {
                            prop_assert_eq!(
                                said,
                                same,
                                "{:?} of line {}:\n{}",
                                edit,
                                number,
                                whole
                            );
                            let count = if said { &unnoticed } else { &noticed };
                            count.set(count.get() + 1);
                        }
                        _ if edit == Edit::Remove => {
                            prop_assert!(same, "line {} is exercised:\n{}", number, whole);
                            uncovered.set(uncovered.get() + 1);
                        }
                        _ => {}
                    }
                }
            }
            Ok(())
        })
        .unwrap();
    let counts = (unnoticed.get(), noticed.get(), uncovered.get());
    assert!(
        !ravel_testing::is_whole() || counts.0 > 50 && counts.1 > 50 && counts.2 > 50,
        "the test shows little: {counts:?}"
    );
}
