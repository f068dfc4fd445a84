//! Records in a table.

use std::io::{self, Write};

use anstyle::Style;
use ravel_dns::{Action, Certificate, Plan, RecordValue};

use crate::diagnostic::write_folded;
use crate::style::{self, BAD, FAINT, GOOD, NOTE, STRONG, in_style};

/// A cell: its text, and how it is drawn.
pub(super) type Cell = (Style, String);

/// Wider texts are cut, in characters.
const MAX_WIDTH: usize = 44;

pub(super) fn print(plan: &Plan<'_>, out: &mut dyn Write) -> io::Result<()> {
    let path = plan.domain().zone().map_or("", |file| file.path());
    let origin = in_style(STRONG, plan.zone().origin());
    write_folded(&format!("{origin}  {path}, serial {}", plan.zone().serial()), "", "    ", out)?;
    writeln!(out)?;
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut last = "";
    for row in plan.rows() {
        let host = if row.host() == last { String::new() } else { row.host().to_owned() };
        last = row.host();
        let plain = Style::new();
        rows.push(vec![
            (STRONG, host),
            (plain, row.kind().to_string()),
            (plain, held(row.there())),
            match row.action() {
                Action::Keep => (FAINT, "the same".to_owned()),
                _ => (plain, held(row.needed())),
            },
            (style(row.action()), row.action().name().to_owned()),
            (FAINT, row.note().unwrap_or_default().to_owned()),
        ]);
    }
    columns(&["host", "type", "current, TTL", "needed, TTL", "to do", ""], &rows, out)
}

pub(super) fn print_certificate(certificate: &Certificate, out: &mut dyn Write) -> io::Result<()> {
    let (from, until) = certificate.validity();
    writeln!(out, "\ncertificate for {}", certificate.hosts().join(", "))?;
    writeln!(
        out,
        "{}",
        in_style(
            FAINT,
            format_args!(
                "  valid from {} to {}, by {}",
                from.date(),
                until.date(),
                certificate.issuer()
            )
        )
    )
}

fn style(action: Action) -> Style {
    match action {
        Action::Keep => GOOD,
        Action::Add | Action::Change | Action::Unseen => NOTE,
        _ => BAD,
    }
}

fn held(held: Option<&RecordValue>) -> String {
    let Some(held) = held else { return "–".to_owned() };
    match held.ttl() {
        None => held.data().to_owned(),
        Some(ttl) => format!("{}  {}", cut(held.data()), duration(i64::from(ttl))),
    }
}

/// The start of a long text.
pub(super) fn cut(text: &str) -> String {
    style::cut(text, MAX_WIDTH)
}

/// Seconds as people say them: the two largest units.
pub(crate) fn duration(seconds: i64) -> String {
    const UNITS: [(i64, &str); 4] = [(86_400, "d"), (3_600, "h"), (60, "min"), (1, "s")];
    let mut rest = seconds.abs();
    let mut parts: Vec<String> = Vec::new();
    for (unit, name) in UNITS {
        let number = rest / unit;
        rest %= unit;
        if number > 0 && parts.len() < 2 {
            parts.push(format!("{number} {name}"));
        }
    }
    if parts.is_empty() { "0 s".to_owned() } else { parts.join(" ") }
}

/// Prints rows in columns; the last column is as wide as it likes. Where they are wider than the
/// terminal, each row is folded: its first two cells, and the others below them with their titles.
pub(super) fn columns(head: &[&str], rows: &[Vec<Cell>], out: &mut dyn Write) -> io::Result<()> {
    let width = |at: usize| {
        let cells = rows.iter().filter_map(|row| row.get(at)).map(|(_, text)| text.chars().count());
        cells.max().unwrap_or(0).max(head.get(at).map_or(0, |text| text.chars().count()))
    };
    let widths: Vec<usize> = (0..head.len()).map(width).collect();
    if widths.iter().map(|width| width + 2).sum::<usize>() > crate::diagnostic::width() + 2 {
        return folded(head, rows, out);
    }
    let mut line = |cells: &mut dyn Iterator<Item = (Style, &str)>| {
        let mut text = String::new();
        let mut pending = 0;
        for (at, (style, cell)) in cells.enumerate() {
            text.push_str(&" ".repeat(pending));
            if !cell.is_empty() {
                text.push_str(&in_style(style, cell));
            }
            pending = widths[at].saturating_sub(cell.chars().count()) + 2;
        }
        writeln!(out, "{}", text.trim_end())
    };
    line(&mut head.iter().map(|text| (FAINT, *text)))?;
    for row in rows {
        line(&mut row.iter().map(|(style, text)| (*style, text.as_str())))?;
    }
    Ok(())
}

fn folded(head: &[&str], rows: &[Vec<Cell>], out: &mut dyn Write) -> io::Result<()> {
    let titles = head.iter().skip(2).map(|title| title.chars().count()).max().unwrap_or(0);
    for row in rows {
        let first = row.iter().take(2).filter(|(_, text)| !text.is_empty());
        let first: Vec<String> = first.map(|(style, text)| in_style(*style, text)).collect();
        writeln!(out, "{}", first.join("  "))?;
        for ((style, text), title) in row.iter().zip(head).skip(2) {
            if !text.is_empty() {
                let title = in_style(FAINT, format_args!("{title:titles$}"));
                writeln!(out, "  {title}  {}", in_style(*style, text))?;
            }
        }
    }
    Ok(())
}

/// A distance from the cut-over.
pub(super) fn signed(seconds: i64) -> String {
    match seconds {
        0 => "0".to_owned(),
        seconds if seconds > 0 => format!("+{}", duration(seconds)),
        seconds => format!("−{}", duration(seconds)),
    }
}
