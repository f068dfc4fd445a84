//! Random sites with base paths, aliases, conditions, queries and headers: each question about them
//! is held against asking every request of a small world.
//!
//! `RAVEL_LONG=50` asks 10 000 sites; each answer that is wrong fails, and few are undecided.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use crate::universe::{FILES, headers, paths, pattern, rule};
use proptest::prelude::*;
use ravel::edge::WalkEnd;
use ravel::expect::verify;
use ravel::finding::{Finding, FindingPlace};
use ravel::program::{RuleRef, Stage};
use ravel::rules::Code;
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_check::{Audit, verify_all};

/// What a site is: its settings, its rules, and what is expected of every URL of a pattern.
#[derive(Debug, Clone)]
struct World {
    base: &'static str,
    alias: &'static str,
    each: bool,
    rules: Vec<String>,
    subject: String,
    outcome: &'static str,
}

fn world() -> impl Strategy<Value = World> {
    const ALIASES: [&str; 3] = ["", "  alias w.example\n", "  alias https://w.example/t/\n"];
    const OUTCOMES: [&str; 17] = [
        "is gone",
        "is missing",
        "is not missing",
        "is not gone",
        "is elsewhere",
        "serves /a.html",
        "goes to /a",
        "goes to /b/",
        "redirects to /a",
        "redirects to https://o.example/a as 302",
        "has x-robots-tag: noindex",
        "lacks x-robots-tag",
        "has vary",
        "lacks set-cookie",
        "has x-a: 1",
        "lacks x-a",
        "lacks cache-control",
    ];
    (
        prop::sample::select(&["/", "/", "/s/"][..]),
        prop::sample::select(&ALIASES[..]),
        any::<bool>(),
        prop::collection::vec(rule(), 1..7),
        pattern(),
        prop::sample::select(&OUTCOMES[..]),
    )
        .prop_map(|(base, alias, each, rules, subject, outcome)| World {
            base,
            alias,
            each,
            rules,
            subject,
            outcome,
        })
}

impl World {
    fn site(&self) -> String {
        let each = if self.each { "  hops each\n" } else { "" };
        format!(
            "site https://h.example{}\n{}  languages en, de\n  missing /404.html\n{each}",
            self.base, self.alias
        )
    }

    /// The rules that can be read, and the expectation, each on lines of their own.
    fn text(&self) -> String {
        let site = self.site();
        let good = self.rules.iter().filter(|rule| Rules::parse(&format!("{site}{rule}")).is_ok());
        let good: String = good.map(String::as_str).collect();
        let expectation = format!("expect every {} {}\n", self.subject, self.outcome);
        match Rules::parse(&format!("{site}{good}{expectation}")) {
            Ok(_) => format!("{site}{good}{expectation}"),
            Err(_) => format!("{site}{good}"),
        }
    }

    /// All paths over a small alphabet up to a length, on every host of the site, with all queries
    /// and headers that the rules tell apart.
    fn requests(&self) -> Vec<Request> {
        let paths = paths();
        let mut origins = vec![("https://h.example", self.base), ("http://h.example", self.base)];
        if !self.alias.is_empty() {
            let base = if self.alias.contains("/t/") { "/t/" } else { self.base };
            origins.extend([("https://w.example", base), ("http://w.example", base)]);
        }
        let mut requests = Vec::new();
        for (origin, base) in origins {
            for path in &paths {
                for query in ["", "?k=a", "?k=b", "?k", "?k=a&k=b"] {
                    let url = format!("{origin}{}{path}{query}", base.trim_end_matches('/'));
                    let request = Request::get(&url).unwrap();
                    requests
                        .extend(headers().into_iter().map(|own| request.clone().with_headers(own)));
                }
            }
        }
        requests
    }
}

