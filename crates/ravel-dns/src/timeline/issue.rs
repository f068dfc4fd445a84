//! When a certificate can be issued.

use super::prepare::proves;
use crate::caa::CaaSet;
use crate::plan::Plan;
use crate::{Certificate, Moment};
use ravel::rules::Issue;

/// When something begins to be so: for the first, and for all.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    pub(crate) best: Moment,
    pub(crate) worst: Moment,
}

impl Window {
    /// The best case.
    pub fn best(&self) -> Moment {
        self.best
    }

    /// The worst case.
    pub fn worst(&self) -> Moment {
        self.worst
    }
}

/// When a certificate can be issued.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Issuance {
    /// It is there: the chain that the rules name is for every host, and valid.
    There,
    /// In this window.
    In(Window),
    /// Not at all: CAA records forbid it.
    Forbidden,
}

/// When it can be, with the moment of the switch, and how long name servers with the old zone are
/// asked after it.
pub(super) fn issued(
    plan: &Plan<'_>,
    certificate: Option<&Certificate>,
    (moment, lingers): (Moment, i64),
    begin: Moment,
    verification: Option<Window>,
    allowed: Option<Window>,
) -> Issuance {
    let there = certificate.is_some_and(|certificate| {
        let (from, until) = certificate.validity();
        from <= moment
            && moment < until
            && plan.hosts.iter().all(|host| certificate.names(&host.host))
    });
    if there {
        return Issuance::There;
    }
    if allowed.is_none() && plan.caa().iter().any(CaaSet::forbids) {
        return Issuance::Forbidden;
    }
    let switch = Window { best: moment, worst: moment.plus(lingers) };
    let by_records = plan.domain.issue() == Issue::Records || !proves(plan);
    let earliest = if by_records { switch } else { Window { best: begin, worst: begin } };
    // All that is waited for must have come.
    let awaited = [verification, allowed].into_iter().flatten();
    let later = |one: Window, other: Window| Window {
        best: one.best.max(other.best),
        worst: one.worst.max(other.worst),
    };
    let begins = awaited.fold(earliest, later);
    let worst = begins.worst.plus(i64::from(plan.domain.issue_in()));
    Issuance::In(Window { best: begins.best, worst })
}
