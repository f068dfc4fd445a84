//! Moving a zone to other name servers: who is still asked, and for how long.
//!
//! A resolver knows a zone's name servers from the parent zone, for the parent's TTL, or from the
//! zone itself, for the TTL of its own NS records, which count for more (RFC 2181, section 5.4.1). It
//! may learn the latter just before it forgets the former: where the old servers go on to say that
//! the zone is theirs, they are asked for both times together, where they say whose it is now, for
//! the longer of them.

use super::LOW;
use crate::plan::Plan;
use crate::zone::{Name, RecordType};
use ravel::rules::Domain;

/// A move to other name servers.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameServerMove {
    from: Vec<String>,
    to: Vec<String>,
    parent_ttl: u32,
    own_ttl: u32,
    is_assumed: bool,
    is_signed: bool,
}

impl NameServerMove {
    /// The move that a plan is, if the zone has other name servers than the rules want.
    pub(super) fn of(plan: &Plan<'_>) -> Option<NameServerMove> {
        let origin = plan.zone().origin();
        let there: Vec<_> = plan.zone().set(origin, RecordType::NS).collect();
        let servers = |name: Option<Name>| Some(name?.to_string());
        let from: Vec<String> =
            there.iter().filter_map(|record| servers(record.data()?.target())).collect();
        let to: Vec<String> = plan.domain().nameservers().iter().map(ToString::to_string).collect();
        // Servers that both have go on to answer: only a wholly other set is a move.
        let moves = !from.is_empty() && !to.is_empty() && from.iter().all(|one| !to.contains(one));
        let stated = plan.domain().parent_ttl();
        moves.then(|| NameServerMove {
            from,
            to,
            parent_ttl: stated.unwrap_or(Domain::PARENT_TTL),
            own_ttl: there.iter().map(|record| record.ttl()).max().unwrap_or(0),
            is_assumed: stated.is_none(),
            is_signed: plan.signature().is_some(),
        })
    }

    /// The servers that the zone has.
    pub fn from(&self) -> &[String] {
        &self.from
    }

    /// Those that it is to have.
    pub fn to(&self) -> &[String] {
        &self.to
    }

    /// How long resolvers keep the delegation, and keys (DS) at the parent, in seconds.
    pub fn parent_ttl(&self) -> u32 {
        self.parent_ttl
    }

    /// Whether [`NameServerMove::parent_ttl`] is assumed, since the rules do not say it.
    pub fn is_assumed(&self) -> bool {
        self.is_assumed
    }

    /// Whether the zone is signed, and the parent may have its keys (DS).
    pub fn is_signed(&self) -> bool {
        self.is_signed
    }

    /// How long the old servers are asked after the delegation has changed, in seconds: where they
    /// go on as they were, and where they give the new zone, with their own TTL lowered before.
    pub(super) fn asked_for(&self, in_order: bool) -> i64 {
        let (parent, own) = (i64::from(self.parent_ttl), i64::from(self.own_ttl));
        match in_order {
            true => parent.max(own.min(i64::from(LOW))),
            false => parent + own,
        }
    }
}
