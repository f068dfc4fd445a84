//! A built file that refers to others.

use std::cell::Cell;
use std::ops::Range;

use ravel::edit::Edit;

use super::FindingPlace;
use super::content::{self, Content, Reference};

/// What reading a file came to.
pub(super) struct ReadFile {
    pub(super) text: String,
    /// Whether the text is the file's bytes as they are.
    is_exact: bool,
    pub(super) content: Result<Content, String>,
}

impl ReadFile {
    pub(super) fn of(name: &str, bytes: Vec<u8>) -> ReadFile {
        let (text, is_exact) = match String::from_utf8(bytes) {
            Ok(text) => (text, true),
            Err(error) => (String::from_utf8_lossy(error.as_bytes()).into_owned(), false),
        };
        ReadFile { content: content::read(name, &text), text, is_exact }
    }
}

/// A file that references are read from.
pub(super) struct ReferringFile<'f> {
    pub(super) name: &'f str,
    file: &'f ReadFile,
    /// The place up to which lines were counted, and the number of its line.
    counted: Cell<(usize, u32)>,
}

impl<'f> ReferringFile<'f> {
    pub(super) fn new(name: &'f str, file: &'f ReadFile) -> ReferringFile<'f> {
        ReferringFile { name, file, counted: Cell::new((0, 1)) }
    }

    /// Another URL in place of a reference that stands there as it is, once.
    pub(super) fn instead(&self, reference: &Reference, url: &str) -> Option<Edit> {
        let at = self.file.text.get(reference.range.clone())?;
        let (from, more) = (at.find(&reference.url)?, at.matches(&reference.url).count() > 1);
        let is_plain = !url.contains(['&', '"', '\'', '<', '>', ' ', '(', ')', ',']);
        let start = reference.range.start + from;
        let range = start..start + reference.url.len();
        let name = self.name.into();
        let fits = self.file.is_exact && is_plain && !more;
        fits.then(|| Edit::InFile { name, range, text: url.to_owned() })
    }

    pub(super) fn at(&self, range: &Range<usize>) -> FindingPlace {
        let start = range.start.min(self.file.text.len());
        // References come in the order of the text.
        let (from, line) = match self.counted.get() {
            (from, line) if from <= start => (from, line),
            _ => (0, 1),
        };
        let between = &self.file.text.as_bytes()[from..start];
        let line = line + memchr::memchr_iter(b'\n', between).count() as u32;
        self.counted.set((start, line));
        FindingPlace::File { name: self.name.into(), at: Some((line, range.clone())) }
    }
}
