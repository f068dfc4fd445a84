//! `accept`: it keeps quiet what it names, at its statement, and nothing else; one that is about
//! nothing is found.

use std::collections::BTreeSet;

use proptest::prelude::*;
use ravel::finding::{Finding, FindingPlace};
use ravel::rules::Code;
use ravel::{Edge, FileList, Rules};
use ravel_check::Audit;

const SITE: &str = "site https://h.example/\n";

/// Statements with what is found on them, each on paths of its own.
const STATEMENTS: [(&str, &[&str]); 6] = [
    ("redirect /one -> /a\nredirect /one -> /b\n", &["unreachable-rule"]),
    ("redirect /two/{x} -> /a\n", &["unused-capture"]),
    ("redirect /three -> /nowhere\n", &["redirect-to-missing"]),
    ("headers /four\n  set x-a: 1\n", &["unused-headers"]),
    ("fallback /five{/x*} -> /nothing\n", &["missing-file"]),
    ("redirect /six -> /a\n", &[]),
];

/// The findings of some codes, each with its line.
fn findings(text: &str) -> (BTreeSet<(u32, Code)>, usize) {
    let rules = Rules::parse(text).unwrap_or_else(|problems| panic!("{text}\n{problems}"));
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "b.html"]));
    let audit = Audit::new(&edge);
    let report = audit.report(audit.rules());
    let line = |finding: &Finding| match &finding.place() {
        FindingPlace::Line(line) => line.number(),
        place => panic!("of rules is said where they are written: {place:?}"),
    };
    let found = report.findings().iter().map(|finding| (line(finding), finding.code()));
    (found.collect(), report.accepted())
}

proptest! {
    #![proptest_config(ravel_testing::config(300))]

    #[test]
    fn an_accept_is_about_its_statement_alone(
        order in Just(STATEMENTS.to_vec()).prop_shuffle(), accepted in prop::collection::vec(any::<bool>(), 6),
    ) {
        let plain: String = order.iter().map(|(text, _)| *text).collect();
        let (before, none) = findings(&format!("{SITE}{plain}"));
        prop_assert_eq!(none, 0);

        // The same statements, some with all that is found on them accepted: lines move down.
        let (mut text, mut expected, mut count) = (SITE.to_owned(), BTreeSet::new(), 0);
        let mut number = 1;
        for ((statement, _), accepts) in order.iter().zip(accepted) {
            for line in statement.lines() {
                number += 1;
                text.push_str(&format!("{line}\n"));
                let now = text.lines().count() as u32;
                for (_, code) in before.iter().filter(|(line, _)| *line == number) {
                    if accepts {
                        text.push_str(&format!("  accept {code} \"meant so\"\n"));
                        count += 1;
                    } else {
                        expected.insert((now, *code));
                    }
                }
            }
        }
        let (after, accepted) = findings(&text);
        prop_assert_eq!(accepted, count, "{}", text);
        prop_assert_eq!(after, expected, "{}", text);
    }
}

#[test]
fn each_statement_has_its_finding() {
    for (statement, codes) in STATEMENTS {
        let (found, _) = findings(&format!("{SITE}{statement}"));
        let found: BTreeSet<&str> = found.iter().map(|(_, code)| code.name()).collect();
        for code in codes {
            assert!(found.contains(code), "{statement} has {found:?}, not {code}");
        }
    }
}

#[test]
fn an_accept_that_is_about_nothing_is_found() {
    let (found, accepted) =
        findings(&format!("{SITE}redirect /six -> /a\n  accept unreachable-rule \"was so\"\n"));
    let names: Vec<(u32, &str)> = found.iter().map(|(line, code)| (*line, code.name())).collect();
    assert!(names.contains(&(3, "unused-accept")), "{names:?}");
    assert_eq!(accepted, 0);
}
