//! What is looked at on the way to an answer, as data. The words for it are in `words.rs`.

use http::{HeaderName, Method};

use crate::address::{Scheme, UrlError};
use crate::language::Line;
use crate::program::{Role, RuleId};
use crate::template::ExpansionError;

/// One thing that was looked at on the way to an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Step {
    /// The request is refused before any rule is asked.
    Refused(Refusal),
    /// The host of the request, and the line of the setting that names it.
    Host(Box<str>, Role, Line),
    /// Under `hsts` with `subdomains`, plain HTTP on this host goes to HTTPS first; the line of the
    /// setting.
    HttpsFirst(Box<str>, Line),
    /// A rule, and what happened there.
    Rule(RuleId, RuleResult),
    /// The canonical redirect, with what it changes; the line of the host's setting, where origin
    /// or base path change.
    Canonical(Vec<CanonicalChange>, Option<Line>),
    /// Redirects are joined: this URL is redirected again within the same answer.
    Joined(Box<str>),
    /// Joining stops before this URL, which is longer than 8 192 bytes.
    TooLong(Box<str>),
    /// The redirects have no end: this URL came back, or a 17th step would be needed.
    Loop(Box<str>, LoopCause),
    /// The URL is below no base path of its host; the line of the host's setting.
    Outside(Box<str>, Line),
    /// A method that is not answered.
    Method(Method),
    /// The URL names this file.
    File(Box<str>),
    /// This path names no file; the rule that looked it up, if it was a rule.
    NoFile(Box<str>, Option<RuleId>),
    /// The 404 page of the site, and the line that names it; none where there is no such file.
    NotFoundPage(Option<Box<str>>, Line),
}

/// Why a request is refused before any rule is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refusal {
    /// 400: it is not a request for a URL.
    Malformed(UrlError),
    /// 400: it names more than one host.
    TwoHosts,
    /// 414: its URL is longer than 8 192 bytes.
    TooLong,
    /// 421: its host is in no setting of the site.
    UnknownHost(Box<str>),
}

impl Refusal {
    /// The status that says it.
    ///
    /// ```
    /// assert_eq!(ravel::edge::Refusal::TooLong.status(), 414);
    /// ```
    pub fn status(&self) -> u16 {
        match self {
            Refusal::Malformed(_) | Refusal::TwoHosts => 400,
            Refusal::TooLong => 414,
            Refusal::UnknownHost(_) => 421,
        }
    }
}

/// Why redirects have no end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum LoopCause {
    /// A URL came back.
    CameBack,
    /// A 17th step would be needed.
    TooManySteps,
}

/// Something that the canonical redirect changes.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum CanonicalChange {
    /// The scheme becomes this.
    Scheme(Scheme),
    /// The host becomes this.
    Host(Box<str>),
    /// The base path becomes this.
    Base(Box<str>),
    /// A URL variant of this file becomes the file's canonical path.
    Variant {
        /// The file's name.
        file: Box<str>,
        /// Its canonical path.
        path: Box<str>,
    },
}

/// What happened at a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum RuleResult {
    /// It matched and acted.
    Matched,
    /// Its pattern did not match.
    NotMatched(Mismatch),
    /// Its pattern matched, and the test with this number did not pass.
    ConditionNotMet(usize),
    /// It would have matched, and this earlier rule decided.
    Shadowed(RuleId),
    /// It matched, and its captures cannot stand in its target.
    TargetImpossible(ExpansionError),
    /// It matched, and its target is the requested URL.
    TargetIsRequest,
    /// It matched, and the URL ends in a known file extension.
    KnownFileType,
    /// It matched, and the file that it names is not there.
    NoFile,
    /// It matched, and its headers are for other answers.
    OtherAnswers,
    /// Joining stops: a browser's next request need not carry this header unchanged.
    HeaderUnknown(HeaderName),
}

/// Where a pattern stopped matching.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Mismatch {
    /// It is for another scheme or host.
    Origin,
    /// The query does not have what it asks for.
    Query,
    /// The path does not match from this byte on.
    Path {
        /// The byte, from 0.
        at: usize,
        /// The path from there on.
        rest: Box<str>,
    },
}

/// A change to the headers of an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeaderStep {
    pub(crate) name: Box<str>,
    pub(crate) change: HeaderChange,
    pub(crate) rule: Option<RuleId>,
    pub(crate) line: Option<Line>,
}

impl HeaderStep {
    /// The header's name, in lower case.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What was done.
    pub fn change(&self) -> &HeaderChange {
        &self.change
    }

    /// The rule that did it; none where it is automatic.
    pub fn rule(&self) -> Option<RuleId> {
        self.rule
    }

    /// The line that says so, if one does.
    pub fn line(&self) -> Option<Line> {
        self.line
    }
}

/// What was done to a header.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum HeaderChange {
    /// It has this value now, and no other.
    Set(Box<str>),
    /// It has this value besides.
    Added(Box<str>),
    /// It is not there any more.
    Dropped,
}

/// Who is told what is looked at.
pub(super) trait Trace {
    /// Whether anybody listens.
    const LISTENS: bool;

    /// Takes a step, which is made only if somebody listens.
    fn step(&mut self, step: impl FnOnce() -> Step);

    /// Takes a change of a header.
    fn header(&mut self, step: impl FnOnce() -> HeaderStep);

    /// A mark to go back to.
    fn mark(&self) -> usize;

    /// Forgets the steps after a mark.
    fn forget(&mut self, mark: usize);
}

/// Nobody listens.
pub(super) struct NoTrace;

impl Trace for NoTrace {
    const LISTENS: bool = false;

    fn step(&mut self, _step: impl FnOnce() -> Step) {}

    fn header(&mut self, _step: impl FnOnce() -> HeaderStep) {}

    fn mark(&self) -> usize {
        0
    }

    fn forget(&mut self, _mark: usize) {}
}

/// Keeps every step.
#[derive(Default)]
pub(super) struct Recorder {
    pub(super) steps: Vec<Step>,
    pub(super) headers: Vec<HeaderStep>,
}

impl Trace for Recorder {
    const LISTENS: bool = true;

    fn step(&mut self, step: impl FnOnce() -> Step) {
        self.steps.push(step());
    }

    fn header(&mut self, step: impl FnOnce() -> HeaderStep) {
        self.headers.push(step());
    }

    fn mark(&self) -> usize {
        self.steps.len()
    }

    fn forget(&mut self, mark: usize) {
        self.steps.truncate(mark);
    }
}
