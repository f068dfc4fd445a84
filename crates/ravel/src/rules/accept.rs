use std::ops::RangeInclusive;

use super::Code;
use crate::language::Line;

/// `accept CODE "why"`: keeps a finding quiet at the line above it.
#[derive(Debug, Clone)]
pub struct Accept {
    /// Where it stands.
    pub line: Line,
    /// The finding.
    pub code: Code,
    /// Why it is accepted.
    pub why: Box<str>,
    /// The lines it is about: a file of the rules each, with its lines.
    pub(crate) about: Vec<(u16, RangeInclusive<u32>)>,
}

impl Accept {
    /// Whether it is about a line; below a statement's first line it is about all of the statement,
    /// its tables too.
    pub fn covers(&self, line: Line) -> bool {
        self.about
            .iter()
            .any(|(source, lines)| *source == line.source && lines.contains(&line.number))
    }
}
