//! What name servers were asked about a domain, and what they say.

use ravel_dns::Requirement;
use ravel_serve::{Delegation, DelegationFault, ServerAnswer, ServerReport};

/// What was asked about a domain, and what each server says.
#[derive(Default)]
pub(super) struct DomainAnswers {
    pub(super) wanted: Vec<Requirement>,
    pub(super) reports: Vec<ServerReport>,
    pub(super) delegation: Option<Delegation>,
    pub(super) faults: Vec<DelegationFault>,
}

impl DomainAnswers {
    /// Whether every server says what is needed, and the parent leads there.
    pub(super) fn is_met(&self) -> bool {
        self.reports.iter().all(|report| is_met(report, &self.wanted))
            && !self.faults.iter().any(DelegationFault::is_fatal)
    }

    /// How many servers say what is needed.
    pub(super) fn met(&self) -> usize {
        self.reports.iter().filter(|report| is_met(report, &self.wanted)).count()
    }

    /// For how long servers may say what is not needed, in seconds.
    pub(super) fn oldest(&self) -> u32 {
        let said = self.reports.iter().filter_map(|report| report.said().as_ref().ok());
        let unmet = said.flat_map(|said| self.wanted.iter().zip(said));
        let ttls =
            unmet.filter(|(wanted, said)| !meets(wanted, said)).flat_map(|(_, said)| ttls(said));
        ttls.max().unwrap_or(0)
    }
}

/// Whether a server says all that is wanted.
pub(super) fn is_met(asked: &ServerReport, wanted: &[Requirement]) -> bool {
    asked
        .said()
        .as_ref()
        .is_ok_and(|said| wanted.iter().zip(said).all(|(wanted, said)| meets(wanted, said)))
}

pub(super) fn meets(wanted: &Requirement, said: &ServerAnswer) -> bool {
    match said {
        ServerAnswer::Records(records) => {
            let is_short = |(_, ttl): &(_, u32)| wanted.ttl().is_none_or(|most| *ttl <= most);
            wanted.is_met_by(records.iter().map(|(data, _)| data)) && records.iter().all(is_short)
        }
        ServerAnswer::NoName => wanted.data().is_empty(),
        ServerAnswer::Refused(_) => false,
    }
}

/// For how long what a server says may be kept, in seconds.
pub(super) fn ttls(said: &ServerAnswer) -> impl Iterator<Item = u32> {
    let records = match said {
        ServerAnswer::Records(records) => records.as_slice(),
        _ => &[],
    };
    records.iter().map(|(_, ttl)| *ttl)
}