/// How often each question was asked, was answered with yes, and was undecided.
#[derive(Debug, Default)]
struct Counts(BTreeMap<&'static str, [u32; 3]>);

impl Counts {
    fn add(&mut self, question: &'static str, found: bool, undecided: bool) {
        let [asked, yes, open] = self.0.entry(question).or_default();
        *asked += 1;
        *yes += u32::from(found);
        *open += u32::from(undecided);
    }
}

fn line(finding: &Finding) -> u32 {
    match finding.place() {
        FindingPlace::Line(line) => line.number(),
        _ => 0,
    }
}

/// What every request of a world comes to.
#[derive(Default)]
struct Enumerated {
    /// The lines that act, those of headers too.
    acting: BTreeSet<u32>,
    /// The lines on the ways that never end.
    loops: Vec<(String, BTreeSet<u32>)>,
    shown: BTreeSet<String>,
}

fn enumerate(edge: &Edge, requests: &[Request]) -> Enumerated {
    let mut all = Enumerated::default();
    for request in requests {
        let why = edge.explain(request);
        let steps = why.words().filter(|step| step.matched()).filter_map(|step| step.line());
        all.acting.extend(steps.map(|line| line.number()));
        all.acting
            .extend(why.headers().iter().filter_map(|step| step.line()).map(|line| line.number()));
        all.shown.extend(why.answer().file().map(str::to_owned));
        let walk = edge.walk_unexplained(request);
        if walk.end() == WalkEnd::Loop || why.answer().outcome() == Outcome::Loop {
            let lines = walk.answers().iter().filter_map(|(_, why)| why.answer().line());
            all.loops.push((request.url().to_owned(), lines.map(|line| line.number()).collect()));
        }
    }
    all
}

fn judged(world: &World, counts: &mut Counts) -> Result<(), TestCaseError> {
    let text = world.text();
    let rules =
        Rules::parse(&text).map_err(|problems| TestCaseError::fail(problems.to_string()))?;
    let edge = Edge::new(&rules, FileList::from_iter(FILES));
    let requests = world.requests();
    let all = enumerate(&edge, &requests);
    let audit = Audit::new(&edge);
    let findings = audit.rules();
    let said = |code: Code, number: u32| {
        findings.iter().find(|finding| finding.code() == code && line(finding) == number)
    };
    let is_undecided = |number: u32, about: &str| {
        findings.iter().any(|finding| {
            finding.code() == Code::Undecided
                && line(finding) == number
                && finding.message().contains(about)
        })
    };
    // What is shown is enough to see it.
    let ask = |finding: &Finding| {
        let shown = finding.example()?;
        let request = Request::new(shown.method().clone(), shown.url()).unwrap();
        Some(shown.headers().iter().fold(request, |request, (name, value)| {
            request.with_header(name.parse().unwrap(), value.parse().unwrap())
        }))
    };
    for rule in Stage::ALL.into_iter().flat_map(|stage| edge.program().rules(stage)) {
        let number = rule.line().number();
        let acts = all.acting.contains(&number);
        if rule.stage() == Stage::Headers {
            let unused = said(Code::UnusedHeaders, number).is_some();
            prop_assert!(!(unused && acts), "{rule} changes an answer: {text}");
            let open = is_undecided(number, "changes an answer");
            counts.add("headers", unused, open);
            prop_assert!(
                unused || open || acts || !is_small(rule),
                "{rule} changes no answer: {text}"
            );
            continue;
        }
        let never = [Code::UnreachableRule, Code::DuplicateRule];
        let never = never.iter().any(|code| said(*code, number).is_some());
        let open = is_undecided(number, "is unreachable");
        counts.add("unreachable", never, open);
        prop_assert!(!(never && acts), "{rule} acts: {text}");
        let excused = open || said(Code::MissingFile, number).is_some() || is_idle(rule);
        prop_assert!(never || acts || excused || !is_small(rule), "{rule} is unreachable: {text}");
        if rule.stage() == Stage::Redirect {
            let round = said(Code::RedirectLoop, number);
            let open = is_undecided(number, "redirect loop");
            counts.add("loop", round.is_some(), open);
            if let Some(example) = round.and_then(ask) {
                let walk = edge.walk(&example);
                let is_round = walk.outcome() == Outcome::Loop || walk.status() == Some(414);
                prop_assert!(is_round, "{} does not loop: {text}", example.url());
            }
        }
    }
    for (url, lines) in &all.loops {
        let is_said = |number: &u32| {
            let among = |finding: &Finding| {
                line(finding) == *number
                    || finding.lines().iter().any(|line| line.number() == *number)
            };
            findings.iter().any(|finding| finding.code() == Code::RedirectLoop && among(finding))
                || is_undecided(*number, "redirect loop")
        };
        prop_assert!(lines.iter().any(is_said), "{url} loops by {lines:?}: {text}");
    }
    for finding in findings.iter().filter(|finding| finding.code() == Code::ShadowedFile) {
        let file = finding.message().rsplit(' ').next().unwrap();
        prop_assert!(!all.shown.contains(file), "{file} is shown: {text}");
    }
    for verdict in verify_all(&edge) {
        let got = verdict.failures().first().map_or("", |failure| failure.got());
        let open = got.starts_with("undecided");
        counts.add("every", verdict.holds(), open);
        let one = failing(world, &rules, &edge, &requests);
        prop_assert!(!verdict.holds() || one.is_none(), "{one:?} fails: {text}");
    }
    Ok(())
}

/// Whether some request of the small world would show that a rule acts, if one did.
fn is_small(rule: RuleRef<'_>) -> bool {
    rule.pattern().path().as_str().len() <= 3 && rule.tests().iter().next().is_none()
}

/// Whether a rule leads to the URL that was asked, and so does not act.
fn is_idle(rule: RuleRef<'_>) -> bool {
    rule.redirect()
        .is_some_and(|redirect| redirect.target().path().as_str() == rule.pattern().path().as_str())
}

/// A request of the world for which what is expected of every one does not hold.
fn failing(world: &World, rules: &Rules, edge: &Edge, requests: &[Request]) -> Option<String> {
    let every = rules.every_expectations().first()?;
    let matcher = Rules::parse(&format!("{}gone {}\n", world.site(), world.subject)).unwrap();
    let matcher = Edge::new(&matcher, FileList::default());
    let single = Rules::parse(&format!("{}expect / {}\n", world.site(), world.outcome)).unwrap();
    let single = &single.expectations()[0];
    let fails = |request: &&Request| {
        request.url().starts_with("https://h.example/")
            && matcher.answer(request).outcome() == Outcome::Gone
            && !(request.url().contains('?') && world.outcome.contains("s to "))
            && !verify(edge, &every.of_request(request, single.outcome().cloned())).holds()
    };
    requests.iter().find(fails).map(|request| format!("{} {:?}", request.url(), request.headers()))
}

#[test]
fn every_question_is_answered_as_every_request_says() {
    let counts = RefCell::new(Counts::default());
    ravel_testing::law(200, &world(), |world| judged(&world, &mut counts.borrow_mut()));
    println!("{:?}", counts.borrow());
    if !ravel_testing::is_whole() {
        return;
    }
    let counts = counts.into_inner().0;
    assert!(counts.values().all(|[_, yes, _]| *yes > 0), "{counts:?}: some question is never so");
    let sum = |at: usize| counts.values().map(|count| count[at]).sum::<u32>();
    assert!(sum(2) * 100 <= sum(0), "{counts:?}: too much is undecided");
}
