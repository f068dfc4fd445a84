//! What visitors see while a domain changes, beside resolvers that ask and keep for themselves.

use crate::common::{SETTINGS, moment, rules, zone};
use proptest::prelude::*;
use ravel::Rules;
use ravel_dns::zone::{Lookup, RecordType};
use ravel_dns::{Issuance, Moment, Plan, StepKind, Timeline, Zone};

/// Resolvers fetch between whole seconds, too: their moments are half seconds.
const HALVES: i64 = 2;

/// Where visitors can end.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
struct Destinations {
    old: bool,
    new: bool,
    missing: bool,
}

/// The names whose answers change; a question is a place in this list.
const NAMES: [&str; 3] = ["harbour.example", "www.harbour.example", "old.harbour.example"];

/// What a server says to a question.
#[derive(Clone, Copy)]
enum Answer {
    Nothing,
    Alias(usize),
    /// Nothing more is asked: it is known where the visitor ends.
    End(Destinations),
}

/// Each question's answer for one kind of address, with its TTL in seconds.
type Answers = [(u32, Answer); NAMES.len()];

/// Answers, each from a moment on.
type Versions = [(i64, Answers)];

fn answers(zone: &Zone, kind: RecordType) -> Answers {
    NAMES.map(|name| match zone.lookup(&name.parse().unwrap(), kind) {
        Lookup::Records(records) => {
            let new: Vec<bool> = records
                .iter()
                .filter_map(|record| record.data())
                .map(|data| ["192.0.2.44", "2001:db8:44::1"].contains(&&*data.to_string()))
                .collect();
            let ends = Destinations {
                new: new.contains(&true),
                old: new.contains(&false),
                missing: false,
            };
            (records.iter().map(|record| record.ttl()).min().unwrap(), Answer::End(ends))
        }
        Lookup::Alias(record, target) => {
            let target = target.to_string();
            let said = match NAMES.iter().position(|name| *name == target) {
                Some(name) => Answer::Alias(name),
                None => {
                    let new = target == "site.host.example";
                    Answer::End(Destinations { new, old: !new, missing: false })
                }
            };
            (record.ttl(), said)
        }
        _ => (zone.negative_ttl(), Answer::Nothing),
    })
}

/// A resolver: what it fetched, by question, with the end of its TTL.
#[derive(Default)]
struct Resolver {
    kept: [Option<(i64, Answer)>; NAMES.len()],
}

impl Resolver {
    /// Asks the servers at a moment, unless what it has still lives.
    fn ask(&mut self, versions: &Versions, name: usize, now: i64) -> Answer {
        if let Some((_, said)) = self.kept[name].filter(|(end, _)| *end > now) {
            return said;
        }
        let (_, answers) = versions.iter().rev().find(|(from, _)| *from <= now).unwrap();
        let (ttl, said) = answers[name];
        self.kept[name] = Some((now + HALVES * i64::from(ttl), said));
        said
    }

    /// Where a visitor of this resolver ends.
    fn visit(&mut self, versions: &Versions, mut name: usize, now: i64) -> Destinations {
        for _ in 0..4 {
            match self.ask(versions, name, now) {
                Answer::Nothing => {
                    return Destinations { missing: true, ..Destinations::default() };
                }
                Answer::Alias(target) => name = target,
                Answer::End(ends) => return ends,
            }
        }
        Destinations { old: true, ..Destinations::default() }
    }
}

/// Everything that some resolver can show at a moment, each question having been fetched last at a
/// moment of its own.
fn brute_force(kinds: [&Versions; 2], name: usize, now: i64) -> Destinations {
    // Nothing lives longer than this.
    let first = now - 7 * HALVES;
    let [v4, v6] = kinds.map(|versions| {
        let mut all = Destinations::default();
        for own in first..=now {
            for other in first..=now {
                let mut resolver = Resolver::default();
                let mut asked = [0, 1, 2].map(|of| (if of == name { own } else { other }, of));
                asked.sort_by_key(|(moment, _)| *moment);
                for (moment, name) in asked {
                    resolver.ask(versions, name, moment);
                }
                let ends = resolver.visit(versions, name, now);
                all.old |= ends.old;
                all.new |= ends.new;
                all.missing |= ends.missing;
            }
        }
        all
    });
    Destinations { old: v4.old || v6.old, new: v4.new || v6.new, missing: v4.missing && v6.missing }
}

