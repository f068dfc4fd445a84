//! Moves to other name servers, beside every state that a resolver can be in.
//!
//! A resolver has a delegation, from the parent or from the zone itself, and answers; it may ask at any
//! moment, and may take up what a server says of the zone's servers, or not. All states that can be
//! reached are followed, a quarter of the shortest TTL at a time.

use std::collections::BTreeSet;

use ravel::Rules;
use ravel_dns::zone::{Lookup, RecordType};
use ravel_dns::{Destinations, Moment, Plan, StepKind, Timeline, Zone};

/// Moments in a unit of time. A unit is a second, or as long as the TTL that records get before a
/// change.
const FINE: i64 = 4;

/// From which servers a resolver takes answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Servers {
    Old,
    New,
}

/// What a resolver has, each with how long it still has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
struct State {
    /// Whether it is from the zone itself.
    delegation: Option<(bool, Servers, i64)>,
    /// Of `www`, and of the name that it may lead to.
    answers: [Option<(Answer, i64)>; 2],
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Answer {
    Old,
    New,
    Missing,
    Alias,
}

/// What servers say, each with how long it is kept.
#[derive(Clone, Copy)]
struct Says {
    /// Of `www`, and of the name that it may lead to.
    answers: [(Answer, i64); 2],
    /// Which servers are the zone's.
    servers: (Servers, i64),
}

impl Says {
    fn new(zone: &Zone, unit: i64) -> Says {
        let kept = |ttl: u32| FINE * i64::from(ttl) / unit;
        let answer = |name: &str| match zone.lookup(&name.parse().unwrap(), RecordType::A) {
            Lookup::Records(records) => {
                let data = records[0].data().unwrap().to_string();
                let answer = if data == "192.0.2.44" { Answer::New } else { Answer::Old };
                (answer, kept(records[0].ttl()))
            }
            Lookup::Alias(record, target) => match &*target.to_string() {
                "site.host.example" => (Answer::New, kept(record.ttl())),
                "old.harbour.example" => (Answer::Alias, kept(record.ttl())),
                other => panic!("{other}"),
            },
            _ => (Answer::Missing, kept(zone.negative_ttl())),
        };
        let own = zone.set(zone.origin(), RecordType::NS).next().unwrap();
        let is_new = own.data().unwrap().target().unwrap().to_string() == "ns.new.example";
        Says {
            answers: ["www.harbour.example", "old.harbour.example"].map(answer),
            servers: (if is_new { Servers::New } else { Servers::Old }, kept(own.ttl())),
        }
    }
}

/// A move, and what servers say at a moment (in quarters of a unit from the switch).
struct Move {
    /// In units.
    parent_ttl: i64,
    /// By the old servers and by the new ones, each from a moment on.
    says: [Vec<(i64, Says)>; 2],
}

impl Move {
    fn says(&self, servers: Servers, at: i64) -> Says {
        let says = &self.says[servers as usize];
        says.iter().rev().find(|(from, _)| *from <= at).unwrap().1
    }

    /// The servers that a resolver asks, with what it then knows.
    fn find(&self, mut state: State, at: i64) -> (Servers, State) {
        if let Some((_, servers, _)) = state.delegation {
            return (servers, state);
        }
        let servers = if at < 0 { Servers::Old } else { Servers::New };
        state.delegation = Some((false, servers, FINE * self.parent_ttl));
        (servers, state)
    }

    /// What can come of asking for a name, or for another of the zone.
    fn asked(&self, state: State, name: Option<usize>, at: i64) -> [State; 2] {
        let (servers, mut state) = self.find(state, at);
        if let Some(name) = name {
            state.answers[name] = Some(self.says(servers, at).answers[name]);
        }
        let mut learned = state;
        if let Some((false, ..)) = state.delegation {
            let (said, left) = self.says(servers, at).servers;
            learned.delegation = Some((true, said, left));
        }
        [state, learned].map(State::lasting)
    }

    /// Where a visitor ends whose resolver is in a state.
    fn visit(&self, state: State, at: i64) -> Destinations {
        let mut name = 0;
        loop {
            let answer = match state.answers[name] {
                Some((answer, _)) => answer,
                None => self.says(self.find(state, at).0, at).answers[name].0,
            };
            match answer {
                Answer::Alias => name = 1,
                Answer::Old => return Destinations::new(true, false, false),
                Answer::New => return Destinations::new(false, true, false),
                Answer::Missing => return Destinations::new(false, false, true),
            }
        }
    }

    /// Every state that a resolver can be in at a moment, from those before.
    fn all(&self, before: BTreeSet<State>, at: i64, is_alias: bool) -> BTreeSet<State> {
        let mut open: Vec<State> = before.into_iter().collect();
        let mut all: BTreeSet<State> = open.iter().copied().collect();
        while let Some(state) = open.pop() {
            let unknown = (0..=usize::from(is_alias)).filter(|name| state.answers[*name].is_none());
            for name in unknown.map(Some).chain([None]) {
                for next in self.asked(state, name, at) {
                    if all.insert(next) {
                        open.push(next);
                    }
                }
            }
        }
        all
    }
}

impl State {
    /// Without what is kept for no time.
    fn lasting(mut self) -> State {
        self.delegation = self.delegation.filter(|(.., left)| *left > 0);
        self.answers = self.answers.map(|answer| answer.filter(|(_, left)| *left > 0));
        self
    }

    /// A moment later.
    fn later(mut self) -> State {
        self.delegation = self.delegation.map(|(own, servers, left)| (own, servers, left - 1));
        self.answers = self.answers.map(|one| one.map(|(answer, left)| (answer, left - 1)));
        self.lasting()
    }
}

/// Numbers that look as if by chance, the same every time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, end: u64) -> u64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % end
    }
}

