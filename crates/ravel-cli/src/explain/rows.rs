//! The lines of an explanation, in columns.

use std::io::{self, Write};

use anstyle::Style;

use crate::diagnostic::{folded, width};
use crate::style::{FAINT, STRONG, in_style};

/// A line of an explanation.
pub(super) struct Row {
    pub(super) place: String,
    pub(super) what: String,
    pub(super) came: String,
    pub(super) decides: bool,
}

/// Rows in columns, as wide as the terminal; a text that is far longer than the others does not
/// push them aside.
pub(super) fn print_rows(rows: &[Row], places: usize, out: &mut dyn Write) -> io::Result<()> {
    const MAX_WIDTH: usize = 56;
    // A text is not folded into less.
    const MIN_WIDTH: usize = 24;
    let whats = rows.iter().map(|row| row.what.chars().count().min(MAX_WIDTH)).max().unwrap_or(0);
    let room = width().saturating_sub(places + 6).max(40);
    for Row { place, what, came, decides } in rows {
        let style = if *decides { STRONG } else { Style::new() };
        let left = room.saturating_sub(whats + 2);
        let fits = left >= MIN_WIDTH.min(came.chars().count());
        let column = " ".repeat(if fits { whats + 2 } else { 2 });
        let lines = match fits && what.chars().count() <= whats && !came.is_empty() {
            true => folded(came, room, &format!("{what:whats$}  "), &column),
            false => {
                let mut lines = folded(what, room, "", "  ");
                if !came.is_empty() {
                    lines.extend(folded(came, room, &column, &column));
                }
                lines
            }
        };
        for (number, line) in lines.iter().enumerate() {
            let place = if number == 0 { place } else { "" };
            let place = in_style(FAINT, format_args!("{place:places$}"));
            writeln!(out, "    {place}  {}", in_style(style, line.trim_end()))?;
        }
    }
    Ok(())
}
