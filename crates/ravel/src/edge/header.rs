//! The headers of an answer: what the rules say, then what is automatic.

use std::borrow::Cow;
use std::ops::ControlFlow;

use http::HeaderName;

use super::Edge;
use super::answer::{Answer, Header, Headers, Outcome};
use super::hosts::RequestParts;
use super::notes::Notes;
use super::step::{HeaderChange, HeaderStep, Refusal, RuleResult, Step, Trace};
use crate::address::Scheme;
use crate::files::content_type;
use crate::language::Line;
use crate::program::{Effect, HeaderOp, HeaderScope, Role, RuleId, Stage};
use crate::template::Captures;

/// The request headers that rules look at, and the values of `vary` they make.
#[derive(Debug)]
pub(super) struct VaryNames {
    names: Vec<Box<str>>,
    /// The value for each set of names, by its bits, as long as there are few sets.
    values: Vec<Box<str>>,
}

/// Of so many names every set has its value ready.
const MAX_JOINED: usize = 6;

impl VaryNames {
    pub(super) fn new(names: &[HeaderName]) -> VaryNames {
        let names: Vec<Box<str>> = names.iter().map(|name| name.as_str().into()).collect();
        let sets = if names.len() <= MAX_JOINED { 1_u64 << names.len() } else { 0 };
        let mut vary = VaryNames { names, values: Vec::new() };
        vary.values = (0..sets).map(|bits| vary.join(bits).into()).collect();
        vary
    }

    fn of(&self, bits: u64) -> impl Iterator<Item = &str> {
        self.names
            .iter()
            .enumerate()
            .filter(move |(at, _)| bits & (1 << at) != 0)
            .map(|(_, name)| &**name)
    }

    fn join(&self, bits: u64) -> String {
        self.of(bits).collect::<Vec<_>>().join(", ")
    }

    fn value(&self, bits: u64) -> Cow<'_, str> {
        match self.values.get(bits as usize) {
            Some(value) => Cow::Borrowed(value),
            None => Cow::Owned(self.join(bits)),
        }
    }
}

/// Why a redirect answers with its status, which decides how long it may be cached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Permanence {
    Temporary,
    ByRule,
    Canonical,
}

impl Permanence {
    /// That of a rule's redirect.
    pub(super) fn of(status: u16) -> Permanence {
        if matches!(status, 301 | 308) { Permanence::ByRule } else { Permanence::Temporary }
    }
}

/// Who says what of a header.
type HeaderAuthor = (Option<RuleId>, Option<Line>);

const AUTOMATIC: HeaderAuthor = (None, None);
pub(super) const TEXT: &str = "text/plain; charset=utf-8";

/// The headers of one answer while they are put together.
struct Writer<'h, 'e, T> {
    headers: &'h mut Headers<'e>,
    trace: &'h mut T,
}

impl<'e, T: Trace> Writer<'_, 'e, T> {
    fn push(&mut self, name: &'e str, value: Cow<'e, str>, by: HeaderAuthor) {
        self.tell(name, || HeaderChange::Added((*value).into()), by);
        self.headers.push(Header { name, value, line: by.1 });
    }

    fn set(&mut self, name: &'e str, value: Cow<'e, str>, by: HeaderAuthor) {
        self.tell(name, || HeaderChange::Set((*value).into()), by);
        self.headers.retain(|header| header.name != name);
        self.headers.push(Header { name, value, line: by.1 });
    }

    fn drop(&mut self, name: &'e str, by: HeaderAuthor) {
        if self.headers.iter().any(|header| header.name == name) {
            self.tell(name, || HeaderChange::Dropped, by);
            self.headers.retain(|header| header.name != name);
        }
    }

    /// Does what a rule says.
    fn apply(&mut self, ops: &'e [HeaderOp], rule: RuleId) {
        for op in ops {
            match op {
                HeaderOp::Set(name, value, line) => {
                    self.set(name.as_str(), Cow::Borrowed(text(value)), (Some(rule), Some(*line)));
                }
                HeaderOp::Add(name, value, line) => {
                    self.push(name.as_str(), Cow::Borrowed(text(value)), (Some(rule), Some(*line)));
                }
                HeaderOp::Drop(name, line) => self.drop(name.as_str(), (Some(rule), Some(*line))),
            }
        }
    }

    fn has(&self, name: &str) -> bool {
        self.headers.iter().any(|header| header.name == name)
    }

    fn tell(
        &mut self,
        name: &str,
        change: impl FnOnce() -> HeaderChange,
        (rule, line): HeaderAuthor,
    ) {
        self.trace.header(|| HeaderStep { name: name.into(), change: change(), rule, line });
    }
}

