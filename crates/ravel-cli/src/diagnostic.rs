//! The one look of errors of the rules and of findings: what is wrong, the line, what visitors get,
//! what to write.

use std::borrow::Cow;
use std::io::{self, Write};
use std::ops::Range;

use annotate_snippets::{AnnotationKind, Element, Group, Level, Origin, Renderer, Snippet};
use ravel::rules::Severity;

/// Longer words are cut to this, in characters.
const MAX_WORD: usize = 200;

/// Something wrong, to be shown.
pub(crate) struct Diagnostic<'a> {
    pub(crate) severity: Severity,
    /// The name that `accept` and `--why` know it by.
    pub(crate) name: Option<&'a str>,
    pub(crate) message: String,
    pub(crate) place: Place<'a>,
    pub(crate) notes: Vec<String>,
    pub(crate) help: Option<String>,
}

/// Where it is.
pub(crate) enum Place<'a> {
    File(String),
    Line { path: String, number: u32, line: &'a str, marked: Range<usize> },
}

impl Diagnostic<'_> {
    /// As lines of at most `width` columns, without the last line feed.
    pub(crate) fn render(&self, width: usize) -> String {
        let level = match self.severity {
            Severity::Error => Level::ERROR,
            Severity::Warning => Level::WARNING,
            Severity::Note => Level::NOTE,
        };
        let label = self.severity.as_str().len() + self.name.map_or(0, |name| name.len() + 2);
        let fitted = |text: &str, indent: usize| {
            wrapped(&shortened(text), width.saturating_sub(indent + 2).max(40)).join("\n")
        };
        let title = level.primary_title(fitted(&self.message, label));
        let title = match self.name {
            Some(name) => title.id(name),
            None => title,
        };
        let (place, gutter): (Element<'_>, usize) = match &self.place {
            Place::File(path) => (Origin::path(path.as_str()).into(), 0),
            Place::Line { path, number, line, marked } => {
                let snippet = Snippet::source(*line)
                    .line_start(*number as usize)
                    .path(path.as_str())
                    .annotation(AnnotationKind::Primary.span(marked.clone()));
                (snippet.into(), number.to_string().len())
            }
        };
        let notes = self.notes.iter().map(|note| Level::NOTE.message(fitted(note, gutter + 9)));
        let help = self.help.iter().map(|help| Level::HELP.message(fitted(help, gutter + 9)));
        let report: &[Group<'_>] = &[title.element(place).elements(notes).elements(help)];
        Renderer::styled().term_width(width).render(report)
    }
}

/// A text in lines of some columns, broken between words alone: URLs and paths stay whole.
pub(crate) fn wrapped(text: &str, width: usize) -> Vec<String> {
    folded(text, width, "", "")
}

/// The same behind a text for the first line, and one for each further line.
pub(crate) fn folded(text: &str, width: usize, first: &str, further: &str) -> Vec<String> {
    let options = textwrap::Options::new(width)
        .initial_indent(first)
        .subsequent_indent(further)
        .break_words(false)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, options).into_iter().map(String::from).collect()
}

/// A text whose longest words are cut: nobody reads a word of a megabyte.
fn shortened(text: &str) -> String {
    let word = |word: &str| match word.char_indices().nth(MAX_WORD) {
        Some((end, _)) if word.chars().count() > 2 * MAX_WORD => {
            let last = word.chars().next_back().unwrap_or_default();
            format!("{}…{last} ({} bytes)", &word[..end], word.len())
        }
        _ => word.to_owned(),
    };
    text.split(' ').map(word).collect::<Vec<_>>().join(" ")
}

/// A line with its comment left out of the mark, so that what is marked is what is wrong.
pub(crate) fn whole_line(line: &str, comment: char) -> Range<usize> {
    let line = line.trim_end();
    let start = line.len() - line.trim_start().len();
    let comment = [' ', comment].iter().collect::<String>();
    let end = line.find(&comment).map_or(line.len(), |at| line[..at].trim_end().len());
    start..end.max(start)
}

/// A text whose lines are found at once, however many are asked for.
pub(crate) struct Source<'t> {
    text: Cow<'t, str>,
    /// Where each line begins.
    starts: Vec<usize>,
}

impl<'t> Source<'t> {
    pub(crate) fn new(text: Cow<'t, str>) -> Source<'t> {
        let first = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
        let ends = memchr::memchr_iter(b'\n', text.as_bytes()).map(|at| at + 1);
        let starts = std::iter::once(first).chain(ends).collect();
        Source { text, starts }
    }

    /// A line, from 1, without its end.
    pub(crate) fn line(&self, number: u32) -> &str {
        let at = number.saturating_sub(1) as usize;
        let start = self.starts.get(at).copied().unwrap_or(self.text.len());
        let end = self.starts.get(at + 1).copied().unwrap_or(self.text.len());
        self.text[start..end].trim_end()
    }

    /// The line that a byte is in, without its end, and where it begins.
    pub(crate) fn line_around(&self, byte: usize) -> (&str, usize) {
        let next = self.starts.partition_point(|start| *start <= byte).max(1);
        (self.line(next as u32), self.starts[next - 1])
    }
}

/// Writes a text as wide as the terminal; its further lines begin otherwise.
pub(crate) fn write_folded(
    text: &str,
    first: &str,
    further: &str,
    out: &mut dyn Write,
) -> io::Result<()> {
    folded(text, width(), first, further).iter().try_for_each(|line| writeln!(out, "{line}"))
}

/// The columns of the terminal; where there is none, those of `COLUMNS`, or 100.
pub(crate) fn width() -> usize {
    let terminal = terminal_size::terminal_size().map(|(columns, _)| usize::from(columns.0));
    let named = || std::env::var("COLUMNS").ok()?.parse().ok();
    terminal.or_else(named).unwrap_or(100).clamp(40, 160)
}