/// Zones with short TTLs, in which names lead to names.
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
    #![proptest_config(ravel_testing::config(60))]

    #[test]
    fn the_course_is_what_many_resolvers_show(text in small(), in_order in any::<bool>()) {
        let zone = Zone::parse("harbour.example", &text).unwrap();
        let rules = Rules::parse(&format!(
            "site https://harbour.example/\n  alias www.harbour.example\ndomain harbour.example\n{}",
            SETTINGS.lines().map(|line| format!("  {line}\n")).collect::<String>()
        )).unwrap();
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        let course = match in_order {
            true => Timeline::in_order(&plan, None, moment()),
            false => Timeline::at_once(&plan, None, moment()),
        };
        let changes: Vec<i64> = course.zones().iter().map(|(at, _)| at.since(moment())).collect();
        let from = [i64::MIN / 2].into_iter().chain(changes.iter().map(|at| HALVES * at));
        let zones = [&zone].into_iter().chain(course.zones().iter().map(|(_, zone)| zone));
        let zones: Vec<(i64, &Zone)> = from.zip(zones).collect();
        let [v4, v6] = [RecordType::A, RecordType::AAAA].map(|kind| {
            zones.iter().map(|(from, zone)| (*from, answers(zone, kind))).collect::<Vec<_>>()
        });
        for host in course.hosts() {
            let name = NAMES.iter().position(|name| *name == host.host()).unwrap();
            for now in changes.iter().flat_map(|change| change - 2..change + 9) {
                let at = moment().plus(now);
                let span = host.spans().iter().find(|span| span.from().is_none_or(|from| from <= at) && span.until().is_none_or(|until| until > at));
                let seen = brute_force([&v4, &v6], name, HALVES * now);
                let ends = span.unwrap().ends();
                let ends = Destinations { old: ends.is_old(), new: ends.is_new(), missing: ends.is_missing() };
                prop_assert_eq!(ends, seen, "{} at {}, {:?}\n{}", host.host(), now, changes, text);
            }
        }
    }
}

fn after(course: &Timeline, at: Option<Moment>) -> Option<i64> {
    at.map(|at| at.since(course.moment()))
}

#[test]
fn a_switch_at_once_shows_how_long_the_old_one_stays() {
    let rules = rules(&format!("{SETTINGS}issue verification"));
    let zone = zone("@ 7200 A 203.0.113.1\nwww 86400 CNAME former.example.\n");
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    let course = Timeline::at_once(&plan, None, moment());
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
            ("*.preview.harbour.example", Some(0), None, Some(600), Some(600), Some(4200)),
        ]
    );
    let Issuance::In(window) = course.certificate() else { panic!("{:?}", course.certificate()) };
    assert_eq!(
        (after(&course, Some(window.best())), after(&course, Some(window.worst()))),
        (Some(0), Some(4200))
    );
    let gap = course.hosts()[0].gap().unwrap();
    assert_eq!(
        (after(&course, Some(gap.from())), after(&course, gap.until())),
        (Some(0), Some(4200))
    );
}

#[test]
fn in_order_nobody_is_without_https() {
    let rules = rules(&format!("{SETTINGS}issue verification"));
    let zone = zone("@ 7200 A 203.0.113.1\nwww 86400 CNAME former.example.\n@ CAA 0 issue \";\"\n");
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    assert_eq!(Timeline::at_once(&plan, None, moment()).certificate(), Issuance::Forbidden);
    let course = Timeline::in_order(&plan, None, moment());
    let steps: Vec<(i64, &str)> = course
        .steps()
        .iter()
        .map(|step| {
            let word = match &step.kind() {
                StepKind::Lower(sets, 300) if sets.len() == 3 => "lower three",
                StepKind::Lower(..) => "lower others",
                StepKind::Prove => "prove",
                StepKind::Allow => "allow",
                StepKind::Issue => "issue",
                StepKind::Switch => "switch",
                StepKind::Raise => "raise",
                StepKind::Sign => "sign",
                StepKind::Copy(_)
                | StepKind::RemoveKeys
                | StepKind::Delegate(_)
                | StepKind::Stop(_)
                | StepKind::AddKeys => "move",
            };
            (step.at().since(course.moment()), word)
        })
        .collect();
    assert_eq!(
        steps,
        [
            (-86400, "lower three"),
            (-86400, "prove"),
            (-86400, "allow"),
            (-82800, "issue"),
            (0, "switch"),
            (300, "raise")
        ]
    );
    assert!(course.hosts().iter().all(|host| host.gap().is_none()));
    assert_eq!(after(&course, course.hosts()[1].last_old()), Some(300));
    // Each zone of a signed one is signed again.
    let signed =
        Zone::parse("harbour.example", &format!("{}@ DNSKEY 257 3 13 AAAA\n", zone.text()))
            .unwrap();
    let course =
        Timeline::in_order(&Plan::new(rules.site(), &rules.domains()[0], &signed), None, moment());
    let signs = course.steps().iter().filter(|step| *step.kind() == StepKind::Sign);
    assert_eq!(signs.count(), course.zones().len());
}

/// What issuing takes is counted, and it is said when an earlier one would leave no gap.
#[test]
fn a_certificate_that_waits_for_the_records_leaves_a_gap() {
    for (issue, takes, helps) in [
        ("", 3_600, true),
        ("issue records in 30m", 1_800, true),
        ("issue records in 0s", 0, false),
        ("issue verification in 2h", 0, false),
    ] {
        let rules = rules(&format!("{SETTINGS}{issue}"));
        let zone = zone("@ A 203.0.113.1\n");
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        let course = Timeline::in_order(&plan, None, moment());
        let host = &course.hosts()[0];
        let gap = host.gap().map_or(0, |gap| gap.until().unwrap().since(gap.from()));
        assert_eq!((gap, course.needs_no_gap()), (takes, helps), "{issue}");
        // Everybody has HTTPS only once nobody is without it.
        assert!(host.gap().is_none_or(|gap| host.https() >= gap.until()), "{issue}");
        let at_once = Timeline::at_once(&plan, None, moment());
        assert!(
            at_once.hosts()[0].gap().is_none_or(|gap| at_once.hosts()[0].https() >= gap.until())
        );
    }
}
