//! The results as JUnit XML.

use std::io;

use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};
use ravel::expect::Failure as Mismatch;
use ravel::language::Problems;
use ravel_serve::LiveVerdict;

use crate::Failure;
use crate::load::LoadedSite;

/// One test: what it is called, where it is written, and how it ended.
struct TestCase {
    name: String,
    source: String,
    /// The file, from the current folder.
    file: String,
    end: TestEnd,
}

enum TestEnd {
    Passed,
    Skipped {
        message: String,
    },
    Failed {
        message: String,
        text: String,
    },
    /// It could not be run.
    Error {
        message: String,
        text: String,
    },
}

/// The result of each expectation.
pub(super) fn of(
    loaded: &LoadedSite,
    outcomes: &[LiveVerdict],
    live: bool,
) -> Result<String, Failure> {
    let case = |outcome: &LiveVerdict| {
        let line = outcome.verdict().line();
        let end = if let Some(why) = outcome.not_asked() {
            TestEnd::Skipped { message: why.to_owned() }
        } else if outcome.verdict().holds() {
            TestEnd::Passed
        } else {
            let message = format!("{} at {}", outcome.verdict().asked(), loaded.name(line));
            TestEnd::Failed { message, text: mismatches(loaded, outcome) }
        };
        TestCase {
            name: format!("{} {}", loaded.name(line), outcome.verdict().asked()),
            source: loaded.source(line).to_owned(),
            file: loaded.source(line).to_owned(),
            end,
        }
    };
    let name = if live { "expectations of the live site" } else { "expectations" };
    written(name, &outcomes.iter().map(case).collect::<Vec<_>>())
}

/// What was expected, what was answered instead, and by which line.
fn mismatches(loaded: &LoadedSite, outcome: &LiveVerdict) -> String {
    let part =
        |failure: &Mismatch| format!("expected {}\ngot      {}", failure.expected(), failure.got());
    let mut text = outcome.verdict().failures().iter().map(part).collect::<Vec<_>>().join("\n");
    if let Some(line) = outcome.verdict().decided() {
        text.push_str(&format!("\nby       {}", loaded.name(line)));
    }
    if let Some((says, why)) = outcome.rules() {
        text.push_str(&format!("\nrules    {says}; {why}"));
    }
    text
}

/// The errors of rules that cannot be read, each a test that failed.
pub(super) fn of_unreadable(problems: &Problems) -> Result<String, Failure> {
    let case = |problem: &ravel::language::Problem| {
        let source = problems.source(problem.place());
        let line = problem.place().line().number().max(1);
        TestCase {
            name: format!("{source}:{line}"),
            source: source.to_owned(),
            file: source.to_owned(),
            end: TestEnd::Error {
                message: problem.kind().to_string(),
                text: problem.kind().remedy(),
            },
        }
    };
    written("rules", &problems.iter().map(case).collect::<Vec<_>>())
}

fn written(suite: &str, cases: &[TestCase]) -> Result<String, Failure> {
    let mut writer = Writer::new_with_indent(Vec::new(), b' ', 4);
    write_suites(&mut writer, suite, cases)
        .map_err(|error| Failure::Message(format!("cannot write JUnit: {error}")))?;
    let mut text = String::from_utf8_lossy(&writer.into_inner()).into_owned();
    text.push('\n');
    Ok(text)
}

fn write_suites(writer: &mut Writer<Vec<u8>>, suite: &str, cases: &[TestCase]) -> io::Result<()> {
    let count =
        |is: fn(&TestEnd) -> bool| cases.iter().filter(|case| is(&case.end)).count().to_string();
    let counts = [
        ("tests", cases.len().to_string()),
        ("skipped", count(|end| matches!(end, TestEnd::Skipped { .. }))),
        ("failures", count(|end| matches!(end, TestEnd::Failed { .. }))),
        ("errors", count(|end| matches!(end, TestEnd::Error { .. }))),
    ];
    let counts = || counts.iter().map(|(name, count)| (*name, count.as_str()));
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let suites = writer.create_element("testsuites").with_attribute(("name", "ravel test"));
    suites.with_attributes(counts()).write_inner_content(|writer| {
        let suite = writer.create_element("testsuite").with_attribute(("name", suite));
        suite.with_attributes(counts()).write_inner_content(|writer| {
            cases.iter().try_for_each(|case| write_case(writer, case))
        })?;
        Ok(())
    })?;
    Ok(())
}

fn write_case(writer: &mut Writer<Vec<u8>>, case: &TestCase) -> io::Result<()> {
    let (name, source, file) = (xml(&case.name), xml(&case.source), xml(&case.file));
    let element = writer.create_element("testcase").with_attributes([
        ("name", &*name),
        ("classname", &*source),
        ("file", &*file),
    ]);
    let (kind, message, text) = match &case.end {
        TestEnd::Passed => return element.write_empty().map(drop),
        TestEnd::Skipped { message } => ("skipped", message, None),
        TestEnd::Failed { message, text } => ("failure", message, Some(text)),
        TestEnd::Error { message, text } => ("error", message, Some(text)),
    };
    element.write_inner_content(|writer| {
        let message = xml(message);
        let end = writer.create_element(kind).with_attribute(("message", &*message));
        match text {
            Some(text) => end.write_text_content(BytesText::new(&xml(text)))?,
            None => end.write_empty()?,
        };
        Ok(())
    })?;
    Ok(())
}

/// A text without the characters that XML cannot hold (XML 1.0, section 2.2).
fn xml(text: &str) -> String {
    let is_char = |one: char| !one.is_control() || matches!(one, '\t' | '\n' | '\r');
    let is_char = |one: char| is_char(one) && !matches!(one, '\u{fffe}' | '\u{ffff}');
    text.chars().map(|one| if is_char(one) { one } else { '\u{fffd}' }).collect()
}
