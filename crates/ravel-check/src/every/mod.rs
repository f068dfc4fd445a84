//! `expect every`: whether something holds for every address that a pattern matches.
//!
//! The addresses are cut into classes by what decides them. One address of a class, a shortest, is
//! asked of the edge; it stands for all where the answer hangs on nothing else. Where a redirect
//! carries captures along, what it writes is compared with what is expected piece by piece. What
//! can neither be shown nor refuted so is said to be undecided, and that is a failure.

mod ask;
mod headers;
mod redirects;

pub(crate) use ask::follows;

use std::ops::ControlFlow;

use crate::space::{Member, Members, RequestSet, Space};
use ravel::address::Request;
use ravel::edge::Edge;
use ravel::expect::{Failure, Verdict, verify};
use ravel::program::{Redirect, Role, Rule, Stage};
use ravel::rules::{EveryExpectation, Expectation, ExpectedOutcome};

/// Addresses of one class that are gone through, where it has no more.
const MAX_LISTED: usize = 64;
/// Addresses of one class that are gone through, where it may have very many.
const MAX_SAMPLED: usize = 8;
/// Single addresses that are asked where what one gets all get.
const MAX_WITNESSES: usize = 32;
/// Other URL variants of files that are tried.
const MAX_VARIANTS: usize = 8;
/// Single addresses that are kept as witnesses.
const MAX_KEPT: usize = 256;
/// Files that are gone through.
const MAX_FILES: usize = 20_000;

/// Why a class is as it is.
#[derive(Clone, Copy)]
enum ClassReason<'r> {
    /// What its first address gets, all get.
    Alike,
    /// This rule redirects, and may carry captures along.
    Redirect(&'r Rule, &'r Redirect),
    /// What its captures are decides: each address is asked.
    Captures,
}

struct Prover<'s, 'r> {
    space: &'s Space<'r>,
    universal: &'r EveryExpectation,
    /// The shortest address found for which it does not hold, with what is wrong.
    failing: Option<(Expectation, Verdict)>,
    undecided: Option<String>,
    /// What one address gets, all get; what is asked more is asked as a witness.
    is_settled: bool,
    /// What was asked of single addresses.
    asked: Vec<Expectation>,
}

/// Proves or refutes what is expected of every address of a pattern.
pub(crate) fn verify_every<'r>(space: &Space<'r>, universal: &'r EveryExpectation) -> Verdict {
    let mut prover = Prover::new(space, universal);
    prover.run();
    let subject = match universal.is_of_files() {
        true => format!("every file {}", universal.pattern()),
        false => format!("every {}", universal.pattern()),
    };
    let checks = universal.checks().iter().map(ToString::to_string);
    let locations = universal.locations().iter().map(|to| format!("has location: {to}"));
    let expected = match universal.outcome() {
        Some(outcome) => outcome.to_string(),
        None => checks.chain(locations).collect::<Vec<_>>().join(", "),
    };
    match (prover.failing, prover.undecided) {
        (Some((asked, verdict)), _) => {
            let described = describe(&asked);
            let failures = verdict.failures().iter().map(|failure| {
                Failure::new(failure.expected(), format!("{described} {}", failure.got()))
            });
            Verdict::new(universal.line(), subject, failures.collect(), verdict.decided())
        }
        (None, Some(why)) => {
            let failure = Failure::new(expected, format!("undecided: {why}"));
            Verdict::new(universal.line(), subject, vec![failure], None)
        }
        (None, None) => Verdict::new(universal.line(), subject, Vec::new(), None),
    }
}

/// Verifies everything that the rules expect, in the order of the files.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b/{x}\nexpect every /a/{x} goes to https://h.example/b/{x}\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
/// assert_eq!(ravel_check::verify_all(&edge).len(), 1);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn verify_all(edge: &Edge) -> Vec<Verdict> {
    let mut verdicts: Vec<Verdict> =
        edge.rules().expectations().iter().map(|expectation| verify(edge, expectation)).collect();
    if !edge.rules().every_expectations().is_empty() {
        let space = Space::new(edge);
        verdicts.extend(
            edge.rules()
                .every_expectations()
                .iter()
                .map(|universal| verify_every(&space, universal)),
        );
        verdicts.sort_by_key(|verdict| verdict.line());
    }
    verdicts
}

/// All that is asked of single URLs to verify it, as far as they are kept.
pub(crate) fn asked_of_every<'r>(
    space: &Space<'r>,
    universal: &'r EveryExpectation,
) -> Vec<Expectation> {
    let mut prover = Prover::new(space, universal);
    prover.run();
    prover.asked
}

