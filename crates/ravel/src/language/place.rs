use std::ops::Range;

/// A line of one of the files that the rules were read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Line {
    /// Which file, in the order in which they were read; the rules file is 0. See
    /// [`crate::Rules::sources`].
    pub source: u16,
    /// The line, from 1. In a table, the line on which the row begins.
    pub number: u32,
}

/// A piece of a line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The line.
    pub line: Line,
    /// The bytes of the line, from 0; empty at the place where something is missing.
    pub columns: Range<usize>,
}

impl Line {
    pub(crate) fn new(source: u16, number: u32) -> Line {
        Line { source, number }
    }

    /// A piece of this line.
    pub(crate) fn at(self, columns: Range<usize>) -> Place {
        Place { line: self, columns }
    }
}
