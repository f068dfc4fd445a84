//! What to enter where nothing is known of the zone, and records that prove ownership.

use proptest::prelude::*;
use ravel::Rules;
use ravel_dns::{Action, Entry, Moment, Plan, Timeline, Zone};

const SOA: &str = "@ 1h IN SOA ns1 hostmaster 1 2h 15m 2w 30m\n";

fn rules(settings: &str) -> Rules {
    let text = format!(
        "site https://www.h.example/\n  alias h.example\n  preview *.p.h.example\ndomain h.example\n  \
         host edge.host.example\n  address 192.0.2.44, 2001:db8::44\n{settings}"
    );
    Rules::parse(&text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

fn setting() -> impl Strategy<Value = String> {
    let name = prop::sample::select(&["@", "_a", "_b.c", "_d.h.example", "_e.h.example."][..]);
    let value = prop::sample::select(
        &["\"p-1\"", "\"with \\\"quotes\\\" and ; more\"", "cname x.host.example", "\"cname\""][..],
    );
    (name, value).prop_filter_map("nothing stands beside a CNAME", |(name, value)| {
        let is_alias_of_all = name == "@" && value.starts_with("cname");
        (!is_alias_of_all).then(|| format!("  verification {name} {value}\n"))
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]

    /// A zone of just what was to be entered has all that is needed.
    #[test]
    fn what_is_entered_is_what_is_needed(
        mut settings in prop::collection::vec(setting(), 0..4),
        alias in any::<bool>(),
        ttl in any::<bool>(),
    ) {
        settings.sort();
        settings.dedup_by(|one, other| one.split(' ').nth(3) == other.split(' ').nth(3));
        let more = format!("{}{}", if alias { "  apex alias\n" } else { "" }, if ttl { "  ttl 5m\n" } else { "" });
        let rules = rules(&format!("{}{more}", settings.concat()));
        let (site, domain) = (rules.site(), &rules.domains()[0]);
        let entries = Entry::of(site, domain);
        let zone = entries.iter().fold(SOA.to_owned(), |zone, entry| format!("{zone}{entry}\n"));
        let zone = Zone::parse("h.example", &zone).map_err(|error| TestCaseError::fail(format!("{error}: {zone}")))?;
        let plan = Plan::new(site, domain, &zone);
        prop_assert!(plan.changes().is_empty());
        for row in plan.rows() {
            prop_assert!(matches!(row.action(), Action::Keep | Action::Unseen), "{row:?}");
        }
        prop_assert_eq!(entries.len(), plan.rows().len());
    }
}

/// Each way a record that proves ownership can stand in a zone.
#[test]
fn what_proves_ownership_is_planned() {
    let cases = [
        ("_a cname x.host.example", "", "add", ""),
        ("_a cname x.host.example", "_a 1h CNAME x.host.example.\n", "keep", ""),
        ("_a cname x.host.example", "_a 1h CNAME old.host.example.\n", "change", ""),
        ("_a cname x.host.example", "_a 1h TXT \"p\"\n", "blocked", "beside its TXT record"),
        ("_a \"p\"", "_a 1h CNAME x.host.example.\n", "blocked", "a CNAME stands at this name"),
        ("_a \"p\"", "_a 1h TXT \"other\"\n", "add", ""),
        ("_a.h.example \"p\"", "_a 1h TXT \"p\"\n", "keep", "as a whole"),
        ("_a.other.example. \"p\"", "", "blocked", "outside this zone"),
    ];
    for (setting, records, action, note) in cases {
        let rules = rules(&format!("  verification _z \"first\"\n  verification {setting}\n"));
        let zone = Zone::parse("h.example", &format!("{SOA}{records}")).unwrap();
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        let row = plan.rows().last().unwrap();
        assert_eq!(row.action().name(), action, "{setting} {records}");
        assert!(row.note().unwrap_or_default().contains(note), "{setting}: {row:?}");
        let moment: Moment = "2027-03-01T06:00:00Z".parse().unwrap();
        let in_order = Timeline::in_order(&plan, None, moment);
        // All of them are there before the rest changes, and together they prove it.
        if action != "blocked" {
            let seen = in_order.verification().map(|window| window.worst());
            assert!(seen.is_some_and(|seen| seen <= moment), "{setting} {records}: {seen:?}");
        }
        let now = Zone::parse("h.example", &zone.with(plan.changes())).unwrap();
        let again = Plan::new(rules.site(), &rules.domains()[0], &now);
        assert!(again.changes().is_empty(), "{setting} {records}");
    }
}
