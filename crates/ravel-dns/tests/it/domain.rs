//! What a domain needs beside what it has.

use std::collections::BTreeSet;

use crate::common::{SETTINGS, rules, zone};
use proptest::prelude::*;
use ravel::Rules;
use ravel_dns::zone::{Name, Record, RecordType};
use ravel_dns::{Action, Plan, Zone};

/// The rows that are not as they must be, in short.
fn to_do(plan: &Plan<'_>) -> Vec<String> {
    let rows = plan.rows().iter().filter(|row| row.action() != Action::Keep);
    rows.map(|row| {
        let side = |held: Option<&ravel_dns::RecordValue>| {
            held.map_or("-".to_owned(), |held| held.data().to_owned())
        };
        let host = row.host().replace("harbour.example", "H");
        format!(
            "{} {host} {} {} > {}",
            row.action().name(),
            row.kind(),
            side(row.there()),
            side(row.needed())
        )
    })
    .collect()
}

const GOOD: &str = "@ A 192.0.2.44\n@ AAAA 2001:db8:44::1\nwww CNAME site.host.example.\n*.preview CNAME site.host.example.\n\
                    _edge-proof TXT p-1\n";

#[test]
fn plans_say_what_is_to_do() {
    let cases: &[(&str, &str, &[&str])] = &[
        (SETTINGS, GOOD, &[]),
        (
            SETTINGS,
            "",
            &[
                "add H A - > 192.0.2.44",
                "add H AAAA - > 2001:db8:44::1",
                "add www.H CNAME - > site.host.example.",
                "add *.preview.H CNAME - > site.host.example.",
                "add _edge-proof.H TXT - > \"p-1\"",
            ],
        ),
        (
            SETTINGS,
            &GOOD.replace("192.0.2.44", "203.0.113.1"),
            &["change H A 203.0.113.1 > 192.0.2.44"],
        ),
        (SETTINGS, &format!("{GOOD}@ A 203.0.113.1\n"), &["remove H A 203.0.113.1 > -"]),
        (
            SETTINGS,
            &GOOD.replace("www CNAME site.host.example.", "www A 203.0.113.1"),
            &["add www.H CNAME - > site.host.example.", "remove www.H A 203.0.113.1 > -"],
        ),
        // What the site does not need is not touched.
        (
            SETTINGS,
            &format!("{GOOD}@ MX 10 mail\nshop A 203.0.113.9\n_edge-proof TXT older\n"),
            &[],
        ),
        // No CNAME can stand beside a TXT record.
        (
            SETTINGS,
            &GOOD.replace("www CNAME site.host.example.", "www TXT x"),
            &["add www.H A - > 192.0.2.44", "add www.H AAAA - > 2001:db8:44::1"],
        ),
        (
            "host site.host.example\napex alias",
            "www TXT x\n*.preview CNAME site.host.example.\n@ A 203.0.113.5\n",
            &[
                "not seen H A - > an alias of site.host.example",
                "remove H A 203.0.113.5 > -",
                "blocked www.H CNAME - > site.host.example.",
            ],
        ),
        (
            SETTINGS,
            &GOOD.replace("*.preview CNAME site.host.example.", "preview NS ns.elsewhere.example."),
            &["blocked *.preview.H CNAME - > site.host.example."],
        ),
        // A TTL that is stated is wanted; none is left as it is.
        (
            &format!("{SETTINGS}ttl 5m"),
            GOOD,
            &[
                "change H A 192.0.2.44 > 192.0.2.44",
                "change H AAAA 2001:db8:44::1 > 2001:db8:44::1",
                "change www.H CNAME site.host.example. > site.host.example.",
                "change *.preview.H CNAME site.host.example. > site.host.example.",
            ],
        ),
        (
            "address 192.0.2.44\nhost site.host.example.",
            &GOOD.replace("www CNAME", "www CNAME  "),
            &["remove H AAAA 2001:db8:44::1 > -"],
        ),
    ];
    for (settings, body, expected) in cases {
        let (rules, zone) = (rules(settings), zone(body));
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        assert_eq!(to_do(&plan), *expected, "{settings}\n{body}");
        assert_settles(&rules, &zone);
    }
}

/// A plan that is carried out leaves nothing to do, and touches no other name.
fn assert_settles(rules: &Rules, zone: &Zone) {
    let domain = &rules.domains()[0];
    let plan = Plan::new(rules.site(), domain, zone);
    let after = zone.changed(plan.changes());
    let again = Plan::new(rules.site(), domain, &after);
    let left: Vec<String> = to_do(&again)
        .into_iter()
        .filter(|row| !row.starts_with("blocked") && !row.starts_with("not seen"))
        .collect();
    assert_eq!(left, Vec::<String>::new(), "{}\n--- became\n{}", zone.text(), after.text());
    assert!(again.changes().is_empty());
    let of_site = [
        "harbour.example",
        "www.harbour.example",
        "*.preview.harbour.example",
        "_edge-proof.harbour.example",
    ];
    let others = |zone: &Zone| -> Vec<String> {
        let kinds = [RecordType::A, RecordType::AAAA, RecordType::CNAME, RecordType::SOA];
        let other = |record: &&Record| {
            let name = record.name().to_string();
            !of_site.contains(&&*name) || !kinds.contains(&record.kind()) && name != of_site[3]
        };
        zone.records()
            .filter(other)
            .map(|record| format!("{} {} {:?}", record.name(), record.ttl(), record.data()))
            .collect()
    };
    assert_eq!(others(zone), others(&after), "{}\n--- became\n{}", zone.text(), after.text());
}

/// Records of the names that the site has, and of others.
fn body() -> impl Strategy<Value = String> {
    let name = prop::sample::select(vec![
        "@",
        "www",
        "*.preview",
        "x.preview",
        "_edge-proof",
        "shop",
        "old",
    ]);
    let ttl = prop::sample::select(vec!["", "4", "7", "300"]);
    let data = prop::sample::select(vec![
        "A 192.0.2.44",
        "A 203.0.113.1",
        "A 203.0.113.2",
        "AAAA 2001:db8:44::1",
        "AAAA 2001:db8::9",
        "CNAME site.host.example.",
        "CNAME @",
        "CNAME old",
        "CNAME elsewhere.example.",
        "TXT p-1",
        "TXT other",
        "MX 10 mail",
    ]);
    prop::collection::vec((name, ttl, data), 0..9).prop_map(|lines| {
        lines.iter().map(|(name, ttl, data)| format!("{name} {ttl} {data}\n")).collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn a_plan_that_is_carried_out_leaves_nothing_to_do(body in body(), apex in any::<bool>()) {
        let settings = if apex { SETTINGS.to_owned() } else { format!("{SETTINGS}apex alias") };
        assert_settles(&rules(&settings), &zone(&body));
    }
}

#[test]
fn a_zone_of_many_records_is_planned() {
    let body: String =
        (0..100_000).map(|number| format!("h{number} 60 A 192.0.2.{}\n", number % 250)).collect();
    let (rules, zone) = (rules(SETTINGS), zone(&body));
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    assert_eq!(to_do(&plan).len(), 5);
    let after = zone.changed(plan.changes());
    assert_eq!(after.records().len(), 100_006);
    let names: BTreeSet<&Name> = after.records().map(|record| record.name()).collect();
    assert_eq!(names.len(), 100_004);
}
