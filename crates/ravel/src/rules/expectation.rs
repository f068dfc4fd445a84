//! `expect`: what must hold of requests.

use std::fmt;
use std::sync::Arc;

use http::{HeaderMap, HeaderName, Method};

use crate::address::{Address, Request};
use crate::language::Line;
use crate::language::grammar::OutcomeWord;
use crate::program::{Tests, WholeRegex};
use crate::template::{Captures, ExpansionError, Pattern, Target, TargetBase};

/// What a rules file says must be true of one address.
#[derive(Debug, Clone)]
pub struct Expectation {
    pub(crate) line: Line,
    pub(crate) method: Method,
    pub(crate) asked: Box<str>,
    pub(crate) url: Box<str>,
    pub(crate) given: HeaderMap,
    pub(crate) outcome: Option<ExpectedOutcome>,
    pub(crate) checks: Vec<Check>,
}

impl Expectation {
    /// With another check of a header.
    #[must_use]
    pub fn with_check(mut self, check: Check) -> Expectation {
        self.checks.push(check);
        self
    }

    /// Where it stands.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The method, `GET` unless stated.
    pub fn method(&self) -> &Method {
        &self.method
    }

    /// The address as it is written.
    pub fn asked(&self) -> &str {
        &self.asked
    }

    /// The address as a whole URL; it may be malformed, since that can be what is expected.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The request headers.
    pub fn given(&self) -> &HeaderMap {
        &self.given
    }

    /// What becomes of the request, if that is stated.
    pub fn outcome(&self) -> Option<&ExpectedOutcome> {
        self.outcome.as_ref()
    }

    /// What must hold of the header fields.
    pub fn checks(&self) -> &[Check] {
        &self.checks
    }
}

/// `expect every`: what must be true of every address that a pattern matches.
#[derive(Debug, Clone)]
pub struct EveryExpectation {
    pub(crate) line: Line,
    pub(crate) pattern: Pattern,
    pub(crate) of_files: bool,
    pub(crate) tests: Option<Arc<Tests>>,
    pub(crate) given: HeaderMap,
    pub(crate) outcome: Option<ExpectedOutcome<Target, Target>>,
    pub(crate) checks: Vec<Check>,
    pub(crate) locations: Vec<Target>,
}

impl EveryExpectation {
    /// What it expects of one request, where that comes to this outcome.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nexpect every /a/{x} is missing\n")?;
    /// let every = &rules.every_expectations()[0];
    /// let one = every.of_request(&ravel::Request::get("https://h.example/a/1")?, None);
    /// assert_eq!(one.url(), "https://h.example/a/1");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of_request(&self, request: &Request, outcome: Option<ExpectedOutcome>) -> Expectation {
        let mut given = self.given.clone();
        // A field that is given is so, whatever else a request could have.
        for (name, value) in request.headers() {
            if !self.given.contains_key(name) {
                given.append(name, value.clone());
            }
        }
        Expectation {
            line: self.line,
            method: request.method().clone(),
            asked: request.url().into(),
            url: request.url().into(),
            given,
            outcome,
            checks: self.checks.clone(),
        }
    }

    /// Where it stands.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The URLs, a path being at the canonical origin; or, of files, their names with a `/` before
    /// them.
    pub fn pattern(&self) -> &Pattern {
        &self.pattern
    }

    /// Whether it is about built files, each asked under its canonical URL.
    pub fn is_of_files(&self) -> bool {
        self.of_files
    }

    /// What its `where` lines ask of the captures.
    pub fn tests(&self) -> &Tests {
        self.tests.as_deref().unwrap_or(Tests::NONE)
    }

    /// The values of `location` that it expects, with the pattern's captures.
    pub fn locations(&self) -> &[Target] {
        &self.locations
    }

    /// The request headers; others may be as they like.
    pub fn given(&self) -> &HeaderMap {
        &self.given
    }

    /// What becomes of the request, with the pattern's captures, if that is stated.
    pub fn outcome(&self) -> Option<&ExpectedOutcome<Target, Target>> {
        self.outcome.as_ref()
    }

    /// What must hold of the header fields.
    pub fn checks(&self) -> &[Check] {
        &self.checks
    }
}

/// What becomes of a request: `A` is an address, `F` a file's path.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum ExpectedOutcome<A = Address, F = Box<str>> {
    /// `goes to`: where the visitor ends, after every redirect.
    GoesTo {
        /// The address; its fragment counts only if there is one.
        address: A,
        /// The status of the first answer, if stated.
        status: Option<u16>,
        /// The number of redirects, if stated.
        hops: Option<usize>,
    },
    /// `redirects to`: where the first answer leads.
    RedirectsTo {
        /// The address; its fragment counts only if there is one.
        address: A,
        /// The status, if stated.
        status: Option<u16>,
    },
    /// `serves`: the file, from the root of the folder of files.
    Serves(F),
    /// `is …`, with the status if stated.
    Is(StatedOutcome, Option<u16>),
    /// `is not …`: how the visitor does not end, after every redirect.
    IsNot(StatedOutcome),
}