/// What a timeline says, against all states; gives whether something was missing for those who
/// validate.
fn check(
    course: &Timeline,
    old: &Zone,
    (unit, parent_ttl): (i64, i64),
    in_order: bool,
    what: &str,
) -> bool {
    let moment = course.moment();
    let units = |at: Moment| at.since(moment) / unit;
    let before = (i64::MIN, Says::new(old, unit));
    let after = course.zones().iter();
    let mut in_turn = vec![before];
    in_turn.extend(after.map(|(at, zone)| (FINE * units(*at), Says::new(zone, unit))));
    let says = match in_order {
        true => [in_turn.clone(), in_turn],
        false => [vec![before], in_turn],
    };
    let is_alias = what.contains("CNAME old");
    let the_move = Move { parent_ttl, says };
    let at_of = |wanted: fn(&StepKind) -> bool| {
        let step = course.steps().iter().find(|step| wanted(step.kind()));
        step.map(|step| units(step.at()))
    };
    let stop = at_of(|kind| matches!(kind, StepKind::Stop(_))).expect("the servers move");
    // Keys are at the parent until they are removed, and are kept for its TTL.
    let keys_until = at_of(|kind| matches!(kind, StepKind::RemoveKeys)).map(|at| at + parent_ttl);
    let host = &course.hosts()[0];
    let mut states = BTreeSet::from([State::default()]);
    let mut validates = false;
    let mut asked_last = None;
    let first = course.steps().iter().map(|step| units(step.at())).min().unwrap_or(0);
    for at in (first.min(0) - 5) * FINE..=(stop + 4) * FINE {
        states = the_move.all(states, at, is_alias);
        if at % FINE == 0 {
            let now = moment.plus(at / FINE * unit);
            let mut seen = Destinations::default();
            states.iter().for_each(|state| seen.add(the_move.visit(*state, at)));
            let others = keys_until.is_some_and(|until| (0..until * FINE).contains(&at));
            validates |= others;
            if others {
                seen.add(Destinations::new(false, false, true));
            }
            let span = host.spans().iter().find(|span| {
                span.from().is_none_or(|from| from <= now)
                    && span.until().is_none_or(|until| until > now)
            });
            assert_eq!(span.unwrap().ends(), seen, "{} units: {what}", at / FINE);
            let is_old = |state: &State| matches!(state.delegation, Some((_, Servers::Old, left)) if left > 0);
            if states.iter().any(is_old) {
                asked_last = Some(at / FINE);
            }
        }
        states = states.into_iter().map(State::later).collect();
    }
    // The old servers are asked up to the moment that is said, and no longer.
    assert_eq!(asked_last, Some(stop - 1), "{what}");
    validates
}

#[test]
fn moves_to_other_name_servers_are_what_all_resolvers_show() {
    let mut chance =
        Chance(if ravel_testing::is_whole() { 7 } else { ravel_testing::fresh_seed() });
    let (mut unreachable, mut aliases, mut lowered) = (0, 0, 0);
    for number in 0..ravel_testing::cases(500) {
        // What lives longer than a unit is lowered to it, in every other case.
        let unit = if number % 2 == 0 { 1 } else { 300 };
        let mut ttl = |least: u64| least + chance.below(3 - least);
        let (parent_ttl, own, life, other) = (ttl(0) as i64, ttl(1), ttl(0), ttl(0));
        let (minimum, soa) = (ttl(1) * unit, ttl(1) * unit);
        let [own, life, other] = [own, life, other].map(|ttl| ttl * unit);
        let www = match chance.below(10) {
            0 => format!("www {life} CNAME old\nold {other} A 203.0.113.7\n"),
            1..=2 => String::new(),
            3 => format!("www {life} CNAME site.host.example.\n"),
            _ => format!("www {life} A 203.0.113.1\n"),
        };
        let is_signed = chance.below(3) == 0;
        let keys = if is_signed { "@ 1 DNSKEY 257 3 13 AAAA\n" } else { "" };
        let text = format!(
            "$TTL 3\n@ {soa} SOA ns.old.example. host 7 7200 900 1209600 {minimum}\n@ {own} NS ns.old.example.\n{www}{keys}"
        );
        let zone = Zone::parse("harbour.example", &text).unwrap();
        let rules = Rules::parse(&format!(
            "site https://www.harbour.example/\ndomain harbour.example\n  host site.host.example\n\
             \x20 nameservers ns.new.example\n  parent-ttl {}s\n  issue records in 0s\n  ttl {}s\n",
            parent_ttl as u64 * unit,
            2 * unit
        ))
        .unwrap();
        let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
        let moment: Moment = "2027-03-01T06:00:00Z".parse().unwrap();
        let what = |order| {
            format!("{order}, unit {unit} s, parent {parent_ttl}, signed {is_signed}\n{text}")
        };
        let at_once = Timeline::at_once(&plan, None, moment);
        let in_order = Timeline::in_order(&plan, None, moment);
        let times = (unit as i64, parent_ttl);
        // In order nothing old is kept for longer than the TTL that it got before.
        let settled = in_order.settled().map_or(0, |at| at.since(moment));
        assert!(settled <= 300, "{settled} s: {}", what("in order"));
        let lowers = |kind: &StepKind| matches!(kind, StepKind::Lower(..));
        lowered += usize::from(in_order.steps().iter().any(|step| lowers(step.kind())));
        unreachable += usize::from(check(&at_once, &zone, times, false, &what("at once")));
        assert!(!check(&in_order, &zone, times, true, &what("in order")));
        aliases += usize::from(text.contains("CNAME old"));
    }
    let counts = (unreachable, aliases, lowered);
    assert!(
        !ravel_testing::is_whole() || unreachable > 50 && aliases > 20 && lowered > 100,
        "{counts:?}"
    );
}
