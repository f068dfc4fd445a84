//! Errors of rules files, shown on their lines.

use std::collections::HashMap;
use std::io::{self, Write};

use ravel::language::{Problem, Problems};
use ravel::rules::Severity;
use serde::Serialize;
use serde_json::json;

use crate::diagnostic::{Diagnostic, Place, Source, whole_line, width};
use crate::style::count;

/// Every error with its line, the place marked, and what to write instead; a count at the end.
pub(crate) fn render(problems: &Problems, texts: &HashMap<String, String>) -> String {
    let width = width();
    let texts: HashMap<&str, Source<'_>> =
        texts.iter().map(|(name, text)| (&**name, Source::new(text.into()))).collect();
    let shown: Vec<String> = problems
        .iter()
        .map(|problem| diagnostic(problem, problems, &texts).render(width) + "\n\n")
        .collect();
    let count = count(shown.len(), "error", "errors");
    format!("{}{count}: the rules cannot be used until they can be read", shown.concat())
}

fn diagnostic<'a>(
    problem: &Problem,
    problems: &Problems,
    texts: &'a HashMap<&str, Source<'a>>,
) -> Diagnostic<'a> {
    let source = problems.source(problem.place());
    let number = problem.place().line().number().max(1);
    let line = texts.get(source).map_or("", |source| source.line(number));
    let columns = problem.place().columns();
    let marked = match columns.is_empty() && columns.start == 0 {
        true => whole_line(line, '#'),
        false => {
            let start = columns.start.min(line.len());
            start..columns.end.clamp(start, line.len())
        }
    };
    Diagnostic {
        severity: Severity::Error,
        name: None,
        message: problem.kind().to_string(),
        place: Place::Line { path: source.to_owned(), number, line, marked },
        notes: Vec::new(),
        help: Some(problem.kind().remedy()),
    }
}

#[derive(Serialize)]
struct ProblemData<'a> {
    severity: &'a str,
    source: &'a str,
    line: u32,
    column: usize,
    message: String,
    help: String,
}

/// Every error as data.
fn data(problems: &Problems) -> Vec<ProblemData<'_>> {
    let one = |problem: &Problem| ProblemData {
        severity: Severity::Error.as_str(),
        source: problems.source(problem.place()),
        line: problem.place().line().number().max(1),
        column: problem.place().columns().start + 1,
        message: problem.kind().to_string(),
        help: problem.kind().remedy(),
    };
    problems.iter().map(one).collect()
}

/// What a command that prints data prints where the rules cannot be read.
pub(crate) fn print_json(problems: &Problems, out: &mut dyn Write) -> io::Result<()> {
    let list = data(problems);
    serde_json::to_writer_pretty(&mut *out, &json!({ "errors": list.len(), "unreadable": list }))?;
    writeln!(out)
}
