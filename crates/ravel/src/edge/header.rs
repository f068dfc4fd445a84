//! The header fields of an answer: what the rules say, then what is automatic.

use std::borrow::Cow;

use http::HeaderName;

use super::answer::{Answer, Header, Headers, Outcome};
use super::hosts::{Asked, Role};
use super::{Edge, trace::Trace};
use crate::address::Scheme;
use crate::files::content_type;
use crate::language::Line;
use crate::rules::{Action, HeaderOp, On, Stage};

/// The request headers that rules look at, and the values of `vary` they make.
#[derive(Debug)]
pub(super) struct VaryNames {
    names: Vec<Box<str>>,
    /// The value for each set of names, by its bits, as long as there are few sets.
    values: Vec<Box<str>>,
}

const MOST_JOINED: usize = 6;

impl VaryNames {
    pub(super) fn new(names: &[HeaderName]) -> VaryNames {
        let names: Vec<Box<str>> = names.iter().map(|name| name.as_str().into()).collect();
        let sets = if names.len() <= MOST_JOINED { 1_u64 << names.len() } else { 0 };
        let mut vary = VaryNames { names, values: Vec::new() };
        vary.values = (0..sets).map(|bits| vary.join(bits).into()).collect();
        vary
    }

    fn of(&self, bits: u64) -> impl Iterator<Item = &str> {
        self.names.iter().enumerate().filter(move |(at, _)| bits & (1 << at) != 0).map(|(_, name)| &**name)
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

/// Why a redirect answers with its status, which decides how long it may be kept.
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

impl Edge {
    /// Completes an answer with its header fields. `vary` holds the bits of the decision's conditions.
    pub(super) fn add_headers<'e, T: Trace>(
        &'e self,
        answer: &mut Answer<'e>,
        asked: &Asked<'_>,
        permanence: Option<Permanence>,
        mut vary: u64,
        trace: &mut T,
    ) {
        if answer.outcome == Outcome::Elsewhere {
            return;
        }
        let page = match answer.file {
            Some(file) => content_type(file),
            None => "text/plain; charset=utf-8",
        };
        push(&mut answer.headers, "content-type", page, None);
        if answer.outcome != Outcome::Outside {
            self.rules_headers(answer.outcome, &mut answer.headers, asked, &mut vary, trace);
        }
        let headers = &mut answer.headers;
        if !headers.iter().any(|header| header.name == "cache-control") {
            let automatic = match permanence {
                Some(Permanence::ByRule) => Some("max-age=86400"),
                Some(Permanence::Canonical) => Some("max-age=3600"),
                Some(Permanence::Temporary) => None,
                None => (answer.file.is_some() && page.starts_with("text/html")).then_some("no-cache"),
            };
            automatic.into_iter().for_each(|value| push(headers, "cache-control", value, None));
        }
        if asked.role == Role::Preview {
            set(headers, "x-robots-tag", "noindex", None);
        } else if let Some(hsts) = &self.rules.site.hsts
            && asked.scheme == Scheme::Https
            && answer.outcome != Outcome::Outside
        {
            set(headers, "strict-transport-security", &hsts.value, Some(hsts.line));
        }
        self.add_vary(headers, vary);
    }

    fn rules_headers<'e, T: Trace>(
        &'e self,
        outcome: Outcome,
        headers: &mut Headers<'e>,
        asked: &Asked<'_>,
        vary: &mut u64,
        trace: &mut T,
    ) {
        self.all(Stage::Headers, asked, vary, trace, |rule| {
            let Action::Headers(statement) = &rule.action else { return false };
            let acts = statement.on.is_for(outcome);
            if acts {
                for op in &statement.ops {
                    match op {
                        HeaderOp::Set(name, value, line) => set(headers, name.as_str(), text(value), Some(*line)),
                        HeaderOp::Add(name, value, line) => push(headers, name.as_str(), text(value), Some(*line)),
                        HeaderOp::Drop(name, _) => headers.retain(|header| header.name != name.as_str()),
                    }
                }
            }
            acts
        });
    }

    /// Names the request headers that the answer depends on, besides those that rules name.
    fn add_vary<'e>(&'e self, headers: &mut Headers<'e>, bits: u64) {
        if bits == 0 {
            return;
        }
        let mut stated = headers.iter().filter(|header| header.name == "vary").peekable();
        if stated.peek().is_none() {
            headers.push(Header { name: "vary", value: self.vary.value(bits), line: None });
            return;
        }
        let line = stated.peek().and_then(|header| header.line);
        let mut names: Vec<String> =
            stated.flat_map(|header| header.value.split(',')).map(|name| name.trim().to_owned()).collect();
        for name in self.vary.of(bits) {
            if !names.iter().any(|stated| stated == "*" || stated.eq_ignore_ascii_case(name)) {
                names.push(name.to_owned());
            }
        }
        let value = names.join(", ");
        headers.retain(|header| header.name != "vary");
        headers.push(Header { name: "vary", value: Cow::Owned(value), line });
    }
}

impl On {
    /// Whether it is for answers of this outcome; 400 and 421 are answered before any statement is asked.
    pub(crate) fn is_for(self, outcome: Outcome) -> bool {
        match self {
            On::All => !matches!(outcome, Outcome::Outside | Outcome::Elsewhere),
            On::Served => outcome == Outcome::File,
            On::Missing => matches!(outcome, Outcome::Missing | Outcome::Gone),
            On::Redirects => outcome == Outcome::Redirect,
        }
    }
}

// Values are checked to be visible ASCII when the rules are read.
fn text(value: &http::HeaderValue) -> &str {
    value.to_str().unwrap_or_default()
}

fn push<'e>(headers: &mut Headers<'e>, name: &'e str, value: &'e str, line: Option<Line>) {
    headers.push(Header { name, value: Cow::Borrowed(value), line });
}

fn set<'e>(headers: &mut Headers<'e>, name: &'e str, value: &'e str, line: Option<Line>) {
    headers.retain(|header| header.name != name);
    push(headers, name, value, line);
}
