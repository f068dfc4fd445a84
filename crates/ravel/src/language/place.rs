//! Lines, and places in them.

use std::ops::Range;

/// A line of one of the files that the rules were read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Line {
    pub(crate) source: u16,
    pub(crate) number: u32,
}

/// A piece of a line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    pub(crate) line: Line,
    pub(crate) columns: Range<usize>,
}

impl Place {
    /// The line.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The bytes of the line, from 0; empty at the place where something is missing.
    pub fn columns(&self) -> Range<usize> {
        self.columns.clone()
    }
}

impl Line {
    pub(crate) fn new(source: u16, number: u32) -> Line {
        Line { source, number }
    }

    /// A piece of this line.
    pub(crate) fn at(self, columns: Range<usize>) -> Place {
        Place { line: self, columns }
    }

    /// Which file, in the order in which they were read; the rules file is 0. See
    /// [`crate::Rules::sources`].
    pub fn source(&self) -> u16 {
        self.source
    }

    /// The line, from 1. In a table, the line on which the row begins.
    pub fn number(&self) -> u32 {
        self.number
    }
}
