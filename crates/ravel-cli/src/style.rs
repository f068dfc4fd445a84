//! How output is coloured; the stream takes the colours out where there is no terminal.

use std::fmt;

use anstyle::{AnsiColor, Style};
use ravel::Outcome;

pub(crate) const ERROR: Style = AnsiColor::Red.on_default().bold();
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
pub(crate) const BAD: Style = AnsiColor::Red.on_default();
pub(crate) const NOTE: Style = AnsiColor::Yellow.on_default();
pub(crate) const STRONG: Style = Style::new().bold();
pub(crate) const FAINT: Style = Style::new().dimmed();

/// The colour of an outcome.
pub(crate) fn outcome(outcome: Outcome) -> Style {
    let colour = match outcome {
        Outcome::File => AnsiColor::Green,
        Outcome::Redirect => AnsiColor::Blue,
        Outcome::Elsewhere => AnsiColor::Magenta,
        Outcome::Gone | Outcome::Missing | Outcome::Outside => AnsiColor::Yellow,
        _ => AnsiColor::Red,
    };
    colour.on_default().bold()
}

/// A text in a style.
pub(crate) fn in_style(style: Style, text: impl fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// A number of things in words.
pub(crate) fn count(number: usize, one: &str, many: &str) -> String {
    match number {
        1 => format!("1 {one}"),
        _ => format!("{number} {many}"),
    }
}

/// A text of so many characters at most, with a mark where it was cut.
pub(crate) fn cut(text: &str, most: usize) -> String {
    match text.char_indices().nth(most.saturating_sub(1)) {
        Some((at, c)) if at + c.len_utf8() < text.len() => format!("{}…", &text[..at]),
        _ => text.to_owned(),
    }
}
