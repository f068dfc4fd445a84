//! Which rules the expectations exercise, and which could be changed without any of them noticing.
//!
//! ```text
//!   expectations ──walk──▶ rules that matched ──▶ uncovered: the others that some request reaches
//!        each change to a covered rule ──▶ its expectations asked again ──▶ unnoticed: all still hold
//! ```

use std::collections::{BTreeMap, BTreeSet};

use ravel::Request;
use ravel::edge::{Edge, RuleResult, Step};
use ravel::expect::{Verdict, verify};
use ravel::language::Line;
use ravel::program::{RuleChange, RuleId, Stage};
use ravel::rules::{Code, Expectation};

use crate::Audit;
use crate::every::{asked_of_every, follows, verify_every};
use crate::space::Space;

/// What the expectations say of one rule.
#[derive(Debug, Clone)]
pub struct RuleCoverage {
    line: Line,
    rule: String,
    state: CoverageState,
    unnoticed: Vec<String>,
}

impl RuleCoverage {
    /// The line of the rule.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The rule as it is written.
    pub fn rule(&self) -> &str {
        &self.rule
    }

    /// Whether an expectation exercises it.
    pub fn state(&self) -> CoverageState {
        self.state
    }

    /// What could be done to it without any expectation failing, in words such as `be removed`.
    pub fn unnoticed(&self) -> &[String] {
        &self.unnoticed
    }
}

/// Whether an expectation exercises a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum CoverageState {
    /// One does.
    Covered,
    /// None does.
    Uncovered,
    /// No request reaches it.
    Unreachable,
    /// One does; whether it would notice changes was not tried, since there are too many rules.
    NotTried,
}

impl CoverageState {
    /// The word for it.
    ///
    /// ```
    /// assert_eq!(ravel_check::CoverageState::Uncovered.as_str(), "uncovered");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            CoverageState::Covered => "covered",
            CoverageState::Uncovered => "uncovered",
            CoverageState::Unreachable => "unreachable",
            CoverageState::NotTried => "not tried",
        }
    }
}

/// Each change compiles the rules anew: as many rules are compiled at most.
const MAX_COMPILED: usize = 20_000_000;

/// As many changes are tried in any case.
const MIN_CHANGES: usize = 100;

/// What an expectation meets.
#[derive(Default)]
struct Met {
    /// The rules that its explanations name.
    named: BTreeSet<RuleId>,
    /// Those of them that matched.
    matched: BTreeSet<RuleId>,
}

/// An expectation of one URL, or of every URL of a pattern.
#[derive(Clone, Copy)]
enum Stated {
    One(usize),
    Every(usize),
}

/// Every rule with what the expectations say of it, in the order of the stages.
///
/// ```
/// use ravel_check::{CoverageState, coverage};
///
/// let rules = ravel::Rules::parse(
///     "site https://h.example/\nredirect /a -> https://o.example/\nredirect /b -> /c\n\
///      expect /a redirects to https://o.example/\n",
/// )?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["c.html"]));
/// let covered = coverage(&edge);
/// assert_eq!(covered[0].unnoticed(), ["have the status 301"]);
/// assert_eq!(covered[1].state(), CoverageState::Uncovered);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn coverage(edge: &Edge) -> Vec<RuleCoverage> {
    let stated = meetings(edge);
    let mut covered: BTreeMap<RuleId, Vec<usize>> = BTreeMap::new();
    for (number, (_, met)) in stated.iter().enumerate() {
        for rule in &met.matched {
            covered.entry(*rule).or_default().push(number);
        }
    }
    let unreachable: BTreeSet<Line> = Audit::new(edge)
        .rules()
        .iter()
        .filter(|finding| matches!(finding.code(), Code::UnreachableRule | Code::DuplicateRule))
        .filter_map(|finding| match finding.place() {
            ravel::finding::FindingPlace::Line(line) => Some(*line),
            _ => None,
        })
        .collect();
    let all = edge.program().all_rules().len();
    let mut left = (MAX_COMPILED / all.max(1)).max(MIN_CHANGES);
    let rules = Stage::ALL.into_iter().flat_map(|stage| edge.program().rules(stage));
    rules
        .map(|rule| {
            let changes = RuleChange::of(rule.rule());
            let is_covered = covered.contains_key(&rule.id());
            let (state, unnoticed) = match is_covered {
                true if left < changes.len() => (CoverageState::NotTried, Vec::new()),
                true => {
                    left -= changes.len();
                    let asked =
                        |change: &&RuleChange| is_unnoticed(edge, rule.id(), change, &stated);
                    let words = |change: &RuleChange| in_words(edge, rule.id(), change);
                    let unnoticed = changes.iter().filter(asked).map(words).collect();
                    (CoverageState::Covered, unnoticed)
                }
                false if unreachable.contains(&rule.line()) => {
                    (CoverageState::Unreachable, Vec::new())
                }
                false => (CoverageState::Uncovered, Vec::new()),
            };
            RuleCoverage { line: rule.line(), rule: rule.to_string(), state, unnoticed }
        })
        .collect()
}

