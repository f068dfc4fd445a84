//! What can be seen of versions of a zone at a moment: those whose answers somebody may still keep.

use std::collections::BTreeSet;

use super::{Destinations, EVER, Span, Version};
use crate::Moment;
use crate::plan::Plan;
use crate::zone::{Lookup, Name, RecordData, RecordType, Zone};

/// Aliases are followed so far.
const MAX_ALIASES: usize = 8;

/// What a version of the zone says to a question, and how long that is kept.
pub(super) enum ServerAnswer<'z> {
    Data(Vec<&'z RecordData>),
    Alias(Name),
    Nothing,
}

pub(super) fn ask<'z>(zone: &'z Zone, name: &Name, kind: RecordType) -> (u32, ServerAnswer<'z>) {
    match zone.lookup(name, kind) {
        Lookup::Records(records) => {
            let ttl = records.iter().map(|record| record.ttl).min().unwrap_or(0);
            (
                ttl,
                ServerAnswer::Data(
                    records.iter().filter_map(|record| record.data.as_ref()).collect(),
                ),
            )
        }
        Lookup::Alias(record, target) => (record.ttl, ServerAnswer::Alias(target)),
        Lookup::Delegated(_) | Lookup::NoData | Lookup::NoName => {
            (zone.negative_ttl(), ServerAnswer::Nothing)
        }
    }
}

/// When the last resolver forgets what a version said, in seconds from the switch.
pub(super) fn end_of(
    versions: &[Version<'_>],
    version: usize,
    name: &Name,
    kind: RecordType,
) -> i64 {
    match versions.get(version + 1) {
        Some(next) => {
            let Version { zone, lingers, .. } = versions[version];
            next.from + lingers + i64::from(ask(zone, name, kind).0)
        }
        None => i64::MAX,
    }
}

/// The stretches of time in which visitors of a name can reach different things; until a moment,
/// keys that are kept may not be those of the new servers.
pub(super) fn spans(
    plan: &Plan<'_>,
    versions: &[Version<'_>],
    other_keys: Option<i64>,
    name: &Name,
    moment: Moment,
) -> Vec<Span> {
    let mut moments = BTreeSet::from([EVER]);
    moments.extend(other_keys.into_iter().flat_map(|until| [0, until]));
    for name in &reached(versions, name) {
        for number in 0..versions.len() - 1 {
            moments.insert(versions[number + 1].from);
            moments.extend(
                [RecordType::A, RecordType::AAAA].map(|kind| end_of(versions, number, name, kind)),
            );
        }
    }
    let mut spans: Vec<Span> = Vec::new();
    for at in moments {
        let mut ends = ends(plan, versions, name, at);
        // Resolvers that validate take nothing from the new servers while they have other keys.
        ends.missing |= other_keys.is_some_and(|until| (0..until).contains(&at));
        if spans.last().is_some_and(|last| last.ends == ends) {
            continue;
        }
        let from = (at != EVER).then(|| moment.plus(at));
        if let Some(last) = spans.last_mut() {
            last.until = from;
        }
        spans.push(Span { from, until: None, ends });
    }
    spans
}

/// The names of the zone that questions for a name can lead to.
fn reached(versions: &[Version<'_>], name: &Name) -> Vec<Name> {
    let mut names = vec![name.clone()];
    let mut at = 0;
    while at < names.len() && names.len() <= MAX_ALIASES {
        for version in versions {
            if let (_, ServerAnswer::Alias(target)) = ask(version.zone, &names[at], RecordType::A)
                && version.zone.origin().holds(&target)
                && !names.contains(&target)
            {
                names.push(target);
            }
        }
        at += 1;
    }
    names
}

/// What visitors can reach at a moment. Most have both kinds of addresses to go by, so a name is
/// missing only where both are.
fn ends(plan: &Plan<'_>, versions: &[Version<'_>], name: &Name, at: i64) -> Destinations {
    let v4 = ends_of(plan, versions, name, RecordType::A, at, 0);
    let v6 = ends_of(plan, versions, name, RecordType::AAAA, at, 0);
    Destinations { old: v4.old || v6.old, new: v4.new || v6.new, missing: v4.missing && v6.missing }
}

fn ends_of(
    plan: &Plan<'_>,
    versions: &[Version<'_>],
    name: &Name,
    kind: RecordType,
    at: i64,
    depth: usize,
) -> Destinations {
    let mut all = Destinations::default();
    for (number, version) in versions.iter().enumerate() {
        if version.from > at || (at >= end_of(versions, number, name, kind)) {
            continue;
        }
        let old = Destinations { old: true, ..Destinations::default() };
        all.add(match ask(version.zone, name, kind).1 {
            ServerAnswer::Nothing => Destinations { missing: true, ..Destinations::default() },
            ServerAnswer::Alias(target) if plan.target().as_ref() == Some(&target) => {
                Destinations { new: true, ..Destinations::default() }
            }
            ServerAnswer::Alias(target)
                if depth < MAX_ALIASES && version.zone.origin().holds(&target) =>
            {
                ends_of(plan, versions, &target, kind, at, depth + 1)
            }
            ServerAnswer::Alias(_) => old,
            ServerAnswer::Data(data) => {
                let needed = plan.addresses(kind);
                let new = data.iter().any(|data| needed.contains(data));
                Destinations {
                    new,
                    old: data.iter().any(|data| !needed.contains(data)),
                    missing: false,
                }
            }
        });
    }
    all
}
