//! The zones of a change, step by step, as they are published.

use super::zone::{Record, RecordType, Zone};
use super::{Moment, Timeline};

/// A zone to publish at a moment, and what it changes of the one before.
#[derive(Debug, Clone)]
pub struct ZoneStep {
    at: Moment,
    zone: Zone,
    removed: Vec<Record>,
    added: Vec<Record>,
}

impl ZoneStep {
    /// The steps from a zone on, in order, with rising serials.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n")?;
    /// let text = "@ 1h SOA ns1 hostmaster 2026110704 2h 15m 2w 30m\n@ 1h A 203.0.113.80\n";
    /// let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// let timeline = ravel_dns::Timeline::in_order(&plan, None, "2027-03-01T06:00:00Z".parse()?);
    /// let steps = ravel_dns::ZoneStep::of(&timeline, &zone);
    /// let serials: Vec<u32> = steps.iter().map(|step| step.zone().serial()).collect();
    /// assert_eq!(serials, [2027030100, 2027030101, 2027030102]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(timeline: &Timeline, from: &Zone) -> Vec<ZoneStep> {
        let mut before = from.clone();
        let mut steps = Vec::new();
        for (at, zone) in timeline.zones() {
            let without = |these: &Zone, those: &Zone| -> Vec<Record> {
                let is_new = |record: &&Record| {
                    // The serial changes every time.
                    let same = |other: &Record| {
                        record.kind == RecordType::SOA || other.data == record.data
                    };
                    !those.of(&record.name).any(|other| {
                        (other.kind, other.ttl) == (record.kind, record.ttl) && same(other)
                    })
                };
                these.records().filter(is_new).cloned().collect()
            };
            let removed = without(&before, zone);
            if removed.is_empty() && without(zone, &before).is_empty() {
                continue;
            }
            let zone = zone.with_serial(next_serial(before.serial(), *at));
            let added = without(&zone, &before);
            before = zone.clone();
            steps.push(ZoneStep { at: *at, zone, removed, added });
        }
        steps
    }

    /// When it is published.
    pub fn at(&self) -> Moment {
        self.at
    }

    /// The whole zone.
    pub fn zone(&self) -> &Zone {
        &self.zone
    }

    /// The records that are no more.
    pub fn removed(&self) -> &[Record] {
        &self.removed
    }

    /// The records that are new.
    pub fn added(&self) -> &[Record] {
        &self.added
    }
}

/// A later serial (RFC 1982): one more, or, where the file writes the date and a number of two
/// digits, the first of the day if that is later.
fn next_serial(serial: u32, at: Moment) -> u32 {
    let more = serial.wrapping_add(1);
    let is_date = (1_990_010_100..2_100_000_000).contains(&serial)
        && (1..=12).contains(&(serial / 10_000 % 100))
        && (1..=31).contains(&(serial / 100 % 100));
    let day: u32 = at.date().replace('-', "").parse().unwrap_or(0);
    match is_date {
        true => more.max(day.saturating_mul(100)),
        false => more,
    }
}