/// How long an answer may be cached where no rule says it.
fn automatic_lifetime(
    outcome: Outcome,
    is_page: bool,
    permanence: Option<Permanence>,
) -> Option<&'static str> {
    let is_unknown = matches!(outcome, Outcome::Missing | Outcome::Gone | Outcome::Outside);
    match permanence {
        Some(Permanence::ByRule) => Some("max-age=86400"),
        Some(Permanence::Canonical) => Some("max-age=3600"),
        Some(Permanence::Temporary) => None,
        None => (is_unknown || is_page).then_some("no-cache"),
    }
}

impl Edge {
    /// Completes an answer with its headers. `vary` holds the bits of the decision's tests.
    pub(super) fn add_headers<'e, T: Trace>(
        &'e self,
        answer: &mut Answer<'e>,
        visit: &RequestParts<'_>,
        permanence: Option<Permanence>,
        mut vary: u64,
        trace: &mut T,
    ) {
        if answer.outcome == Outcome::Elsewhere {
            // It is the other service's; who passes the request on adds them to the `vary` of what
            // comes back.
            if vary != 0 {
                Writer { headers: &mut answer.headers, trace }.push(
                    "vary",
                    self.vary.value(vary),
                    AUTOMATIC,
                );
            }
            return;
        }
        let outcome = answer.outcome;
        let file_type = answer.file.map_or(TEXT, content_type);
        Writer { headers: &mut answer.headers, trace: &mut *trace }.push(
            "content-type",
            Cow::Borrowed(file_type),
            AUTOMATIC,
        );
        if outcome != Outcome::Outside {
            self.rules_headers(outcome, file_type, &mut answer.headers, visit, &mut vary, trace);
        }
        let mut headers = Writer { headers: &mut answer.headers, trace };
        let is_page = answer.file.is_some() && file_type.starts_with("text/html");
        if !headers.has("cache-control")
            && let Some(value) = automatic_lifetime(outcome, is_page, permanence)
        {
            headers.push("cache-control", Cow::Borrowed(value), AUTOMATIC);
        }
        if visit.role == Role::Preview {
            headers.set("x-robots-tag", Cow::Borrowed("noindex"), AUTOMATIC);
        } else if let Some(hsts) = &self.program().site.hsts
            && visit.scheme == Scheme::Https
            && outcome != Outcome::Outside
        {
            headers.set(
                "strict-transport-security",
                Cow::Borrowed(&hsts.value),
                (None, Some(hsts.line)),
            );
        }
        if vary != 0 {
            self.add_vary(&mut headers, vary);
        }
    }

    /// Every statement that matches and is for such answers acts, in order.
    fn rules_headers<'e, T: Trace>(
        &'e self,
        outcome: Outcome,
        file_type: &str,
        headers: &mut Headers<'e>,
        visit: &RequestParts<'_>,
        vary: &mut u64,
        trace: &mut T,
    ) {
        let program = self.program();
        if program.is_empty(Stage::Headers) {
            return;
        }
        let rules = program.stage(Stage::Headers);
        let mut notes = Notes::default();
        let mut headers = Writer { headers, trace: &mut *trace };
        self.index(Stage::Headers).candidates(visit, program.site.ignore_case, |number| {
            let rule = &rules[number as usize];
            let mut captures = Captures::new();
            let Effect::Headers(effect) = &rule.effect else { return ControlFlow::Continue(()) };
            if !self.pattern_matches(&rule.pattern, visit, &mut captures) {
                return ControlFlow::Continue(());
            }
            let fails = |(_, test): &(usize, &_)| {
                !self.passes(test, (&rule.pattern, &captures), visit, Some(file_type))
            };
            let result = if !effect.on.is_for(outcome) {
                RuleResult::OtherAnswers
            } else if let Some((number, _)) = rule.tests().before_headers().find(fails) {
                RuleResult::ConditionNotMet(number)
            } else {
                *vary |= rule.tests().request_headers();
                match rule.tests().on_headers().find(fails) {
                    Some((number, _)) => RuleResult::ConditionNotMet(number),
                    None => RuleResult::Matched,
                }
            };
            if result == RuleResult::Matched {
                headers.apply(&effect.ops, program.id(Stage::Headers, number));
            }
            notes.add::<T>(number, || result);
            ControlFlow::Continue(())
        });
        notes.tell(Stage::Headers, program, trace);
    }

    /// Names the request headers that the answer depends on, besides those that rules name.
    fn add_vary<'e, T: Trace>(&'e self, headers: &mut Writer<'_, 'e, T>, bits: u64) {
        let mut stated = headers.headers.iter().filter(|header| header.name == "vary").peekable();
        if stated.peek().is_none() {
            return headers.push("vary", self.vary.value(bits), AUTOMATIC);
        }
        let line = stated.peek().and_then(|header| header.line);
        let names = stated
            .flat_map(|header| header.value.split(','))
            .map(|name| name.trim_matches([' ', '\t']).to_owned());
        let mut names: Vec<String> = names.filter(|name| !name.is_empty()).collect();
        for name in self.vary.of(bits) {
            if !names.iter().any(|stated| stated == "*" || stated.eq_ignore_ascii_case(name)) {
                names.push(name.to_owned());
            }
        }
        headers.set("vary", Cow::Owned(names.join(", ")), (None, line));
    }

    /// Adds to the trace what an answer begins with.
    pub(super) fn first_header<'e, T: Trace>(
        answer: &mut Answer<'e>,
        name: &'e str,
        value: Cow<'e, str>,
        by: HeaderAuthor,
        trace: &mut T,
    ) {
        Writer { headers: &mut answer.headers, trace }.push(name, value, by);
    }
}

