//! `one hop`: several redirects in a row as one.

use super::Edge;
use super::answer::Outcome;
use super::context::Context;
use super::decide::MAX_URL_BYTES;
use super::decision::{Decision, Hop};
use super::header::Permanence;
use super::hosts::RequestParts;
use super::step::{LoopCause, Step, Trace};
use crate::address::Address;

/// The most redirects that are joined into one.
pub(super) const MAX_REDIRECTS_JOINED: usize = 16;

impl Edge {
    /// Applies steps 2 and 3 to their own outcome, as the browser's next requests would.
    pub(super) fn one_hop<T: Trace>(
        &self,
        first: Decision,
        visit: &RequestParts<'_>,
        address: &Address,
        context: &mut Context<'_, T>,
    ) -> Decision {
        let mut decision = first;
        let mut passed: Vec<Address> = Vec::new();
        loop {
            let Some(current) = decision.location.as_ref() else { return decision };
            let mut seen = std::iter::once(address).chain(&passed);
            let came_back = seen.any(|seen| seen.without_fragment() == current.without_fragment());
            if came_back || passed.len() >= MAX_REDIRECTS_JOINED {
                let cause = if came_back { LoopCause::CameBack } else { LoopCause::TooManySteps };
                context.trace.step(|| Step::Loop(current.as_str().into(), cause));
                return Decision { by: decision.by, ..Decision::of(Outcome::Loop, 508) };
            }
            let Some(next) = self.hosts.locate(visit.method, visit.headers, current) else {
                return decision;
            };
            context.other_origin |= (next.scheme, next.host) != (visit.scheme, visit.host);
            let mark = context.trace.mark();
            context.trace.step(|| Step::Joined(current.as_str().into()));
            let Hop::Redirect { mut to, status, by, permanence, .. } = self.hop(&next, context)
            else {
                if !context.stopped {
                    context.trace.forget(mark);
                }
                return decision;
            };
            if to.len_without_fragment() > MAX_URL_BYTES {
                context.trace.step(|| Step::TooLong(to.as_str().into()));
                return decision;
            }
            to.keep_fragment(current.fragment());
            if outranks(permanence, decision.permanence) {
                (decision.status, decision.by, decision.permanence) =
                    (Some(status), by, Some(permanence));
            }
            passed.extend(decision.location.replace(to));
        }
    }
}

/// Which status joined redirects answer with: the first temporary one's, else the first that a rule
/// made.
fn outranks(later: Permanence, so_far: Option<Permanence>) -> bool {
    match so_far {
        Some(Permanence::Canonical) => later != Permanence::Canonical,
        Some(Permanence::ByRule) => later == Permanence::Temporary,
        Some(Permanence::Temporary) | None => false,
    }
}
