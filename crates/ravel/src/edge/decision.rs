//! What is decided, before headers.

use super::answer::Outcome;
use super::header::Permanence;
use crate::address::Address;
use crate::files::UrlVariant;
use crate::language::Line;
use crate::program::{RuleId, RuleRef};

/// What was decided, before headers.
pub(super) struct Decision {
    pub(super) outcome: Outcome,
    pub(super) status: Option<u16>,
    pub(super) file: Option<u32>,
    pub(super) by: DecidedBy,
    pub(super) location: Option<Address>,
    pub(super) permanence: Option<Permanence>,
}

impl Decision {
    pub(super) fn of(outcome: Outcome, status: u16) -> Decision {
        Decision {
            outcome,
            status: Some(status),
            file: None,
            by: DecidedBy::FILES,
            location: None,
            permanence: None,
        }
    }
}

/// What decided: a rule, with its line; a line of the site's settings; or neither, but the files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct DecidedBy {
    pub(super) rule: Option<RuleId>,
    pub(super) line: Option<Line>,
}

impl DecidedBy {
    pub(super) const FILES: DecidedBy = DecidedBy { rule: None, line: None };

    pub(super) fn rule(rule: RuleRef<'_>) -> DecidedBy {
        DecidedBy { rule: Some(rule.id), line: Some(rule.line()) }
    }

    pub(super) fn setting(line: Line) -> DecidedBy {
        DecidedBy { rule: None, line: Some(line) }
    }
}

/// What steps 2 and 3 say.
pub(super) enum Hop {
    Redirect {
        to: Address,
        status: u16,
        by: DecidedBy,
        permanence: Permanence,
        /// Whether it is known that this is redirected no further.
        last: bool,
    },
    Gone(DecidedBy),
    Elsewhere(DecidedBy),
    /// No redirect; with what the URL names, where that was looked up.
    None(Option<UrlVariant>),
}
