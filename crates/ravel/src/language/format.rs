//! The canonical form of a rules file.
//!
//! Only white space changes: words, quotes and header values stay as they are written, so that no
//! answer can. Settings stand in a column, and so do the arrows, the outcomes and the comments of
//! lines that follow each other directly, but for those behind very long ones.

use super::place::Line;
use super::{Cursor, LineText, Problem, grammar};

/// The last column, in characters, in which arrows and outcomes stand.
const MAX_COLUMN: usize = 60;
/// The same for comments.
const MAX_COMMENT_COLUMN: usize = 100;

/// A line on its way to its canonical form.
enum Shape {
    Blank,
    Comment { indented: bool, text: String },
    Code(Code),
}

struct Code {
    indented: bool,
    /// The words, up to an arrow or an outcome; of a setting, its name.
    left: String,
    /// What follows in a column of its own: `-> TARGET …`, what is expected, or a setting's
    /// value.
    right: Option<String>,
    column: Column,
    comment: Option<String>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Column {
    None,
    Arrow,
    Outcome,
    Setting,
}

/// Brings a rules file to its canonical form. Formatting twice is formatting once.
///
/// # Errors
/// The lines that cannot be cut into words.
///
/// ```
/// let text = ravel::language::format("site   https://h.example/\nredirect /a->/b\nredirect  /c  ->  /d\n").unwrap();
/// assert!(text.contains("redirect /c"));
/// ```
pub fn format(text: &str) -> Result<String, Vec<Problem>> {
    let mut problems = Vec::new();
    let mut shapes = Vec::new();
    let mut statement = "";
    for (number, text) in (1..).zip(text.strip_prefix('\u{feff}').unwrap_or(text).split('\n')) {
        let text = text.trim_end();
        let content = text.trim_start();
        let indented = content.len() < text.len();
        if content.is_empty() {
            shapes.push(Shape::Blank);
        } else if content.starts_with('#') {
            shapes.push(Shape::Comment { indented, text: content.to_owned() });
        } else {
            if !indented {
                statement = content.split_whitespace().next().unwrap_or_default();
            }
            match code(statement, LineText { line: Line::new(0, number), text }) {
                Ok(code) => shapes.push(Shape::Code(code)),
                Err(problem) => problems.push(problem),
            }
        }
    }
    if !problems.is_empty() {
        return Err(problems);
    }
    align(&mut shapes);
    Ok(print(&shapes))
}

/// Cuts a line of code at its arrow and at its comment.
fn code(statement: &str, line: LineText<'_>) -> Result<Code, Problem> {
    let indented = line.is_indented();
    let forms = grammar::lines_of(statement, indented);
    let mut cursor = Cursor::new(line);
    let mut words: Vec<String> = Vec::new();
    let mut arrow = None;
    loop {
        let before = words.len();
        if forms.iter().any(|form| form.begins_list(&words)) {
            let list = cursor.list("")?.into_iter().map(|word| line.text[word.columns].to_owned());
            words.push(list.collect::<Vec<_>>().join(", "));
        } else if forms.iter().any(|form| form.begins_value(&words)) {
            words.push(cursor.take_rest().text.into_owned());
        } else if let Some(word) = cursor.word()? {
            if word.text == "->" && arrow.is_none() {
                arrow = Some(before);
            }
            words.push(line.text[word.columns].to_owned());
        }
        if words.len() == before {
            break;
        }
    }
    let comment = (!cursor.rest().is_empty()).then(|| cursor.rest().to_owned());
    let setting = grammar::has_settings(statement) && indented && words.len() > 1;
    let (cut, column) = match arrow {
        _ if setting => (1, Column::Setting),
        Some(at) if at > 0 => (at, Column::Arrow),
        None if statement == "expect" && !indented => {
            let address = if words.get(1).is_some_and(|word| !word.contains('/')) { 2 } else { 1 };
            ((address + 1).min(words.len()), Column::Outcome)
        }
        _ => (words.len(), Column::None),
    };
    let right = (cut < words.len()).then(|| words[cut..].join(" "));
    Ok(Code { indented, left: words[..cut].join(" "), right, column, comment })
}

fn align(shapes: &mut [Shape]) {
    // Settings of one statement stand in one column, whatever stands between them.
    let begins = |shape: &Shape| matches!(shape, Shape::Code(code) if !code.indented);
    for statement in shapes.chunk_by_mut(|_, next| !begins(next)) {
        let mut settings: Vec<&mut String> = statement.iter_mut().filter_map(setting).collect();
        let widest = settings.iter().map(|name| name.chars().count()).max().unwrap_or(0);
        settings.iter_mut().for_each(|name| pad(name, widest));
    }
    let in_column = |code: &Code| match (code.column, &code.right) {
        (Column::Arrow | Column::Outcome, Some(_)) => Some((code.column, code.indented)),
        _ => None,
    };
    runs(shapes, in_column, |run| stand_in_column(run, MAX_COLUMN));
    for shape in shapes.iter_mut() {
        let Shape::Code(code) = shape else { continue };
        if let Some(right) = code.right.take() {
            code.left = format!("{} {right}", code.left);
        }
    }
    runs(
        shapes,
        |code| code.comment.is_some().then_some(code.indented),
        |run| stand_in_column(run, MAX_COMMENT_COLUMN),
    );
}

/// What is longer than `most` stands out, and moves no other line.
fn stand_in_column(run: &mut [&mut Code], most: usize) {
    let widths = run.iter().map(|code| code.left.chars().count());
    let widest = widths.filter(|width| *width <= most).max().unwrap_or(0);
    run.iter_mut().for_each(|code| pad(&mut code.left, widest));
}

/// Calls `each` with the longest rows of neighbouring lines that `class` puts in one class.
fn runs<C: PartialEq + Copy>(
    shapes: &mut [Shape],
    class: impl Fn(&Code) -> Option<C>,
    mut each: impl FnMut(&mut [&mut Code]),
) {
    let mut run: Vec<&mut Code> = Vec::new();
    let mut current = None;
    for shape in shapes {
        let code = match shape {
            Shape::Code(code) => Some(code),
            _ => None,
        };
        let next = code.as_deref().and_then(&class);
        if next != current {
            each(&mut run);
            run.clear();
            current = next;
        }
        run.extend(code.filter(|_| next.is_some()));
    }
    each(&mut run);
}

/// The name of a setting.
fn setting(shape: &mut Shape) -> Option<&mut String> {
    match shape {
        Shape::Code(code) if code.column == Column::Setting => Some(&mut code.left),
        _ => None,
    }
}

fn pad(text: &mut String, width: usize) {
    let missing = width.saturating_sub(text.chars().count());
    text.extend(std::iter::repeat_n(' ', missing));
}

/// One blank line at most, none at the start and at the end.
fn print(shapes: &[Shape]) -> String {
    let mut out = String::new();
    let mut blank = false;
    for shape in shapes {
        let (indented, text, comment) = match shape {
            Shape::Blank => {
                blank = !out.is_empty();
                continue;
            }
            Shape::Comment { indented, text } => (*indented, text, None),
            Shape::Code(code) => (code.indented, &code.left, code.comment.as_deref()),
        };
        if std::mem::take(&mut blank) {
            out.push('\n');
        }
        out.push_str(if indented { "  " } else { "" });
        out.push_str(text);
        if let Some(comment) = comment {
            out.push_str("  ");
            out.push_str(comment);
        }
        out.push('\n');
    }
    out
}
