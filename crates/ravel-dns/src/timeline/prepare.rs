//! What is done before a switch, so that little is kept when it comes.

use super::LOW;
use super::visible::ask;
use crate::plan::{Plan, name_of, verification};
use crate::row::{Action, Row};
use crate::zone::{Change, Changes, Name, RecordType};
use ravel::rules::VerificationRecord;

/// The sets of records that change or go, and have a long TTL: whose, which type, their TTL.
pub(super) fn long_lives(plan: &Plan<'_>) -> Vec<(String, RecordType, u32)> {
    let mut sets: Vec<(String, RecordType, u32)> = Vec::new();
    let records: Vec<_> = plan.zone.records().collect();
    let changes = plan.changes();
    let changed = changes
        .changed
        .iter()
        .filter(|(_, change)| !matches!(change, Change::Set { data: None, .. }));
    let changed = changed.map(|(number, _)| records[*number as usize]);
    let grown = changes.added.iter().filter(|record| !plan.verifies(&record.name, record.kind));
    let grown = grown.flat_map(|new| plan.zone.set(&new.name, new.kind));
    for record in changed.chain(grown).filter(|record| record.ttl > LOW) {
        let key = record.name.to_string();
        match sets.iter_mut().find(|(name, kind, _)| *name == key && *kind == record.kind) {
            Some(set) => set.2 = set.2.max(record.ttl),
            None => sets.push((key, record.kind, record.ttl)),
        }
    }
    // That a new name is not there yet is kept for as long as the SOA says (RFC 2308, section 5).
    let is_new = |name: &Name| plan.zone.of(name).next().is_none();
    let soa = plan.zone.soa();
    let grows = changes
        .added
        .iter()
        .any(|record| is_new(&record.name) && !plan.verifies(&record.name, record.kind));
    if grows && plan.zone.negative_ttl() > LOW {
        sets.push((soa.name.to_string(), RecordType::SOA, soa.ttl));
    }
    sets
}

/// How long something of a set is kept at most, in seconds.
pub(super) fn kept_for(plan: &Plan<'_>, (_, kind, ttl): &(String, RecordType, u32)) -> u32 {
    if *kind == RecordType::SOA { plan.zone.negative_ttl() } else { *ttl }
}

/// The numbers of the records of sets.
fn members<'s>(
    plan: &'s Plan<'_>,
    sets: &'s [(String, RecordType, u32)],
) -> impl Iterator<Item = u32> + 's {
    sets.iter().flat_map(|(name, kind, _)| {
        let name = name_of(name);
        plan.zone
            .numbered(&name)
            .filter(|(_, record)| record.kind == *kind)
            .map(|(number, _)| number)
            .collect::<Vec<_>>()
    })
}

pub(super) fn adds_verification(plan: &Plan<'_>) -> bool {
    plan.rows().iter().any(|row| row.verifies && matches!(row.action, Action::Add | Action::Change))
}

/// Whether every verification record is there, or will be.
pub(super) fn proves(plan: &Plan<'_>) -> bool {
    let mut rows = plan.rows().iter().filter(|row| row.verifies).peekable();
    let is_or_will_be =
        |row: &Row| matches!(row.action, Action::Add | Action::Change | Action::Keep);
    rows.peek().is_some() && rows.all(is_or_will_be)
}

/// How long a resolver may still say that the verification is not there.
pub(super) fn verification_wait(plan: &Plan<'_>) -> u32 {
    let records = plan.domain.verification().iter();
    let wait = |record: &VerificationRecord| {
        let kind = verification(record).record_type();
        ask(plan.zone, &name_of(record.name().as_str()), kind).0
    };
    records.map(wait).max().unwrap_or(0)
}

/// What is done before the switch: TTLs are lowered, and the verification is added.
pub(super) fn prepared(plan: &Plan<'_>, lowered: &[(String, RecordType, u32)]) -> Changes {
    let set = Change::Set { ttl: Some(LOW), data: None };
    let records: Vec<_> = plan.zone.records().collect();
    let verifies = plan.changes().changed.iter().filter(|(number, _)| {
        let record = records[**number as usize];
        plan.verifies(&record.name, record.kind)
    });
    let lowered = members(plan, lowered).map(|number| (number, set.clone()));
    let changed =
        lowered.chain(verifies.map(|(number, change)| (*number, change.clone()))).collect();
    let added = plan
        .changes()
        .added
        .iter()
        .filter(|record| plan.verifies(&record.name, record.kind))
        .cloned()
        .collect();
    Changes { changed, added }
}

/// The switch itself, the lives still low.
pub(super) fn with_low_lives(plan: &Plan<'_>, lowered: &[(String, RecordType, u32)]) -> Changes {
    let mut changes = plan.changes().clone();
    for number in members(plan, lowered) {
        match changes.changed.entry(number).or_insert(Change::Set { ttl: None, data: None }) {
            Change::Set { ttl, .. } => *ttl = Some(LOW),
            Change::Remove => {}
        }
    }
    for change in changes.changed.values_mut() {
        if let Change::Set { ttl, data: Some(_) } = change {
            *ttl = Some(ttl.map_or(LOW, |ttl| ttl.min(LOW)));
        }
    }
    for record in
        changes.added.iter_mut().filter(|record| !plan.verifies(&record.name, record.kind))
    {
        record.ttl = record.ttl.min(LOW);
    }
    changes
}
