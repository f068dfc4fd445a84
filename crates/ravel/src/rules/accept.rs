//! `accept`: a finding that is meant to be there.

use std::ops::RangeInclusive;

use super::Code;
use crate::language::Line;

/// `accept CODE "why"`: keeps a finding quiet at the line above it.
#[derive(Debug, Clone)]
pub struct Accept {
    pub(crate) line: Line,
    pub(crate) code: Code,
    pub(crate) why: Box<str>,
    /// The lines it is about: a file of the rules each, with its lines.
    pub(crate) about: Vec<(u16, RangeInclusive<u32>)>,
}

impl Accept {
    /// Whether it is about a line; below a statement's first line it is about all of the statement,
    /// its tables too.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n  accept redirect-to-missing \"soon\"\n")?;
    /// assert!(rules.accepts()[0].covers(rules.rules(ravel::program::Stage::Redirect)[0].line()));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn covers(&self, line: Line) -> bool {
        self.about
            .iter()
            .any(|(source, lines)| *source == line.source && lines.contains(&line.number))
    }

    /// Where it stands.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The finding.
    pub fn code(&self) -> Code {
        self.code
    }

    /// Why it is accepted.
    pub fn why(&self) -> &str {
        &self.why
    }
}
