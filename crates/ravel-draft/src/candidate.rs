//! A page that may be an old one's, and how sure that must be.

/// A move that is at least so sure is written as a rule.
pub(crate) const SURE: f64 = 0.75;
/// Several of one shape that are so sure bear each other out.
pub(crate) const NEAR: f64 = 0.71;
/// The next page must be so much less alike.
pub(crate) const APART: f64 = 0.06;

/// A page that may be an old one's, and how sure that is, from 0 to 1.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Candidate {
    pub(crate) page: usize,
    pub(crate) score: f64,
    pub(crate) why: &'static str,
}

impl Candidate {
    pub(crate) fn at_most(self, score: f64) -> Candidate {
        Candidate { score: self.score.min(score), ..self }
    }
}
