//! The zones of a change, step by step.

use proptest::prelude::*;
use ravel::Rules;
use ravel_dns::{Moment, Plan, Timeline, Zone, ZoneStep};

const RULES: &str = "site https://www.h.example/\n  alias h.example\ndomain h.example\n  host edge.host.example\n  \
                     address 192.0.2.44\n  verification _o \"p-1\"\n  issue verification\n";

const RECORDS: [&str; 7] = [
    "@ 2d A 203.0.113.80\n",
    "@ 1h A 192.0.2.44\n",
    "@ 1h AAAA 2001:db8:80::80\n",
    "www 3d CNAME old.example.\n",
    "_o 1h TXT \"p-1\"\n",
    "@ 1h MX 10 mail\n",
    "mail 1h A 203.0.113.25\n",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]

    /// Serials rise (RFC 1982), each step says just what it changes, and the last leaves nothing.
    #[test]
    fn steps_lead_from_the_zone_to_what_is_needed(
        records in prop::sample::subsequence(&RECORDS[..], 0..=RECORDS.len()),
        serial in prop::sample::select(&[0, 7, 2_026_110_704, 2_027_030_199, 2_026_113_299, u32::MAX][..]),
    ) {
        let text = format!("@ 1h SOA ns1 hostmaster {serial} 2h 15m 2w 30m ; the start\n{}", records.concat());
        let zone = Zone::parse("h.example", &text).unwrap();
        let rules = Rules::parse(RULES).unwrap();
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        let moment: Moment = "2027-03-01T06:00:00Z".parse().unwrap();
        let steps = ZoneStep::of(&Timeline::in_order(&plan, None, moment), &zone);
        prop_assert_eq!(steps.is_empty(), plan.changes().is_empty());
        let mut before = zone.clone();
        for step in &steps {
            let rises = step.zone().serial().wrapping_sub(before.serial()) as i32 > 0;
            prop_assert!(rises, "{} after {}", step.zone().serial(), before.serial());
            let of = |zone: &Zone| zone.records().filter(|record| *record != zone.soa()).count();
            let count = of(&before) + step.added().len() - step.removed().len();
            prop_assert_eq!(count, of(step.zone()));
            for record in step.added() {
                prop_assert!(step.zone().of(record.name()).any(|other| other.data() == record.data()));
            }
            prop_assert!(step.zone().text().contains("; the start"));
            before = step.zone().clone();
        }
        let last = Plan::new(rules.site(), &rules.domains()[0], &before);
        prop_assert!(last.changes().is_empty(), "{}", before.text());
    }
}
