//! Lines and blocks: the form of a rules file before it is known what its words mean.

use std::iter::Peekable;

use super::{Line, Problem, ProblemKind};

/// A line that is neither blank nor a comment.
#[derive(Debug, Clone, Copy)]
pub(crate) struct LineText<'t> {
    pub(crate) line: Line,
    /// Without its end and the white space before that; with its indentation.
    pub(crate) text: &'t str,
}

impl LineText<'_> {
    pub(crate) fn is_indented(&self) -> bool {
        self.text.starts_with([' ', '\t'])
    }
}

/// A line in the first column with the indented lines that belong to it.
#[derive(Debug)]
pub(crate) struct Statement<'t> {
    pub(crate) head: LineText<'t>,
    pub(crate) body: Vec<LineText<'t>>,
}

/// Cuts a file into statements. Indented lines before the first statement are problems.
pub(crate) fn statements<'t>(
    source: u16,
    text: &'t str,
    problems: &mut Vec<Problem>,
) -> Vec<Statement<'t>> {
    let mut lines = lines(source, text).peekable();
    while let Some(stray) = lines.next_if(LineText::is_indented) {
        let indent = stray.text.len() - stray.text.trim_start().len();
        problems.push(Problem::new(stray.line.at(indent..stray.text.len()), ProblemKind::Stray));
    }
    std::iter::from_fn(|| next_statement(&mut lines)).collect()
}

fn next_statement<'t>(
    lines: &mut Peekable<impl Iterator<Item = LineText<'t>>>,
) -> Option<Statement<'t>> {
    let head = lines.next()?;
    let body = std::iter::from_fn(|| lines.next_if(LineText::is_indented)).collect();
    Some(Statement { head, body })
}

fn lines(source: u16, text: &str) -> impl Iterator<Item = LineText<'_>> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    text.split('\n').zip(1..).filter_map(move |(text, number)| {
        let text = text.trim_end();
        let content = text.trim_start();
        (!content.is_empty() && !content.starts_with('#'))
            .then_some(LineText { line: Line::new(source, number), text })
    })
}
