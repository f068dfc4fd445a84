//! What a domain needs beside what it has: plans, and what visitors see while they are carried out.

use std::collections::BTreeSet;

use proptest::prelude::*;
use ravel::Rules;
use ravel_dns::zone::{Lookup, Name, Record, RecordData, RecordType};
use ravel_dns::{Action, Course, Issued, Moment, Plan, StepKind, Zone};

const SETTINGS: &str =
    "host site.host.example\naddress 192.0.2.44, 2001:db8:44::1\nproof _edge-proof \"p-1\"\n";

fn rules(settings: &str) -> Rules {
    let settings: String = settings.lines().map(|line| format!("  {line}\n")).collect();
    let text = format!(
        "site https://harbour.example/\n  alias www.harbour.example, other.example\n  preview *.preview.harbour.example\n\
         domain harbour.example\n{settings}"
    );
    Rules::parse(&text).unwrap_or_else(|problems| panic!("{text}{problems}"))
}

fn zone(body: &str) -> Zone {
    let text = format!("$TTL 1h\n@ SOA ns1 host 7 7200 900 1209600 600\n{body}");
    Zone::parse("harbour.example", &text).unwrap_or_else(|error| panic!("{error}\n{text}"))
}

fn moment() -> Moment {
    "2027-03-01T06:00:00Z".parse().unwrap()
}