/// What `expect every` comes to for some single addresses: one for each class of addresses that
/// something else decides, so many at most.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b/{x}\nexpect every /a/{x} goes to https://h.example/b/{x}\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
/// assert!(!ravel_check::witnesses(&edge, &rules.every_expectations()[0], 9).is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn witnesses(edge: &Edge, universal: &EveryExpectation, most: usize) -> Vec<Expectation> {
    let mut asked = asked_of_every(&Space::new(edge), universal);
    asked.sort_by_key(|asked| asked.url().len());
    asked.dedup_by(|one, other| one.url() == other.url() && one.given() == other.given());
    asked.truncate(most);
    asked
}

/// The address that was asked, with the header fields that matter.
fn describe(asked: &Expectation) -> String {
    let mut text = asked.url().to_owned();
    for (name, value) in asked.given() {
        text.push_str(&format!(" with {name}: {}", value.to_str().unwrap_or_default()));
    }
    text
}

impl<'s, 'r> Prover<'s, 'r> {
    fn new(space: &'s Space<'r>, universal: &'r EveryExpectation) -> Prover<'s, 'r> {
        let (failing, undecided, asked) = (None, None, Vec::new());
        Prover { space, universal, failing, undecided, is_settled: false, asked }
    }

    fn run(&mut self) {
        self.space.begin();
        if self.universal.is_of_files() {
            return self.each_file();
        }
        let mut rest = self.subject();
        self.is_settled = self.hangs_on_headers_alone() || self.is_not_possible();
        self.by_redirects(&mut rest);
        if self.has_enough() {
            return;
        }
        let home = self.space.at_home();
        let away = rest.minus(&home);
        self.away(away);
        rest = rest.and(&home);
        let passed_over = self.by_rewrites(&mut rest);
        self.by_files(&mut rest);
        rest = rest.or(&passed_over);
        for number in self.overlapping(Stage::Fallback) {
            let rule = self.space.rule(Stage::Fallback, number).rule();
            let Some(path) = rule.shows() else { continue };
            let mut taken = self.under_given(&self.space.matching(rule));
            if rule.spares_files() {
                taken.take_out(&self.space.of_known_type());
            }
            match path.path().is_literal() {
                true if self.edge().file_of(path.path().as_str()).is_none() => continue,
                true => self.class(rest.and(&taken), ClassReason::Alike),
                false => self.class(rest.and(&taken), ClassReason::Captures),
            }
            rest.take_out(&taken);
        }
        for number in self.overlapping(Stage::Missing) {
            let rule = self.space.rule(Stage::Missing, number).rule();
            let taken = self.under_given(&self.space.matching(rule));
            self.class(rest.and(&taken), ClassReason::Alike);
            rest.take_out(&taken);
        }
        self.class(rest, ClassReason::Alike);
    }

    /// Whether no more witnesses are looked for of what is settled.
    fn has_enough(&self) -> bool {
        self.is_settled && self.asked.len() >= MAX_WITNESSES
    }

    /// Whether what is not to be is not possible.
    fn is_not_possible(&self) -> bool {
        let no_checks = self.universal.checks().is_empty() && self.universal.locations().is_empty();
        match self.universal.outcome() {
            Some(ExpectedOutcome::IsNot(outcome)) => no_checks && self.never_ends_as(*outcome),
            _ => false,
        }
    }

    /// Asks the canonical URL of every built file that the pattern names.
    fn each_file(&mut self) {
        let site = self.edge().site().url().trim_end_matches('/').to_owned();
        let files: Vec<u32> = self.edge().files_named(self.universal.pattern()).collect();
        for file in &files {
            let url = format!("{site}{}", self.edge().own_address(*file));
            if let Ok(request) = Request::get(&url) {
                self.ask(&request);
            }
        }
        if files.is_empty() {
            self.undecided = Some("no built file has such a name".to_owned());
        }
    }

