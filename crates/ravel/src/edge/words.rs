//! An explanation in words: the one place that has them.

use std::fmt;

use super::Edge;
use super::answer::Answer;
use super::step::{CanonicalChange, HeaderStep, LoopCause, Mismatch, Refusal, RuleResult, Step};
use crate::language::Line;
use crate::program::{Role, Rule, RuleId};

/// An answer with the steps that led to it.
#[derive(Debug, Clone)]
pub struct Explanation<'e> {
    pub(crate) answer: Answer<'e>,
    pub(crate) steps: Vec<Step>,
    pub(crate) headers: Vec<HeaderStep>,
    pub(super) edge: &'e Edge,
}

impl<'e> Explanation<'e> {
    /// The steps in words.
    pub fn words(&self) -> impl Iterator<Item = StepWords<'_>> {
        self.steps.iter().map(|step| StepWords { step, edge: self.edge })
    }

    /// The answer.
    pub fn answer(&self) -> &Answer<'e> {
        &self.answer
    }

    /// What was looked at, in order.
    pub fn steps(&self) -> &[Step] {
        &self.steps
    }

    /// Every change to the headers, in order; of those to one name the last is the one that holds.
    pub fn headers(&self) -> &[HeaderStep] {
        &self.headers
    }
}

/// A step in words.
#[derive(Debug, Clone, Copy)]
pub struct StepWords<'s> {
    step: &'s Step,
    edge: &'s Edge,
}

impl StepWords<'_> {
    /// The step.
    pub fn step(&self) -> &Step {
        self.step
    }

    /// The line that says so, if one does.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// let why = edge.explain(&request);
    /// assert!(why.words().any(|step| step.line() == why.answer().line()));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn line(&self) -> Option<Line> {
        match self.step {
            Step::Host(_, _, line)
            | Step::HttpsFirst(_, line)
            | Step::Outside(_, line)
            | Step::NotFoundPage(_, line) => Some(*line),
            Step::Canonical(_, line) => *line,
            Step::Rule(rule, _) => Some(self.rule(*rule).line),
            Step::NoFile(_, rule) => rule.map(|rule| self.rule(rule).line),
            Step::Refused(_)
            | Step::Joined(_)
            | Step::TooLong(_)
            | Step::Loop(..)
            | Step::Method(_)
            | Step::File(_) => None,
        }
    }

    /// Whether it is a rule or a file that matched and acted.
    pub fn matched(&self) -> bool {
        matches!(self.step, Step::Rule(_, RuleResult::Matched) | Step::File(_))
    }

    /// What was looked at: a host, a rule, a file.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// let why = edge.explain(&request);
    /// assert_eq!(why.words().nth(1).unwrap().subject(), "redirect /a/{x} -> /b/{x}");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn subject(&self) -> String {
        match self.step {
            Step::Refused(_) => "request".to_owned(),
            Step::Host(host, ..) => format!("host {host}"),
            Step::HttpsFirst(..) => "hsts with subdomains".to_owned(),
            Step::Rule(rule, _) => self.rule(*rule).to_string(),
            Step::Canonical(..) => "canonical URL".to_owned(),
            Step::Joined(url) => format!("on to {url}"),
            Step::TooLong(url) => format!("on to {}", short(url)),
            Step::Loop(..) => "redirects".to_owned(),
            Step::Outside(..) => "base path".to_owned(),
            Step::Method(method) => format!("method {method}"),
            Step::File(name) => format!("file {name}"),
            Step::NoFile(path, _) => format!("file for {}", short(path)),
            Step::NotFoundPage(Some(name), _) => format!("missing {name}"),
            Step::NotFoundPage(None, _) => "missing".to_owned(),
        }
    }

    /// What happened there.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// let why = edge.explain(&request);
    /// assert!(why.words().nth(1).unwrap().result().starts_with("matched"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn result(&self) -> String {
        match self.step {
            Step::Refused(refusal) => refusal.to_string(),
            Step::Host(_, role, _) => match role {
                Role::Canonical => "the canonical host",
                Role::Alias => "an alias",
                Role::Preview => "a preview host",
            }
            .to_owned(),
            Step::HttpsFirst(host, _) => {
                format!(
                    "plain HTTP goes to https://{host} first, so that the promise is seen there"
                )
            }
            Step::Rule(rule, result) => self.rule_result(*rule, result),
            Step::Canonical(changes, _) => {
                changes.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
            }
            Step::Joined(_) => "which is redirected again, all in one hop".to_owned(),
            Step::TooLong(_) => {
                "which is longer than 8192 bytes, so it is left to the next request".to_owned()
            }
            Step::Loop(url, LoopCause::CameBack) => format!("they lead back to {}", short(url)),
            Step::Loop(_, LoopCause::TooManySteps) => {
                "they lead on for more than 16 steps".to_owned()
            }
            Step::Outside(host, _) => {
                format!(
                    "the site is below {}; the rest of {host} belongs to others",
                    self.edge.site().base
                )
            }
            Step::Method(_) => "a static site answers GET and HEAD".to_owned(),
            Step::File(_) => "matched".to_owned(),
            Step::NoFile(..) => "there is none".to_owned(),
            Step::NotFoundPage(Some(_), _) => "the 404 page".to_owned(),
            Step::NotFoundPage(None, _) => "there is no such file".to_owned(),
        }
    }

    fn rule_result(&self, rule: RuleId, result: &RuleResult) -> String {
        let rule = self.rule(rule);
        match result {
            RuleResult::Matched => "matched".to_owned(),
            RuleResult::NotMatched(mismatch) => format!("did not match: {}", mismatch_in_words(rule, mismatch)),
            RuleResult::ConditionNotMet(number) => {
                let languages = &self.edge.site().languages;
                let condition = rule.tests().get(*number).map(|test| test.written(languages)).unwrap_or_default();
                format!("condition not met: `{condition}`")
            }
            RuleResult::Shadowed(by) => format!("shadowed by {}", self.edge.rules().line_name(self.rule(*by).line)),
            RuleResult::TargetImpossible(why) => format!("does not match: {why}"),
            RuleResult::TargetIsRequest => "does not match: its target is the requested URL".to_owned(),
            RuleResult::KnownFileType => {
                "does not match: the URL ends in a known file extension, and the rule does not say `even files`".to_owned()
            }
            RuleResult::NoFile => "does not match: the file it names is not there".to_owned(),
            RuleResult::OtherAnswers => "is for other answers".to_owned(),
            RuleResult::HeaderUnknown(name) => {
                format!("joining stops here: a browser's next request need not carry `{name}` unchanged")
            }
        }
    }

    fn rule(&self, id: RuleId) -> &Rule {
        self.edge.program().rule(id).rule
    }
}

