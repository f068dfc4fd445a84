//! Whether what a rules file expects is so.
//!
//! ```text
//!   Expectation ──Edge::walk──▶ answers ──▶ Verdict: each part that does not hold, expected beside got
//! ```

pub mod live;

use crate::address::{Address, Request};
use crate::edge::{Answer, Edge, Outcome, Walk, WalkEnd};
use crate::language::Line;
use crate::rules::{Check, CheckTest, Expectation, ExpectedOutcome, StatedOutcome};

/// The result of one expectation.
#[derive(Debug, Clone)]
pub struct Verdict {
    pub(crate) line: Line,
    pub(crate) asked: String,
    pub(crate) failures: Vec<Failure>,
    pub(crate) decided: Option<Line>,
}

/// A part of an expectation that does not hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    pub(crate) expected: String,
    pub(crate) got: String,
}

impl Failure {
    /// A part that does not hold.
    ///
    /// ```
    /// let failure = ravel::expect::Failure::new("serves /a.html", "is missing");
    /// assert_eq!(failure.got(), "is missing");
    /// ```
    pub fn new(expected: impl Into<String>, got: impl Into<String>) -> Failure {
        Failure { expected: expected.into(), got: got.into() }
    }

    /// What should be.
    pub fn expected(&self) -> &str {
        &self.expected
    }

    /// What is.
    pub fn got(&self) -> &str {
        &self.got
    }
}

impl Verdict {
    /// The result of an expectation: the parts that do not hold, and the line that decided.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nexpect /a is missing\n")?;
    /// use ravel::expect::Verdict;
    ///
    /// assert!(Verdict::new(rules.expectations()[0].line(), "/a", Vec::new(), None).holds());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(
        line: Line,
        asked: impl Into<String>,
        failures: Vec<Failure>,
        decided: Option<Line>,
    ) -> Verdict {
        Verdict { line, asked: asked.into(), failures, decided }
    }

    /// With another part that does not hold.
    #[must_use]
    pub fn with_failure(mut self, failure: Failure) -> Verdict {
        self.failures.push(failure);
        self
    }

    /// Whether the expectation holds.
    pub fn holds(&self) -> bool {
        self.failures.is_empty()
    }

    /// Where the expectation stands.
    pub fn line(&self) -> Line {
        self.line
    }

    /// What was asked: method, unless it is `GET`, and address.
    pub fn asked(&self) -> &str {
        &self.asked
    }

    /// The parts that do not hold; none if the expectation holds.
    pub fn failures(&self) -> &[Failure] {
        &self.failures
    }

    /// The line that decided the first answer, if a line did.
    pub fn decided(&self) -> Option<Line> {
        self.decided
    }
}

/// Asks the edge what an expectation is about, and compares.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nexpect /a is missing\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["a.html"]));
/// let verdict = ravel::expect::verify(&edge, &rules.expectations()[0]);
/// assert_eq!(verdict.failures()[0].got(), "serves /a.html");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn verify(edge: &Edge, expectation: &Expectation) -> Verdict {
    let asked = match expectation.method.as_str() {
        "GET" => expectation.asked.to_string(),
        method => format!("{method} {}", expectation.asked),
    };
    let mut verdict =
        Verdict { line: expectation.line, asked, failures: Vec::new(), decided: None };
    let request = match Request::new(expectation.method.clone(), &expectation.url) {
        Ok(request) => request.with_headers(expectation.given.clone()),
        Err(error) => {
            verdict
                .failures
                .push(Failure { expected: "an address".to_owned(), got: error.to_string() });
            return verdict;
        }
    };
    let walk = edge.walk_unexplained(&request);
    verdict.decided = walk.first().answer.line();
    verdict
        .failures
        .extend(expectation.outcome.as_ref().and_then(|outcome| compare(outcome, &walk)));
    let at_end = matches!(expectation.outcome, Some(ExpectedOutcome::GoesTo { .. }));
    let subject = if at_end { &walk.last().1.answer } else { &walk.first().answer };
    for check in &expectation.checks {
        let failure = match at_end && walk.end != WalkEnd::Answer {
            true => Some(Failure {
                expected: check.to_string(),
                got: "the visitor leaves the site".to_owned(),
            }),
            false => compare_header(check, subject),
        };
        verdict.failures.extend(failure);
    }
    verdict
}