impl ExpectedOutcome<Target, Target> {
    /// The outcome for one request, of which the pattern captures these texts; parameters of the
    /// query that the pattern leaves free are carried along.
    ///
    /// # Errors
    /// The captures cannot stand in the address or in the file's path.
    pub fn expand(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        base: TargetBase<'_>,
        query: Option<&str>,
    ) -> Result<ExpectedOutcome, ExpansionError> {
        Ok(match self {
            ExpectedOutcome::GoesTo { address, status, hops } => {
                let address = address.expand(pattern, captures, base, query)?;
                ExpectedOutcome::GoesTo { address, status: *status, hops: *hops }
            }
            ExpectedOutcome::RedirectsTo { address, status } => {
                let address = address.expand(pattern, captures, base, query)?;
                ExpectedOutcome::RedirectsTo { address, status: *status }
            }
            ExpectedOutcome::Serves(path) => {
                ExpectedOutcome::Serves(
                    path.with_path(pattern, captures, |path| path.trim_start_matches('/').into())?,
                )
            }
            ExpectedOutcome::Is(is, status) => ExpectedOutcome::Is(*is, *status),
            ExpectedOutcome::IsNot(is) => ExpectedOutcome::IsNot(*is),
        })
    }
}

/// The outcomes that `is` can state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum StatedOutcome {
    /// 410.
    Gone,
    /// 404, on the site.
    Missing,
    /// 404, outside the base path.
    Outside,
    /// Another service answers.
    Elsewhere,
    /// 508, or redirects without an end.
    Loop,
    /// 400, 405, 414 or 421.
    Refused,
}

/// What must hold of a header field.
#[derive(Debug, Clone)]
pub struct Check {
    pub(crate) name: HeaderName,
    pub(crate) test: CheckTest,
}

impl Check {
    /// That a header has a value.
    pub fn has_value(name: HeaderName, value: impl Into<Box<str>>) -> Check {
        Check { name, test: CheckTest::HasValue(value.into()) }
    }

    /// The field.
    pub fn name(&self) -> &HeaderName {
        &self.name
    }

    /// What must hold.
    pub fn test(&self) -> &CheckTest {
        &self.test
    }
}

/// What must hold of a header field.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum CheckTest {
    /// It is there.
    Has,
    /// It has this value.
    HasValue(Box<str>),
    /// Its value contains this text.
    HasContaining(Box<str>),
    /// Its whole value matches this regular expression.
    HasMatching(Box<WholeRegex>),
    /// It is not there.
    Lacks,
}

impl StatedOutcome {
    /// The outcome as it is written after `is`.
    ///
    /// ```
    /// assert_eq!(ravel::rules::StatedOutcome::Gone.as_str(), "gone");
    /// ```
    pub fn as_str(self) -> &'static str {
        let word = match self {
            StatedOutcome::Gone => OutcomeWord::Gone,
            StatedOutcome::Missing => OutcomeWord::Missing,
            StatedOutcome::Outside => OutcomeWord::Outside,
            StatedOutcome::Elsewhere => OutcomeWord::Elsewhere,
            StatedOutcome::Loop => OutcomeWord::Loop,
            StatedOutcome::Refused => OutcomeWord::Refused,
        };
        word.form().name
    }
}

impl<A: fmt::Display, F: fmt::Display> fmt::Display for ExpectedOutcome<A, F> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let as_status = |f: &mut fmt::Formatter<'_>, status: &Option<u16>| match status {
            Some(status) => write!(f, " as {status}"),
            None => Ok(()),
        };
        match self {
            ExpectedOutcome::GoesTo { address, status, hops } => {
                write!(f, "goes to {address}")?;
                as_status(f, status)?;
                match hops {
                    Some(1) => f.write_str(" in 1 hop"),
                    Some(hops) => write!(f, " in {hops} hops"),
                    None => Ok(()),
                }
            }
            ExpectedOutcome::RedirectsTo { address, status } => {
                write!(f, "redirects to {address}")?;
                as_status(f, status)
            }
            ExpectedOutcome::IsNot(is) => write!(f, "is not {}", is.as_str()),
            ExpectedOutcome::Serves(file) => {
                let file = file.to_string();
                write!(f, "serves /{}", file.trim_start_matches('/'))
            }
            ExpectedOutcome::Is(is, status) => {
                write!(f, "is {}", is.as_str())?;
                as_status(f, status)
            }
        }
    }
}

impl fmt::Display for Check {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = &self.name;
        match &self.test {
            CheckTest::Has => write!(f, "has {name}"),
            CheckTest::HasValue(value) => write!(f, "has {name}: {value}"),
            CheckTest::HasContaining(text) => write!(f, "has {name} containing {text}"),
            CheckTest::HasMatching(regex) => write!(f, "has {name} matching /{}/", regex.as_str()),
            CheckTest::Lacks => write!(f, "lacks {name}"),
        }
    }
}