    fn edge(&self) -> &'r Edge {
        self.space.edge()
    }

    /// GET requests for the pattern's addresses; for a path, at the canonical origin.
    fn subject(&self) -> RequestSet<'r> {
        let site = self.edge().site();
        let get = self.space.with_methods(|method| *method == http::Method::GET);
        let (pattern, tests) = (self.universal.pattern(), self.universal.tests());
        let mut set = self.space.of_pattern_where(pattern, tests).and(&get);
        set = match self.universal.pattern().origin() {
            None => set.and(&self.space.with_origins(|origin| {
                origin.role == Role::Canonical && origin.scheme == site.scheme()
            })),
            Some(origin) => {
                set.and(&self.space.with_origins(|asked| asked.scheme == origin.scheme()))
            }
        };
        self.space.given(&set, self.universal.given())
    }

    fn overlapping(&self, stage: Stage) -> Vec<u32> {
        self.space.overlaps(stage).with(self.universal.pattern())
    }

    /// Gives the requests for which a rewrite names a file that is not there: no other file is
    /// looked up for them.
    fn by_rewrites(&mut self, rest: &mut RequestSet<'r>) -> RequestSet<'r> {
        let mut passed_over = RequestSet::default();
        for number in self.overlapping(Stage::Rewrite) {
            let rule = self.space.rule(Stage::Rewrite, number).rule();
            let Some(path) = rule.shows() else { continue };
            let taken = self.under_given(&self.space.matching(rule));
            let class = rest.and(&taken);
            rest.take_out(&taken);
            match path.path().is_literal() {
                true if self.edge().file_of(path.path().as_str()).is_none() => {
                    passed_over = passed_over.or(&class)
                }
                true => self.class(class, ClassReason::Alike),
                false => self.class(class, ClassReason::Captures),
            }
        }
        passed_over
    }

    fn by_files(&mut self, rest: &mut RequestSet<'r>) {
        let named = self.space.naming_a_file();
        for class in self.by_headers(rest.and(&named)) {
            self.files_of(&class);
        }
        rest.take_out(&named);
    }

    /// Asks every address of a file that is in a set.
    fn files_of(&mut self, set: &RequestSet<'r>) {
        let Member::Shortest(_) = set.shortest(self.space) else { return };
        let pattern = self.universal.pattern();
        let prefix = if pattern.origin().is_none() { pattern.path().literal_prefix() } else { "" };
        let mut asked = 0;
        for address in self.space.addresses_below(prefix) {
            if pattern.origin().is_none()
                && !pattern.path().matches(
                    address,
                    self.edge().site().ignore_case(),
                    &mut Default::default(),
                )
            {
                continue;
            }
            asked += 1;
            if asked > MAX_FILES {
                return self.undecided("there are too many files");
            }
            let here = set.at_path(self.space, address);
            if let Member::Shortest(request) = here.shortest(self.space) {
                self.ask_each_way(&here, &request);
            }
        }
        // Other spellings, as `/a//b`, lead to the addresses asked.
        self.ask_members(set, MAX_VARIANTS);
    }

    fn under_given(&self, set: &RequestSet<'r>) -> RequestSet<'r> {
        self.space.given(set, self.universal.given())
    }

    /// Says why it is undecided, and what would decide it.
    fn undecided(&mut self, why: &str) {
        if !self.is_settled {
            let decided_by = "a longer pattern, `where` or `given` leaves fewer requests";
            self.undecided.get_or_insert_with(|| format!("{why}; {decided_by}"));
        }
    }

    /// Asks one address of a class, and shows that the others are like it.
    fn class(&mut self, set: RequestSet<'r>, why: ClassReason<'r>) {
        for set in self.by_headers(set) {
            match set.shortest(self.space) {
                Member::None => continue,
                Member::Undecided => {
                    self.undecided("the rules overlap in too many ways");
                    continue;
                }
                Member::Shortest(request) if !self.ask_each_way(&set, &request) => continue,
                Member::Shortest(_) => {}
            }
            let alike = match why {
                ClassReason::Alike => true,
                ClassReason::Redirect(rule, redirect) => self.redirect_is_alike(rule, redirect),
                ClassReason::Captures => false,
            };
            if !alike {
                self.each_of(&set, "what the captures expand to");
            }
        }
    }

    /// Asks every address of a set, if they are few; else some, and says that it is undecided.
    fn each_of(&mut self, set: &RequestSet<'r>, what: &str) {
        let most = match (self.is_settled, set.is_listed()) {
            (true, _) => 1,
            (false, true) => MAX_LISTED,
            (false, false) => MAX_SAMPLED,
        };
        if self.ask_members(set, most) != Members::Exhausted {
            self.undecided(what);
        }
    }

    fn ask_members(&mut self, set: &RequestSet<'r>, most: usize) -> Members {
        set.each_member(self.space, most, |request| {
            self.ask_each_way(set, request);
            ControlFlow::Continue(())
        })
    }
}
