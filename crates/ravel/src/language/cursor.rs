//! Reads the words of a line.

use std::borrow::Cow;
use std::ops::Range;

use super::{LineText, Place, Problem, ProblemKind};

/// A word of a line.
#[derive(Debug, Clone)]
pub(crate) struct Word<'t> {
    /// What it says, without quotes.
    pub(crate) text: Cow<'t, str>,
    pub(crate) columns: Range<usize>,
}

/// Cuts a line into words, as far as it is asked to.
#[derive(Debug, Clone)]
pub(crate) struct Cursor<'t> {
    line: LineText<'t>,
    at: usize,
}

impl<'t> Cursor<'t> {
    pub(crate) fn new(line: LineText<'t>) -> Cursor<'t> {
        let mut cursor = Cursor { line, at: 0 };
        cursor.skip_space();
        cursor
    }

    /// The next word, up to white space or a comment.
    pub(crate) fn word(&mut self) -> Result<Option<Word<'t>>, Problem> {
        self.cut(&[])
    }

    /// The next word if it is this one.
    pub(crate) fn take(&mut self, wanted: &str) -> bool {
        let mut ahead = self.clone();
        let is_next = matches!(ahead.word(), Ok(Some(word)) if word.text == wanted);
        if is_next {
            *self = ahead;
        }
        is_next
    }

    /// The next word if `find` knows it, as what it is.
    pub(crate) fn take_known<K>(&mut self, find: impl FnOnce(&str) -> Option<K>) -> Option<K> {
        let mut ahead = self.clone();
        let Ok(Some(word)) = ahead.word() else { return None };
        let known = find(&word.text)?;
        *self = ahead;
        Some(known)
    }

    /// Words with commas between them; at least one.
    pub(crate) fn list(&mut self, wanted: &'static str) -> Result<Vec<Word<'t>>, Problem> {
        let mut words = Vec::new();
        loop {
            match self.cut(b",")? {
                Some(word) => words.push(word),
                None => return Err(self.expected(wanted)),
            }
            if !self.rest().starts_with(',') {
                return Ok(words);
            }
            self.at += 1;
            self.skip_space();
        }
    }

    /// All that is left of the line, comment signs too.
    pub(crate) fn take_rest(&mut self) -> Word<'t> {
        let columns = self.at..self.line.text.len();
        self.at = columns.end;
        Word { text: Cow::Borrowed(&self.line.text[columns.clone()]), columns }
    }

    /// The text from here on, comment included.
    pub(crate) fn rest(&self) -> &'t str {
        &self.line.text[self.at..]
    }

    /// Whether nothing but a comment is left.
    pub(crate) fn is_at_end(&self) -> bool {
        self.rest().is_empty() || self.is_at_comment()
    }

    /// A problem if anything is left.
    pub(crate) fn end(&mut self) -> Result<(), Problem> {
        match self.word()? {
            None => Ok(()),
            Some(word) => {
                let found = word.text.into_owned();
                Err(Problem::new(self.place(word.columns), ProblemKind::TooMuch { found }))
            }
        }
    }

    /// Another word than the expected one is here.
    pub(crate) fn expected(&self, wanted: &'static str) -> Problem {
        let mut ahead = self.clone();
        match ahead.word() {
            Ok(Some(word)) => self.unexpected(word, wanted),
            Ok(None) => {
                let end = self.line.text[..self.at].trim_end().len();
                Problem::new(self.place(end..end), ProblemKind::Expected { wanted, found: None })
            }
            Err(problem) => problem,
        }
    }

    /// This word is not what should stand there.
    pub(crate) fn unexpected(&self, word: Word<'_>, wanted: &'static str) -> Problem {
        Problem::new(
            self.place(word.columns),
            ProblemKind::Expected { wanted, found: Some(word.text.into_owned()) },
        )
    }

    pub(crate) fn place(&self, columns: Range<usize>) -> Place {
        self.line.line.at(columns)
    }

    /// The place of what is left.
    pub(crate) fn here(&self) -> Place {
        self.place(self.at..self.line.text.len())
    }

    fn cut(&mut self, ends: &[u8]) -> Result<Option<Word<'t>>, Problem> {
        if self.is_at_end() {
            return Ok(None);
        }
        let start = self.at;
        let text = if self.rest().starts_with('"') {
            self.quoted()?
        } else {
            let stops = |byte: u8| byte.is_ascii_whitespace() || ends.contains(&byte);
            let len = self.rest().bytes().position(stops).unwrap_or(self.rest().len());
            if len == 0 {
                return Ok(None);
            }
            self.at += len;
            Cow::Borrowed(&self.line.text[start..self.at])
        };
        let columns = start..self.at;
        self.skip_space();
        Ok(Some(Word { text, columns }))
    }

    fn quoted(&mut self) -> Result<Cow<'t, str>, Problem> {
        let start = self.at;
        let inner = &self.line.text[start + 1..];
        let mut escaped = false;
        for (at, byte) in inner.bytes().enumerate() {
            match byte {
                _ if escaped => escaped = false,
                b'\\' => escaped = matches!(inner.as_bytes().get(at + 1), Some(b'"' | b'\\')),
                b'"' => {
                    self.at = start + at + 2;
                    let after = self.rest();
                    if !after.is_empty() && !after.starts_with([' ', '\t', ',']) {
                        return Err(Problem::new(
                            self.place(start..self.at),
                            ProblemKind::AfterQuote,
                        ));
                    }
                    return Ok(unescape(&inner[..at]));
                }
                _ => {}
            }
        }
        Err(Problem::new(self.place(start..self.line.text.len()), ProblemKind::OpenQuote))
    }

    fn skip_space(&mut self) {
        self.at += self.rest().len() - self.rest().trim_start().len();
    }

    fn is_at_comment(&self) -> bool {
        let after_space = self.at == 0 || self.line.text[..self.at].ends_with(char::is_whitespace);
        after_space && self.rest().starts_with('#')
    }
}

fn unescape(text: &str) -> Cow<'_, str> {
    if !text.contains('\\') {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        let escaped =
            (c == '\\').then(|| chars.next_if(|next| matches!(next, '"' | '\\'))).flatten();
        out.push(escaped.unwrap_or(c));
    }
    Cow::Owned(out)
}
