//! The results as JUnit XML.

use std::path::Path;

use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};
use ravel::expect::Failure as Mismatch;
use ravel::language::Problems;
use ravel_serve::LiveVerdict;

use crate::Failure;
use crate::load::{LoadedSite, from_here};

/// The result of each expectation.
pub(super) fn of(
    loaded: &LoadedSite,
    outcomes: &[LiveVerdict],
    live: bool,
) -> Result<String, Failure> {
    let mut suite =
        TestSuite::new(if live { "expectations of the live site" } else { "expectations" });
    for outcome in outcomes {
        let status = if let Some(why) = outcome.not_asked() {
            let mut status = TestCaseStatus::skipped();
            status.set_message(why);
            status
        } else if outcome.verdict().holds() {
            TestCaseStatus::success()
        } else {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
            let part = |failure: &Mismatch| {
                format!("expected {}\ngot      {}", failure.expected(), failure.got())
            };
            let mut text =
                outcome.verdict().failures().iter().map(part).collect::<Vec<_>>().join("\n");
            if let Some(line) = outcome.verdict().decided() {
                text.push_str(&format!("\nby       {}", loaded.name(line)));
            }
            if let Some((says, why)) = outcome.rules() {
                text.push_str(&format!("\nrules    {says}; {why}"));
            }
            status
                .set_message(format!(
                    "{} at {}",
                    outcome.verdict().asked(),
                    loaded.name(outcome.verdict().line())
                ))
                .set_description(text);
            status
        };
        let mut case = TestCase::new(
            format!("{} {}", loaded.name(outcome.verdict().line()), outcome.verdict().asked()),
            status,
        );
        case.set_classname(loaded.source(outcome.verdict().line()));
        place(&mut case, &loaded.path_here(loaded.source(outcome.verdict().line())));
        suite.add_test_case(case);
    }
    written(suite)
}

/// The errors of rules that cannot be read, each a test that failed.
pub(super) fn of_unreadable(rules: &Path, problems: &Problems) -> Result<String, Failure> {
    let folder = rules.parent().unwrap_or(Path::new(""));
    let mut suite = TestSuite::new("rules");
    for problem in problems.iter() {
        let source = problems.source(problem.place());
        let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
        status.set_message(problem.kind().to_string()).set_description(problem.kind().remedy());
        let line = problem.place().line().number().max(1);
        let mut case = TestCase::new(format!("{source}:{line}"), status);
        case.set_classname(source);
        place(&mut case, &from_here(folder, source));
        suite.add_test_case(case);
    }
    written(suite)
}

/// Names the file of a test from the current folder.
fn place(case: &mut TestCase, file: &str) {
    case.extra.insert("file".into(), file.into());
}

fn written(suite: TestSuite) -> Result<String, Failure> {
    let mut report = Report::new("ravel test");
    report.add_test_suite(suite);
    let text = report.to_string();
    text.map_err(|error| Failure::Message(format!("cannot write JUnit: {error}")))
}
