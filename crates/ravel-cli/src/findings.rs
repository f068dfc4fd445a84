//! Findings, shown where they are.

use std::io::{self, Write};

use ravel::finding::{Finding, FindingPlace};
use ravel::language::Line;
use ravel::rules::Severity;

use crate::load::LoadedSite;
use crate::style::{BAD, FAINT, NOTE, STRONG, in_style};

/// Findings below the files they are in.
pub(crate) fn print(
    loaded: &LoadedSite,
    findings: &[Finding],
    out: &mut dyn Write,
) -> io::Result<()> {
    let mut file = String::new();
    for finding in findings {
        let here = finding.place().file(loaded.rules());
        if here != file {
            writeln!(out, "{}", in_style(STRONG, &here))?;
            file = here;
        }
        print_finding(loaded, finding, out)?;
    }
    Ok(())
}

fn print_finding(loaded: &LoadedSite, finding: &Finding, out: &mut dyn Write) -> io::Result<()> {
    let (style, weight) =
        (weight_style(finding.code().severity()), finding.code().severity().as_str());
    writeln!(
        out,
        "  {} {}",
        in_style(style, format_args!("{weight} {}", finding.code())),
        finding.what()
    )?;
    match finding.place() {
        FindingPlace::Line(line) => excerpt(loaded, *line, out)?,
        FindingPlace::File { name, at: Some((number, range)) } => {
            let text = loaded.bytes(name).unwrap_or_default();
            let text = String::from_utf8_lossy(&text);
            let start = text
                .get(..range.start)
                .map_or(0, |before| before.rfind('\n').map_or(0, |at| at + 1));
            let line = text.get(start..).unwrap_or_default().lines().next().unwrap_or_default();
            let from = range.start - start;
            marked(*number, line, from..(range.end - start).min(line.len()).max(from), out)?;
        }
        FindingPlace::Named { name, number: Some(number), .. } => {
            let text = match loaded.texts().get(&**name) {
                Some(text) => text.clone(),
                None => {
                    String::from_utf8_lossy(&loaded.named(name).unwrap_or_default()).into_owned()
                }
            };
            whole_line(&text, *number, ';', out)?;
        }
        _ => {}
    }
    for (label, text) in [("visitors", &finding.visitor()), ("instead", &finding.instead())] {
        if let Some(text) = text {
            writeln!(out, "       {}  {text}", in_style(FAINT, format_args!("{label:<8}")))?;
        }
    }
    writeln!(out)
}

/// A line of the rules, marked as a whole.
pub(crate) fn excerpt(loaded: &LoadedSite, line: Line, out: &mut dyn Write) -> io::Result<()> {
    let text = loaded
        .texts()
        .get(loaded.source(line))
        .map_or("", String::as_str)
        .trim_start_matches('\u{feff}');
    whole_line(text, line.number(), '#', out)
}

/// A line of a text, marked up to its comment.
fn whole_line(text: &str, number: u32, comment: char, out: &mut dyn Write) -> io::Result<()> {
    let line =
        text.split('\n').nth(number.saturating_sub(1) as usize).unwrap_or_default().trim_end();
    let start = line.len() - line.trim_start().len();
    let end = line
        .find(&[' ', comment].iter().collect::<String>())
        .map_or(line.len(), |at| line[..at].trim_end().len())
        .max(start);
    marked(number, line, start..end, out)
}

/// The widest line that is shown whole, in characters.
const MAX_WIDTH: usize = 110;

/// A line with its number, and a piece of it underlined; of a long line what stands around the
/// piece.
fn marked(
    number: u32,
    line: &str,
    piece: std::ops::Range<usize>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let boundary = |mut at: usize| {
        while !line.is_char_boundary(at) {
            at -= 1;
        }
        at
    };
    let (start, end) = (boundary(piece.start.min(line.len())), boundary(piece.end.min(line.len())));
    let indent = line.len() - line.trim_start().len();
    let from = if line.len() > MAX_WIDTH {
        boundary(start.saturating_sub(30)).max(indent.min(start))
    } else {
        indent.min(start)
    };
    let shown: String = line[from..].chars().take(MAX_WIDTH).collect();
    let before = line[from..start].chars().count();
    let len = line[start..end].chars().count().clamp(1, MAX_WIDTH.saturating_sub(before).max(1));
    writeln!(out, "  {} {}", in_style(FAINT, format_args!("{number:>4}")), shown)?;
    writeln!(out, "       {}{}", " ".repeat(before), in_style(NOTE, "‾".repeat(len)))
}

pub(crate) fn weight_style(weight: Severity) -> anstyle::Style {
    match weight {
        Severity::Problem => BAD.bold(),
        Severity::Advice => NOTE.bold(),
    }
}
