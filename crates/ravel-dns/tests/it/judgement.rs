//! What the zone's plan says and what its answers say are one judgement.

use proptest::prelude::*;
use ravel::Rules;
use ravel_dns::zone::{Lookup, Name, RecordData, RecordType};
use ravel_dns::{Plan, Requirement, Zone};

const RULES: &str = "site https://www.h.example/\n  alias h.example\ndomain h.example\n  host edge.host.example\n  \
                     address 192.0.2.44, 2001:db8::44\n  verification _o \"one two\"\n  verification _c cname x.host.example\n";

const RECORDS: [&str; 18] = [
    "@ 1h A 192.0.2.44\n",
    "@ 1h AAAA 2001:db8::44\n",
    "@ 1h A 203.0.113.80\n",
    "@ 1h MX 10 mail\n",
    "www 1h CNAME edge.host.example.\n",
    "www 1h CNAME old.example.\n",
    "www 1h A 192.0.2.44\n",
    "www 1h AAAA 2001:db8::44\n",
    "www 1h A 203.0.113.80\n",
    "www 1h TXT \"note\"\n",
    "www 1h MX 10 mail\n",
    "* 1h CNAME edge.host.example.\n",
    "_o 1h TXT \"one two\"\n",
    "_o 1h TXT \"one \" \"two\"\n",
    "_o 1h TXT \"other\"\n",
    "_o 1h CNAME other.example.\n",
    "_c 1h CNAME x.host.example.\n",
    "_c 1h TXT \"in the way\"\n",
];

/// What a name server of the zone would answer, as it is asked.
fn answers(zone: &Zone, wanted: &Requirement) -> Vec<RecordData> {
    let of = |name: &Name, kind: RecordType| -> Vec<RecordData> {
        match zone.lookup(name, kind) {
            Lookup::Records(records) => {
                records.iter().filter_map(|record| record.data().cloned()).collect()
            }
            Lookup::Alias(record, _) if kind == RecordType::CNAME => {
                record.data().cloned().into_iter().collect()
            }
            _ => Vec::new(),
        }
    };
    let mut all = of(wanted.name(), wanted.kind());
    if all.is_empty() {
        all.extend(wanted.asked_instead().flat_map(|kind| of(wanted.name(), kind)));
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig { max_global_rejects: 100_000, ..ProptestConfig::with_cases(2_000) })]

    #[test]
    fn a_zone_and_its_answers_are_judged_alike(
        records in prop::sample::subsequence(&RECORDS[..], 0..=9),
    ) {
        let text = format!("@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n{}", records.concat());
        let zone = Zone::parse("h.example", &text).unwrap();
        // A name server refuses a zone in which something stands beside a CNAME.
        let has = |name: &str, kind: &str| {
            records.iter().any(|record| record.split(' ').next() == Some(name) && record.split(' ').nth(2) == Some(kind))
        };
        let is_refused = ["www", "_o", "_c"].iter().any(|name| {
            let aliases = records.iter().filter(|record| record.starts_with(&format!("{name} ")) && record.contains(" CNAME ")).count();
            aliases > 1 || (aliases == 1 && ["A", "AAAA", "TXT", "MX"].iter().any(|kind| has(name, kind)))
        });
        prop_assume!(!is_refused);
        let rules = Rules::parse(RULES).unwrap();
        let (site, domain) = (rules.site(), &rules.domains()[0]);
        let plan = Plan::new(site, domain, &zone);
        for host in ["www.h.example", "h.example", "_o.h.example", "_c.h.example"] {
            let is_to_do = plan.rows().iter().any(|row| row.host() == host && row.action().is_to_do());
            let is_met = Requirement::of(site, domain)
                .iter()
                .filter(|wanted| wanted.host() == host)
                .all(|wanted| wanted.is_met_by(&answers(&zone, wanted)));
            // A wildcard answers for a name that the plan wants to stand alone.
            let by_wildcard = has("*", "CNAME") && !records.iter().any(|record| record.starts_with(&host.replace(".h.example", " ")));
            prop_assert!(is_met != is_to_do || by_wildcard, "{host}: met {is_met}, to do {is_to_do}\n{text}");
        }
    }
}