impl fmt::Display for StepWords<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.subject(), self.result())
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Refusal::Malformed(why) => why.fmt(f),
            Refusal::TwoHosts => f.write_str("it names more than one host"),
            Refusal::TooLong => f.write_str("its URL is longer than 8192 bytes"),
            Refusal::UnknownHost(host) => write!(f, "`{host}` is not a host of this site"),
        }
    }
}

impl fmt::Display for CanonicalChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            CanonicalChange::Scheme(scheme) => write!(f, "plain HTTP goes to {scheme}"),
            CanonicalChange::Host(host) => write!(f, "the host becomes {host}"),
            CanonicalChange::Base(base) => write!(f, "the base path is {base}"),
            CanonicalChange::Variant { file, path } => write!(f, "{file} is served under {path}"),
        }
    }
}

fn mismatch_in_words(rule: &Rule, mismatch: &Mismatch) -> String {
    let path = &rule.pattern.path;
    match mismatch {
        Mismatch::Origin => match rule.pattern.origin() {
            Some(origin) => format!("it is for {origin}"),
            None => "it is for another host".to_owned(),
        },
        Mismatch::Query => "the query does not have what it asks for".to_owned(),
        Mismatch::Path { rest, .. } if rest.is_empty() => {
            format!("the path ends where `{path}` goes on")
        }
        Mismatch::Path { at, rest } if path.is_literal() && *at == path.as_str().len() => {
            format!("the path goes on with `{}`", short(rest))
        }
        Mismatch::Path { rest, .. } => format!("it stops matching at `{}`", short(rest)),
    }
}

fn short(text: &str) -> String {
    match text.char_indices().nth(40) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}