/// The rows that are not as they must be, in short.
fn to_do(plan: &Plan<'_>) -> Vec<String> {
    let rows = plan.rows().iter().filter(|row| row.action() != Action::Keep);
    rows.map(|row| {
        let side = |held: Option<&ravel_dns::Held>| {
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
        // A life that is stated is wanted; none is left as it is.
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

/// Resolvers fetch between whole seconds, too: their moments are half seconds.
const HALVES: i64 = 2;

/// Where visitors can end.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
struct Ends {
    old: bool,
    new: bool,
    missing: bool,
}

/// A resolver: what it fetched, by question, with the end of its life.
struct Resolver {
    kept: Vec<(Name, RecordType, i64, Option<Kept>)>,
}

#[derive(Clone)]
enum Kept {
    Alias(Name),
    Data(Vec<RecordData>),
}

/// Zones, each from a moment on.
type Versions<'z> = [(i64, &'z Zone)];

impl Resolver {
    /// Asks the servers at a moment, unless what it has still lives.
    fn ask(
        &mut self,
        versions: &Versions<'_>,
        name: &Name,
        kind: RecordType,
        now: i64,
    ) -> Option<Kept> {
        let kept =
            self.kept.iter().find(|(known, of, end, _)| known == name && *of == kind && *end > now);
        if let Some((.., kept)) = kept {
            return kept.clone();
        }
        let zone = versions.iter().rev().find(|(from, _)| *from <= now).unwrap().1;
        let (ttl, kept) = match zone.lookup(name, kind) {
            Lookup::Records(records) => (
                records.iter().map(|record| record.ttl()).min().unwrap(),
                Some(Kept::Data(
                    records.iter().filter_map(|record| record.data().cloned()).collect(),
                )),
            ),
            Lookup::Alias(record, target) => (record.ttl(), Some(Kept::Alias(target.clone()))),
            _ => (zone.negative_ttl(), None),
        };
        self.kept.retain(|(known, of, ..)| known != name || *of != kind);
        self.kept.push((name.clone(), kind, now + HALVES * i64::from(ttl), kept.clone()));
        kept
    }

    /// Where a visitor of this resolver ends, for one kind of address.
    fn visit(&mut self, versions: &Versions<'_>, name: &Name, kind: RecordType, now: i64) -> Ends {
        let mut name = name.clone();
        for _ in 0..4 {
            match self.ask(versions, &name, kind, now) {
                None => return Ends { missing: true, ..Ends::default() },
                Some(Kept::Alias(target)) => {
                    let text = target.to_string();
                    if text == "site.host.example" {
                        return Ends { new: true, ..Ends::default() };
                    }
                    if !text.ends_with("harbour.example") {
                        return Ends { old: true, ..Ends::default() };
                    }
                    name = target;
                }
                Some(Kept::Data(data)) => {
                    let new = |data: &RecordData| {
                        ["192.0.2.44", "2001:db8:44::1"].contains(&&*data.to_string())
                    };
                    return Ends {
                        new: data.iter().any(new),
                        old: !data.iter().all(new),
                        missing: false,
                    };
                }
            }
        }
        Ends { old: true, ..Ends::default() }
    }
}

/// Everything that some resolver can show at a moment, each question having been fetched last at a
/// moment of its own.
fn brute_force(versions: &Versions<'_>, name: &Name, now: i64) -> Ends {
    // Nothing lives longer than this.
    let first = now - 7 * HALVES;
    let names: Vec<Name> = ["harbour.example.", "www.harbour.example.", "old.harbour.example."]
        .iter()
        .map(|name| name.parse().unwrap())
        .collect();
    let mut of_kind = [Ends::default(); 2];
    for (at, kind) in [RecordType::A, RecordType::AAAA].into_iter().enumerate() {
        for own in first..=now {
            for other in first..=now {
                let mut resolver = Resolver { kept: Vec::new() };
                let mut asked: Vec<(i64, &Name)> = names
                    .iter()
                    .map(|other_name| (if other_name == name { own } else { other }, other_name))
                    .collect();
                asked.push((own, name));
                asked.sort_by_key(|(moment, _)| *moment);
                for (moment, name) in asked {
                    resolver.ask(versions, name, kind, moment);
                }
                let ends = resolver.visit(versions, name, kind, now);
                of_kind[at].old |= ends.old;
                of_kind[at].new |= ends.new;
                of_kind[at].missing |= ends.missing;
            }
        }
    }
    let [v4, v6] = of_kind;
    Ends { old: v4.old || v6.old, new: v4.new || v6.new, missing: v4.missing && v6.missing }
}

/// Zones with short lives, in which names lead to names.
fn small() -> impl Strategy<Value = String> {
    let one = |data: &'static [&'static str]| (prop::sample::select(data), 0..6u32);
    let apex = one(&[
        "A 192.0.2.44",
        "A 203.0.113.1",
        "AAAA 2001:db8::9",
        "MX 1 m",
        "A 192.0.2.44\n@ A 203.0.113.1",
    ]);
    let www = one(&[
        "A 203.0.113.1",
        "CNAME @",
        "CNAME old",
        "CNAME elsewhere.example.",
        "CNAME site.host.example.",
        "TXT x",
    ]);
    let old = one(&["A 203.0.113.7", "AAAA 2001:db8::7"]);
    (apex, www, old, 1..6u32, any::<[bool; 3]>()).prop_map(|(apex, www, old, minimum, there)| {
        let mut text = format!("$TTL 3\n@ SOA ns1 host 7 7200 900 1209600 {minimum}\n");
        for ((name, (data, ttl)), there) in
            [("@", apex), ("www", www), ("old", old)].into_iter().zip(there)
        {
            if there {
                text.push_str(&format!(
                    "{name} {ttl} {}\n",
                    data.replace("\n@", &format!("\n@ {ttl}"))
                ));
            }
        }
        text
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn the_course_is_what_many_resolvers_show(text in small(), in_order in any::<bool>()) {
        let zone = Zone::parse("harbour.example", &text).unwrap();
        let rules = Rules::parse(&format!(
            "site https://harbour.example/\n  alias www.harbour.example\ndomain harbour.example\n{}",
            SETTINGS.lines().map(|line| format!("  {line}\n")).collect::<String>()
        )).unwrap();
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        let course = match in_order {
            true => Course::in_order(&plan, None, moment()),
            false => Course::at_once(&plan, None, moment()),
        };
        let changes: Vec<i64> = course.zones().iter().map(|(at, _)| at.since(moment())).collect();
        let mut versions = vec![(i64::MIN / 2, &zone)];
        versions.extend(changes.iter().zip(course.zones()).map(|(at, (_, zone))| (HALVES * at, zone)));
        for host in course.hosts() {
            let name = host.host().parse().unwrap();
            for now in changes.iter().flat_map(|change| change - 2..change + 9) {
                let at = moment().plus(now);
                let span = host.spans().iter().find(|span| span.from().is_none_or(|from| from <= at) && span.until().is_none_or(|until| until > at));
                let seen = brute_force(&versions, &name, HALVES * now);
                let ends = span.unwrap().ends();
                let ends = Ends { old: ends.is_old(), new: ends.is_new(), missing: ends.is_missing() };
                prop_assert_eq!(ends, seen, "{} at {}, {:?}\n{}", host.host(), now, changes, text);
            }
        }
    }
}

fn after(course: &Course, at: Option<Moment>) -> Option<i64> {
    at.map(|at| at.since(course.moment()))
}

#[test]
fn a_switch_at_once_shows_how_long_the_old_one_stays() {
    let rules = rules(&format!("{SETTINGS}issue proof"));
    let zone = zone("@ 7200 A 203.0.113.1\nwww 86400 CNAME former.example.\n");
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    let course = Course::at_once(&plan, None, moment());
    let seen: Vec<_> = course
        .hosts()
        .iter()
        .map(|host| {
            (
                host.host(),
                after(&course, host.first_new()),
                after(&course, host.last_old()),
                after(&course, host.last_missing()),
                after(&course, host.all_new()),
                after(&course, host.https()),
            )
        })
        .collect();
    assert_eq!(
        seen,
        [
            ("harbour.example", Some(0), Some(7200), None, Some(7200), Some(7200)),
            ("www.harbour.example", Some(0), Some(86400), None, Some(86400), Some(86400)),
            ("*.preview.harbour.example", Some(0), None, Some(600), Some(600), Some(600)),
        ]
    );
    let Issued::In(window) = course.certificate() else { panic!("{:?}", course.certificate()) };
    assert_eq!(
        (after(&course, Some(window.best())), after(&course, Some(window.worst()))),
        (Some(0), Some(600))
    );
    let gap = course.hosts()[0].gap().unwrap();
    assert_eq!(
        (after(&course, Some(gap.from())), after(&course, gap.until())),
        (Some(0), Some(600))
    );
}

#[test]
fn in_order_nobody_is_without_https() {
    let rules = rules(&format!("{SETTINGS}issue proof"));
    let zone = zone("@ 7200 A 203.0.113.1\nwww 86400 CNAME former.example.\n@ CAA 0 issue \";\"\n");
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    assert_eq!(Course::at_once(&plan, None, moment()).certificate(), Issued::Forbidden);
    let course = Course::in_order(&plan, None, moment());
    let steps: Vec<(i64, &str)> = course
        .steps()
        .iter()
        .map(|step| {
            let word = match &step.kind() {
                StepKind::Lower(sets, 300) if sets.len() == 2 => "lower two",
                StepKind::Lower(..) => "lower others",
                StepKind::Prove => "prove",
                StepKind::Allow => "allow",
                StepKind::Issue => "issue",
                StepKind::Switch => "switch",
                StepKind::Raise => "raise",
            };
            (step.at().since(course.moment()), word)
        })
        .collect();
    assert_eq!(
        steps,
        [
            (-86400, "lower two"),
            (-86400, "prove"),
            (-86400, "allow"),
            (-82800, "issue"),
            (0, "switch"),
            (600, "raise")
        ]
    );
    assert!(course.hosts().iter().all(|host| host.gap().is_none()));
    assert_eq!(after(&course, course.hosts()[1].last_old()), Some(300));
}

#[test]
fn a_certificate_that_waits_for_the_records_leaves_a_gap() {
    let rules = rules(SETTINGS);
    let zone = zone("@ A 203.0.113.1\n");
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    for course in [Course::at_once(&plan, None, moment()), Course::in_order(&plan, None, moment())]
    {
        let gap = course.hosts()[0].gap().unwrap();
        assert_eq!(after(&course, Some(gap.from())), Some(0));
        assert!(after(&course, gap.until()) >= Some(0));
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
