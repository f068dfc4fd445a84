//! Problems of rules files, shown on the lines they stand on.

use std::collections::HashMap;

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use ravel::language::Problems;

/// Every problem with its line, the place marked, and what to write instead; a count at the end.
pub(crate) fn render(problems: &Problems, texts: &HashMap<String, String>) -> String {
    let renderer = Renderer::styled();
    let mut shown = String::new();
    for problem in problems.iter() {
        let source = problems.source(problem.place());
        let text = texts.get(source).map_or("", String::as_str);
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let number = problem.place().line().number().max(1) as usize;
        let line = text.split('\n').nth(number - 1).unwrap_or_default().trim_end();
        let columns = &problem.place().columns();
        let whole = columns.is_empty() && columns.start == 0;
        let start = if whole {
            line.len() - line.trim_start().len()
        } else {
            columns.start.min(line.len())
        };
        let end = if whole { line.len() } else { columns.end.clamp(start, line.len()) };
        let what = problem.kind().to_string();
        let snippet = Snippet::source(line)
            .line_start(number)
            .path(source)
            .annotation(AnnotationKind::Primary.span(start..end));
        let remedy = Level::HELP.message(problem.kind().remedy());
        let report: &[Group<'_>] =
            &[Level::ERROR.primary_title(what).element(snippet).element(remedy)];
        shown.push_str(&renderer.render(report).to_string());
        shown.push_str("\n\n");
    }
    let count = crate::style::count(problems.iter().len(), "problem", "problems");
    shown.push_str(&format!("{count}: nothing is answered until the rules can be read"));
    shown
}
