//! Which certificate authorities may issue for a host (RFC 8659).

use std::collections::BTreeSet;

use hickory_proto::rr::RData;

use super::plan::{Plan, name_of};
use super::zone::{Record, RecordType};

/// The CAA records that count for some hosts (RFC 8659, section 3).
#[derive(Debug)]
pub(super) struct CaaSet<'z> {
    pub(super) records: Vec<&'z Record>,
    /// Whether they are asked for names that begin with `*.`.
    pub(super) wild: bool,
    pub(super) hosts: Vec<&'z str>,
}

impl CaaSet<'_> {
    /// The values that count: those of `issuewild` for wildcards where there are any, else those of
    /// `issue`.
    fn values(&self) -> Option<Vec<String>> {
        let of = |tag: &str| -> Vec<String> {
            let caa = self.records.iter().filter_map(|record| match &record.data.as_ref()?.0 {
                RData::CAA(caa) if caa.tag.eq_ignore_ascii_case(tag) => {
                    Some(String::from_utf8_lossy(&caa.value).into_owned())
                }
                _ => None,
            });
            caa.collect()
        };
        let wild = of("issuewild");
        let values = if self.wild && !wild.is_empty() { wild } else { of("issue") };
        (!values.is_empty()).then_some(values)
    }

    /// The authorities that may issue; none where all may.
    pub(super) fn allowed(&self) -> Option<BTreeSet<String>> {
        Some(self.values()?.iter().filter_map(|value| issuer(value)).collect())
    }

    /// A tag that is critical and that nobody has to know (RFC 8659, section 4.5).
    pub(super) fn unknown_critical(&self) -> Option<(&Record, &str)> {
        self.records.iter().find_map(|record| match &record.data.as_ref()?.0 {
            RData::CAA(caa) => {
                let known = [
                    "issue",
                    "issuewild",
                    "iodef",
                    "issuemail",
                    "issuevmc",
                    "contactemail",
                    "contactphone",
                ];
                let unknown = caa.issuer_critical
                    && !known.iter().any(|tag| caa.tag.eq_ignore_ascii_case(tag));
                unknown.then_some((*record, caa.tag.as_str()))
            }
            _ => None,
        })
    }

    /// How long authorities may keep these records, in seconds.
    pub(super) fn ttl(&self) -> u32 {
        self.records.iter().map(|record| record.ttl).max().unwrap_or(0)
    }

    /// Whether nobody may issue.
    pub(super) fn forbids(&self) -> bool {
        self.unknown_critical().is_some()
            || self.allowed().is_some_and(|allowed| allowed.is_empty())
    }
}

impl Plan<'_> {
    /// The sets of CAA records that count for the hosts: each host's nearest, going up from its
    /// name.
    pub(super) fn caa(&self) -> Vec<CaaSet<'_>> {
        let mut sets: Vec<CaaSet<'_>> = Vec::new();
        for host in &self.hosts {
            let (wild, plain) = match host.host.strip_prefix("*.") {
                Some(rest) => (true, name_of(rest)),
                None => (false, host.name.clone()),
            };
            let mut above = plain;
            let mut records: Vec<&Record> = Vec::new();
            while self.zone.origin().holds(&above) {
                records = self.zone.set(&above, RecordType::CAA).collect();
                if !records.is_empty() {
                    break;
                }
                above = above.above();
            }
            if records.is_empty() {
                continue;
            }
            match sets
                .iter_mut()
                .find(|set| set.wild == wild && set.records[0].name == records[0].name)
            {
                Some(set) => set.hosts.push(&host.host),
                None => sets.push(CaaSet { records, wild, hosts: vec![&host.host] }),
            }
        }
        // Wildcards for which the same holds are no case of their own.
        sets.sort_by_key(|set| set.wild);
        let mut merged: Vec<CaaSet<'_>> = Vec::new();
        for set in sets {
            let same = |other: &&mut CaaSet<'_>| {
                other.records[0].name == set.records[0].name && other.values() == set.values()
            };
            match merged.iter_mut().find(same) {
                Some(other) => other.hosts.extend(set.hosts),
                None => merged.push(set),
            }
        }
        merged
    }
}

/// The authority that an `issue` value names; none where it names nobody, or is malformed, which is the
/// same (RFC 8659, section 4.2).
fn issuer(value: &str) -> Option<String> {
    let is_white = |byte: char| matches!(byte, ' ' | '\t');
    let mut parts = value.split(';');
    let name = parts.next()?.trim_matches(is_white);
    let is_label = |label: &str| {
        let ends = |byte: Option<u8>| byte.is_some_and(|byte| byte.is_ascii_alphanumeric());
        label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && ends(label.bytes().next())
            && ends(label.bytes().last())
    };
    let parameters: Vec<&str> = parts.map(|part| part.trim_matches(is_white)).collect();
    let is_parameter = |parameter: &&str| {
        parameter.split_once('=').is_some_and(|(tag, value)| {
            let (tag, value) = (tag.trim_matches(is_white), value.trim_matches(is_white));
            is_label(tag) && value.bytes().all(|byte| byte.is_ascii_graphic())
        })
    };
    // A `;` may have nothing behind it, if it is the only one.
    let is_sound = parameters == [""] || parameters.iter().all(is_parameter);
    (is_sound && name.split('.').all(is_label)).then(|| name.to_ascii_lowercase())
}
