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
    /// Another page fits as well.
    pub(crate) is_tied: bool,
}

impl Candidate {
    pub(crate) fn new(page: usize, score: f64, why: &'static str) -> Candidate {
        Candidate { page, score, why, is_tied: false }
    }

    /// One of two that fit: never sure.
    pub(crate) fn tied(page: usize, score: f64, why: &'static str) -> Candidate {
        Candidate { page, score: score.min(SURE - 0.01), why, is_tied: true }
    }

    pub(crate) fn at_most(self, score: f64) -> Candidate {
        Candidate { score: self.score.min(score), ..self }
    }
}
