//! What a finding's help says to write, as changes of texts.

use std::ops::Range;

use crate::language::Line;
use crate::rules::Rules;

/// A change of a file that a finding's help asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Edit {
    /// In a built file, this text instead of these bytes.
    InFile {
        /// The file's name, from the root of the folder.
        name: Box<str>,
        /// The bytes, within the whole file.
        range: Range<usize>,
        /// What is written there, as the file spells it.
        text: String,
    },
    /// On a line of the rules, one text instead of another.
    OnLine {
        /// The line.
        line: Line,
        /// The text that goes.
        from: String,
        /// What is written instead.
        to: String,
    },
    /// A line right below a line of the rules.
    Below {
        /// The line that stays above it.
        line: Line,
        /// The new line, without its end.
        text: String,
    },
    /// A statement or a row, with what is indented below it, is taken out.
    Without {
        /// Its first line.
        line: Line,
    },
    /// New statements at the end of the rules file.
    AtEnd {
        /// They, each with the end of its line.
        text: String,
    },
}

/// A change of a text: what is written instead of some of its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Replacement {
    range: Range<usize>,
    text: String,
}

impl Replacement {
    /// The bytes that go.
    pub fn range(&self) -> Range<usize> {
        self.range.clone()
    }

    /// What comes in their place.
    pub fn text(&self) -> &str {
        &self.text
    }
}

impl Edit {
    /// The file that it changes, as people name it: one of the rules', or of the folder of files.
    pub fn file(&self, rules: &Rules) -> String {
        match self {
            Edit::InFile { name, .. } => rules.path(&rules.site().file_path(name)),
            Edit::OnLine { line, .. } | Edit::Below { line, .. } | Edit::Without { line } => {
                rules.source(*line).to_owned()
            }
            Edit::AtEnd { .. } => rules.sources().first().map_or("", |main| main).to_owned(),
        }
    }

    /// What it changes of the file's text; none where the text is not as it was.
    ///
    /// ```
    /// use ravel::edit::Edit;
    ///
    /// let text = "site https://h.example/\nredirect /a -> /b\nredirect /a -> /b\n";
    /// let rules = ravel::Rules::parse(text)?;
    /// let second = rules.rules(ravel::program::Stage::Redirect)[1].line();
    /// let change = Edit::Without { line: second }.of(text).unwrap();
    /// assert_eq!(&text[change.range()], "redirect /a -> /b\n");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(&self, text: &str) -> Option<Replacement> {
        let (range, text) = match self {
            Edit::InFile { range, text: new, .. } => {
                text.get(range.clone())?;
                (range.clone(), new.clone())
            }
            Edit::OnLine { line, from, to } => {
                let place = line_of(text, line.number())?;
                let at = place.start + text[place].find(from.as_str())?;
                (at..at + from.len(), to.clone())
            }
            Edit::Below { line, text: new } => {
                let end = line_of(text, line.number())?.end;
                let is_ended = text[..end].ends_with('\n');
                (end..end, if is_ended { format!("{new}\n") } else { format!("\n{new}") })
            }
            Edit::Without { line } => {
                let first = line_of(text, line.number())?;
                let indent = |line: &str| line.len() - line.trim_start_matches([' ', '\t']).len();
                let own = indent(&text[first.clone()]);
                let below = text[first.end..].split_inclusive('\n');
                let more = below.take_while(|line| !line.trim().is_empty() && indent(line) > own);
                let end = first.end + more.map(str::len).sum::<usize>();
                (first.start..end, String::new())
            }
            Edit::AtEnd { text: new } => {
                let end = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
                (text.len()..text.len(), format!("{end}{new}"))
            }
        };
        Some(Replacement { range, text })
    }
}

/// The bytes of a line, with its end.
fn line_of(text: &str, number: u32) -> Option<Range<usize>> {
    let mut start = 0;
    for (at, line) in (1..).zip(text.split_inclusive('\n')) {
        if at == number {
            return Some(start..start + line.len());
        }
        start += line.len();
    }
    None
}
