//! What is to be done while a zone changes.

use crate::Moment;
use crate::zone::RecordType;

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    pub(crate) at: Moment,
    pub(crate) kind: StepKind,
}

impl Step {
    /// When: at the latest before a switch, at the earliest after it.
    pub fn at(&self) -> Moment {
        self.at
    }

    /// What.
    pub fn kind(&self) -> &StepKind {
        &self.kind
    }
}

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StepKind {
    /// Give these records a short TTL: whose, which type, and the TTL they have.
    Lower(Vec<(String, RecordType, u32)>, u32),
    /// Add the record that proves ownership.
    Prove,
    /// Let CAA records name the authority that is to issue; which one, only the hosting knows.
    Allow,
    /// Have the certificate issued.
    Issue,
    /// Sign the zone of this moment before it is published: resolvers that validate take nothing of
    /// it else.
    Sign,
    /// Write the new records.
    Switch,
    /// Give the new records the TTL that is wanted.
    Raise,
    /// Copy the zone to these name servers, so that they answer before they are asked.
    Copy(Vec<String>),
    /// Let the parent remove the zone's keys (DS), since the new servers do not sign with them.
    RemoveKeys,
    /// Let the parent delegate the zone to these name servers.
    Delegate(Vec<String>),
    /// These name servers are not asked any more, and may stop.
    Stop(Vec<String>),
    /// Sign the zone anew, and let the parent have its keys (DS).
    AddKeys,
}