fn compare(outcome: &ExpectedOutcome, walk: &Walk<'_>) -> Option<Failure> {
    let first = &walk.first().answer;
    let (holds, got) = match outcome {
        ExpectedOutcome::GoesTo { address, status, hops } => {
            let ends_well = match walk.end {
                WalkEnd::Answer => walk.hops() > 0 && walk.last().1.answer.status() == Some(200),
                WalkEnd::Away => true,
                WalkEnd::Loop => false,
            };
            let holds = ends_well
                && same_address(address, walk.url())
                && status.is_none_or(|status| Some(status) == first.status())
                && hops.is_none_or(|hops| hops == walk.hops());
            (holds, journey(walk))
        }
        ExpectedOutcome::RedirectsTo { address, status } => {
            let leads = first.location().is_some_and(|to| same_address(address, to));
            let holds = leads && status.is_none_or(|status| Some(status) == first.status());
            (holds, describe(first))
        }
        ExpectedOutcome::IsNot(is) => (walk.outcome() != outcome_of(*is), journey(walk)),
        ExpectedOutcome::Serves(file) => {
            let holds = first.outcome() == Outcome::File && first.file() == Some(&**file);
            (holds, describe(first))
        }
        ExpectedOutcome::Is(StatedOutcome::Loop, status) => {
            let holds = walk.outcome() == Outcome::Loop
                && status.is_none_or(|status| Some(status) == first.status());
            (holds, journey(walk))
        }
        ExpectedOutcome::Is(is, status) => {
            let holds = first.outcome() == outcome_of(*is)
                && status.is_none_or(|status| Some(status) == first.status());
            (holds, describe(first))
        }
    };
    (!holds).then(|| Failure { expected: outcome.to_string(), got })
}

fn outcome_of(is: StatedOutcome) -> Outcome {
    match is {
        StatedOutcome::Gone => Outcome::Gone,
        StatedOutcome::Missing => Outcome::Missing,
        StatedOutcome::Outside => Outcome::Outside,
        StatedOutcome::Elsewhere => Outcome::Elsewhere,
        StatedOutcome::Loop => Outcome::Loop,
        StatedOutcome::Refused => Outcome::Refused,
    }
}

/// A fragment counts only where one is expected.
fn same_address(expected: &Address, got: &str) -> bool {
    match Address::parse_location(got) {
        Ok(got) if expected.fragment().is_some() => *expected == got,
        Ok(got) => expected.as_str() == got.without_fragment(),
        Err(_) => false,
    }
}

fn compare_header(check: &Check, answer: &Answer<'_>) -> Option<Failure> {
    let name = check.name.as_str();
    let values: Vec<&str> = answer
        .headers()
        .iter()
        .filter(|header| header.name == name)
        .map(|header| &*header.value)
        .collect();
    let holds = match &check.test {
        CheckTest::Has => !values.is_empty(),
        CheckTest::HasValue(wanted) => values.contains(&&**wanted) || values.join(", ") == **wanted,
        CheckTest::HasContaining(text) => values.iter().any(|value| value.contains(&**text)),
        CheckTest::HasMatching(regex) => {
            values.iter().any(|value| regex.is_match(value.as_bytes()))
        }
        CheckTest::Lacks => values.is_empty(),
    };
    let got = || match values.is_empty() {
        true => format!("{} without {name}", describe(answer)),
        false => format!("{name}: {}", values.join(", ")),
    };
    (!holds).then(|| Failure { expected: check.to_string(), got: got() })
}

/// An answer in a few words.
///
/// ```
/// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
/// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
/// # let request = ravel::Request::get("https://h.example/a/1")?;
/// assert_eq!(ravel::expect::describe(&edge.answer(&request)), "302 to https://h.example/b/1");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn describe(answer: &Answer<'_>) -> String {
    let status = answer.status().map_or_else(String::new, |status| status.to_string());
    match answer.outcome() {
        Outcome::File => format!("serves /{}", answer.file().unwrap_or_default()),
        Outcome::Redirect => format!("{status} to {}", answer.location().unwrap_or_default()),
        Outcome::Elsewhere => "is elsewhere".to_owned(),
        Outcome::Loop => format!("is a loop ({status})"),
        outcome => format!("is {outcome} ({status})"),
    }
}

/// A walk in a few words.
///
/// ```
/// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
/// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
/// # let request = ravel::Request::get("https://h.example/a/1")?;
/// assert_eq!(ravel::expect::journey(&edge.walk(&request)), "goes to https://h.example/b/1 as 302 in 1 hop, which serves /b/1.html");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn journey(walk: &Walk<'_>) -> String {
    let hops = walk.hops();
    if hops == 0 {
        return describe(&walk.first().answer);
    }
    let status = walk.first().answer.status().map_or_else(String::new, |status| status.to_string());
    let number = if hops == 1 { "1 hop".to_owned() } else { format!("{hops} hops") };
    let end = match walk.end {
        WalkEnd::Answer => format!("which {}", describe(&walk.last().1.answer)),
        WalkEnd::Away => "which is not this site".to_owned(),
        WalkEnd::Loop => "and again".to_owned(),
    };
    format!("goes to {} as {status} in {number}, {end}", walk.url())
}