/// Every expectation that holds, with what it meets.
fn meetings(edge: &Edge) -> Vec<(Stated, Met)> {
    let rules = edge.rules();
    let mut all = Vec::new();
    for (at, one) in rules.expectations().iter().enumerate() {
        if verify(edge, one).holds() {
            all.push((Stated::One(at), met(edge, std::slice::from_ref(one))));
        }
    }
    if rules.every_expectations().is_empty() {
        return all;
    }
    let space = Space::new(edge);
    for (at, every) in rules.every_expectations().iter().enumerate() {
        if !verify_every(&space, every).holds() {
            continue;
        }
        let mut met = met(edge, &asked_of_every(&space, every));
        for stage in Stage::ALL.into_iter().filter(|_| !every.is_of_files()) {
            let overlapping = space.overlaps(stage).with(every.pattern());
            met.named.extend(overlapping.iter().map(|number| space.rule(stage, *number).id()));
        }
        all.push((Stated::Every(at), met));
    }
    all
}

/// The rules that the explanations of requests name.
fn met(edge: &Edge, asked: &[Expectation]) -> Met {
    let mut met = Met::default();
    for one in asked {
        let Ok(request) = Request::new(one.method().clone(), one.url()) else { continue };
        let walk = edge.walk(&request.with_headers(one.given().clone()));
        for (_, explanation) in walk.answers() {
            for step in explanation.steps() {
                if let Step::Rule(rule, result) = step {
                    met.named.insert(*rule);
                    if matches!(result, RuleResult::Matched) {
                        met.matched.insert(*rule);
                    }
                }
            }
            met.matched.extend(explanation.headers().iter().filter_map(|step| step.rule()));
        }
    }
    met.named.extend(&met.matched);
    met
}

/// Whether every expectation still holds that could notice a change.
fn is_unnoticed(edge: &Edge, id: RuleId, change: &RuleChange, stated: &[(Stated, Met)]) -> bool {
    let changed = edge.with_change(id, change);
    let mut space = None;
    stated.iter().all(|(stated, met)| match stated {
        Stated::One(at) => {
            let one = &edge.rules().expectations()[*at];
            !met.named.contains(&id) || verify(&changed, one).holds()
        }
        Stated::Every(at) => {
            let every = &edge.rules().every_expectations()[*at];
            // What is met after a redirect is not known for all of them.
            if !follows(every) && !met.named.contains(&id) {
                return true;
            }
            let space = space.get_or_insert_with(|| Space::new(&changed));
            let verdict: Verdict = verify_every(space, every);
            verdict.holds()
        }
    })
}

fn in_words(edge: &Edge, id: RuleId, change: &RuleChange) -> String {
    match change {
        RuleChange::Status(status) => format!("have the status {status}"),
        RuleChange::Home => "have the target `/`".to_owned(),
        RuleChange::WithoutTest(number) => {
            let languages = edge.site().languages();
            let rule = edge.program().rule(id);
            let test = rule.tests().get(*number);
            let test = test.map(|test| test.written(languages)).unwrap_or_default();
            format!("do without `{test}`")
        }
        _ => "be removed".to_owned(),
    }
}
