//! Entries of a master file, cut into words.

use std::ops::Range;

use super::{ZoneError, ZoneErrorKind};

/// A word of an entry.
#[derive(Debug, Clone)]
pub(super) struct Word<'t> {
    /// As it is written, without quotes around it; escapes stand as they are.
    pub(super) text: &'t str,
    /// In the whole text, quotes included.
    pub(super) at: Range<usize>,
    pub(super) line: u32,
    pub(super) quoted: bool,
}

/// The words of a record or directive: one line, or more with parentheses.
#[derive(Debug, Default)]
pub(super) struct Words<'t> {
    pub(super) words: Vec<Word<'t>>,
    /// From the start of the first line to the end of the last, with the line's end.
    pub(super) whole: Range<usize>,
    /// The first line, from 1.
    pub(super) line: u32,
    /// Whether the first line begins with white space.
    pub(super) indented: bool,
}

impl Words<'_> {
    /// Whether it is a directive.
    pub(super) fn is_directive(&self) -> bool {
        !self.indented && self.words[0].text.starts_with('$') && !self.words[0].quoted
    }

    /// Whether it is a directive that stands for records.
    pub(super) fn expands(&self) -> bool {
        let is = |name: &str| self.words[0].text.eq_ignore_ascii_case(name);
        self.is_directive() && (is("$INCLUDE") || is("$GENERATE"))
    }
}

/// Cuts a text into entries.
#[derive(Debug)]
pub(super) struct Scanner<'t> {
    text: &'t str,
    at: usize,
    line: u32,
}

impl<'t> Scanner<'t> {
    pub(super) fn new(text: &'t str) -> Scanner<'t> {
        Scanner { text, at: 0, line: 1 }
    }

    /// Reads the next entry into `words`; false at the end of the text. Lines without a word are
    /// passed over.
    pub(super) fn next(&mut self, words: &mut Words<'t>) -> Result<bool, ZoneError> {
        let bytes = self.text.as_bytes();
        while self.at < bytes.len() {
            words.words.clear();
            words.line = self.line;
            words.whole = self.at..self.at;
            words.indented = matches!(bytes[self.at], b' ' | b'\t');
            self.entry(words)?;
            words.whole.end = self.at;
            if !words.words.is_empty() {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Reads up to the end of a line that is outside parentheses.
    fn entry(&mut self, words: &mut Words<'t>) -> Result<(), ZoneError> {
        let bytes = self.text.as_bytes();
        // The lines of parentheses that are open: some programs write them within each other.
        let mut open: Vec<u32> = Vec::new();
        while let Some(&byte) = bytes.get(self.at) {
            match byte {
                b'\n' => {
                    self.at += 1;
                    self.line += 1;
                    if open.is_empty() {
                        return Ok(());
                    }
                }
                b' ' | b'\t' | b'\r' => self.at += 1,
                b';' => {
                    self.at += bytes[self.at..]
                        .iter()
                        .position(|byte| *byte == b'\n')
                        .unwrap_or(bytes.len() - self.at)
                }
                b'(' => {
                    open.push(self.line);
                    self.at += 1;
                }
                b')' => {
                    if open.pop().is_none() {
                        return Err(self.error(ZoneErrorKind::CloseParenthesis));
                    }
                    self.at += 1;
                }
                b'"' => words.words.push(self.quoted()?),
                _ => words.words.push(self.bare()),
            }
        }
        match open.first().copied() {
            Some(line) => Err(ZoneError { line, kind: ZoneErrorKind::OpenParenthesis }),
            None => Ok(()),
        }
    }

    fn quoted(&mut self) -> Result<Word<'t>, ZoneError> {
        let start = self.at;
        let inner = &self.text.as_bytes()[start + 1..];
        let mut escaped = false;
        for (at, byte) in inner.iter().enumerate() {
            match byte {
                b'\n' => break,
                _ if escaped => escaped = false,
                b'\\' => escaped = true,
                b'"' => {
                    self.at = start + at + 2;
                    let text = &self.text[start + 1..start + 1 + at];
                    return Ok(Word { text, at: start..self.at, line: self.line, quoted: true });
                }
                _ => {}
            }
        }
        Err(self.error(ZoneErrorKind::OpenQuote))
    }

    fn bare(&mut self) -> Word<'t> {
        let start = self.at;
        let mut escaped = false;
        let ends =
            |byte: u8| matches!(byte, b' ' | b'\t' | b'\r' | b'\n' | b';' | b'(' | b')' | b'"');
        let len = self.text.as_bytes()[start..].iter().position(|byte| {
            let end = ends(*byte) && (!escaped || *byte == b'\n');
            escaped = !escaped && *byte == b'\\';
            end
        });
        self.at = len.map_or(self.text.len(), |len| start + len);
        Word {
            text: &self.text[start..self.at],
            at: start..self.at,
            line: self.line,
            quoted: false,
        }
    }

    fn error(&self, kind: ZoneErrorKind) -> ZoneError {
        ZoneError { line: self.line, kind }
    }
}

/// The bytes that a text with `\X` and `\DDD` stands for (RFC 1035, section 5.1).
pub(super) fn unescape(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&byte, after)) = rest.split_first() {
        rest = after;
        if byte != b'\\' {
            bytes.push(byte);
            continue;
        }
        let digits = rest.get(..3).filter(|digits| digits.iter().all(u8::is_ascii_digit));
        match digits {
            Some(digits) => {
                bytes.push(std::str::from_utf8(digits).ok()?.parse().ok()?);
                rest = &rest[3..];
            }
            None => {
                let (&escaped, after) = rest.split_first()?;
                bytes.push(escaped);
                rest = after;
            }
        }
    }
    Some(bytes)
}
