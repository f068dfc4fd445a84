//! What is to be done at each moment of a cut-over, with the records by name and value.

use std::io::{self, Write};

use ravel_dns::zone::Record;
use ravel_dns::{Moment, Plan, StepKind, Timeline, ZoneStep};

use super::table::{duration, signed};
use crate::diagnostic::write_folded;
use crate::style::{BAD, FAINT, GOOD, STRONG, in_style};

/// All that is to be done at one moment.
pub(super) struct Stage {
    pub(super) at: Moment,
    /// Seconds from the cut-over.
    pub(super) from_switch: i64,
    pub(super) what: Vec<String>,
    /// The zone to publish, with its number from 1.
    pub(super) zone: Option<(usize, ZoneStep)>,
}

/// The stages of a timeline, in order.
pub(super) fn of(plan: &Plan<'_>, timeline: &Timeline) -> Vec<Stage> {
    let mut stages: Vec<Stage> = Vec::new();
    let stage_at = |stages: &mut Vec<Stage>, at: Moment| -> usize {
        if let Some(known) = stages.iter().position(|stage| stage.at == at) {
            return known;
        }
        let from_switch = at.since(timeline.moment());
        stages.push(Stage { at, from_switch, what: Vec::new(), zone: None });
        stages.len() - 1
    };
    for step in timeline.steps() {
        let number = stage_at(&mut stages, step.at());
        stages[number].what.extend(in_words(step.kind()));
    }
    for (number, zone) in (1..).zip(ZoneStep::of(timeline, plan.zone())) {
        let stage = stage_at(&mut stages, zone.at());
        stages[stage].zone = Some((number, zone));
    }
    stages.sort_by_key(|stage| stage.at);
    stages
}

pub(super) fn print(stages: &[Stage], out: &mut dyn Write) -> io::Result<()> {
    for stage in stages {
        let step = match &stage.zone {
            Some((number, _)) => format!("  step {number}"),
            None => String::new(),
        };
        let from = in_style(FAINT, signed(stage.from_switch));
        writeln!(out, "{}  {from}{}", stage.at, in_style(STRONG, step))?;
        for what in &stage.what {
            write_folded(what, "  ", "    ", out)?;
        }
        let Some((_, zone)) = &stage.zone else { continue };
        for record in zone.removed() {
            writeln!(out, "    {}", in_style(BAD, format_args!("− {}", line(record))))?;
        }
        for record in zone.added() {
            writeln!(out, "    {}", in_style(GOOD, format_args!("+ {}", line(record))))?;
        }
    }
    writeln!(out)
}

/// A record as a zone file writes it.
pub(super) fn line(record: &Record) -> String {
    let data = record.data().map(ToString::to_string).unwrap_or_default();
    format!("{} {} {} {data}", record.name().to_master(), record.ttl(), record.kind())
}

/// What to do, a line each.
fn in_words(step: &StepKind) -> Vec<String> {
    let words = match step {
        StepKind::Lower(sets, life) => {
            let lower = |(name, kind, ttl): &(String, _, u32)| {
                let (old, new) = (duration(i64::from(*ttl)), duration(i64::from(*life)));
                format!("lower the TTL of {kind} of {name} from {old} to {new}")
            };
            return sets.iter().map(lower).collect();
        }
        StepKind::Copy(servers) => {
            return vec![format!(
                "copy the zone to {}, before anybody asks there",
                servers.join(", ")
            )];
        }
        StepKind::Delegate(servers) => {
            return vec![format!(
                "let the registry delegate the domain to {}, and give the zone of the cut-over at the old name servers, too",
                servers.join(", ")
            )];
        }
        StepKind::Stop(servers) => {
            return vec![format!("{} not asked any more, and may stop", they_are(servers))];
        }
        StepKind::RemoveKeys => {
            "let the registry remove the DS records; the new name servers have other keys"
        }
        StepKind::AddKeys => {
            "sign the zone at the new name servers, and give the registry its DS records"
        }
        StepKind::Prove => "add the record that proves ownership",
        StepKind::Allow => "let CAA allow the certificate authority of the hosting",
        StepKind::Issue => "get the certificate issued",
        StepKind::Sign => "sign this zone before it is published: signatures are not written",
        StepKind::Switch => "cut over: write the new records",
        StepKind::Raise => "raise the TTL of the records to the wanted one",
    };
    vec![words.to_owned()]
}

/// Name servers with their verb.
pub(super) fn they_are(servers: &[String]) -> String {
    format!("{} {}", servers.join(", "), if servers.len() == 1 { "is" } else { "are" })
}