/// The answer to a request that is refused before any rule is asked.
#[cold]
pub(super) fn refused<'e, T: Trace>(why: Refusal, trace: &mut T) -> Answer<'e> {
    let status = Some(why.status());
    trace.step(|| Step::Refused(why));
    let mut answer = Answer {
        outcome: Outcome::Refused,
        status,
        file: None,
        rule: None,
        by: None,
        headers: Headers::new(),
    };
    Writer { headers: &mut answer.headers, trace }.push(
        "content-type",
        Cow::Borrowed(TEXT),
        AUTOMATIC,
    );
    answer
}

impl HeaderScope {
    /// Whether it is for answers of this outcome; 400, 414 and 421 are answered before any
    /// statement is asked.
    ///
    /// ```
    /// use ravel::Outcome;
    /// use ravel::program::HeaderScope;
    ///
    /// assert!(HeaderScope::Served.is_for(Outcome::File) && !HeaderScope::Served.is_for(Outcome::Gone));
    /// ```
    pub fn is_for(self, outcome: Outcome) -> bool {
        match self {
            HeaderScope::All => !matches!(outcome, Outcome::Outside | Outcome::Elsewhere),
            HeaderScope::Served => outcome == Outcome::File,
            HeaderScope::Missing => matches!(outcome, Outcome::Missing | Outcome::Gone),
            HeaderScope::Redirects => outcome == Outcome::Redirect,
        }
    }
}

// Values are checked to be visible ASCII when the rules are read.
fn text(value: &http::HeaderValue) -> &str {
    value.to_str().unwrap_or_default()
}
