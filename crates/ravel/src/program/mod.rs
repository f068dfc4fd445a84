//! What is executed: the rules of a file in the order in which they are asked, each with an
//! identity of its own.
//!
//! ```text
//!   redirect /port/{port} -> /ports/{port}/        pattern  /port/{port}
//!     where port is one of skerry, heronsea   ──▶  tests    captured text `port`, header `cookie`
//!     when cookie lab is on                        effect   redirect to /ports/{port}/
//! ```
//!
//! What a rules file writes in many ways is lowered to few kinds of tests and effects. Everything
//! that decides, explains, proves or publishes reads this, and matches the kinds exhaustively: a
//! new kind is an error of the compiler in every place that it touches. The kinds are therefore
//! outside the promise of stable names that the rest of the crate makes.

mod change;
mod effect;
mod media;
mod regex;
mod rule;
mod site;
mod subject;
mod test;

pub use change::RuleChange;
pub use effect::{Effect, FileEffect, FileRole, HeaderEffect, HeaderOp, HeaderScope, Redirect};
pub use media::MediaRange;
pub use regex::WholeRegex;
pub use rule::{Rule, Stage};
pub use site::{Alias, Hsts, HttpPolicy, Pages, PreviewHost, Site};
pub use subject::TestSubject;
pub use test::{Role, Test, TestKind, Tests, TextSet, ValueSet};

use std::fmt;
use std::ops::Deref;

use http::HeaderName;

use crate::language::Line;

/// A rule of one program, by its place there; in another program it means nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RuleId(u32);

/// The rules of a site, as they are executed.
#[derive(Debug, Clone)]
pub struct Program {
    pub(crate) site: Site,
    /// Stage after stage, each in the order of the file.
    rules: Vec<Rule>,
    /// Where each stage begins in `rules`, and where the last ends.
    starts: [u32; Stage::ALL.len() + 1],
    /// The request headers that tests look at; tests name them by bits.
    request_headers: Vec<HeaderName>,
    /// Those of them that a browser's next request need not carry unchanged once the origin has
    /// changed.
    origin_bound: u64,
}

/// A rule with its identity.
#[derive(Debug, Clone, Copy)]
pub struct RuleRef<'p> {
    pub(crate) id: RuleId,
    pub(crate) rule: &'p Rule,
}

impl<'p> RuleRef<'p> {
    /// Its identity.
    pub fn id(&self) -> RuleId {
        self.id
    }

    /// The rule.
    pub fn rule(&self) -> &'p Rule {
        self.rule
    }
}

impl Deref for RuleRef<'_> {
    type Target = Rule;

    fn deref(&self) -> &Rule {
        self.rule
    }
}

impl Program {
    pub(crate) fn new(
        site: Site,
        stages: [Vec<Rule>; Stage::ALL.len()],
        request_headers: Vec<HeaderName>,
    ) -> Program {
        let mut starts = [0; Stage::ALL.len() + 1];
        for (at, stage) in stages.iter().enumerate() {
            starts[at + 1] = starts[at] + stage.len() as u32;
        }
        // The first stage may be very large: what comes after is added to it.
        let [mut rules, others @ ..] = stages;
        rules.reserve_exact(others.iter().map(Vec::len).sum());
        others.into_iter().for_each(|stage| rules.extend(stage));
        rules.shrink_to_fit();
        let bound = (0..).zip(&request_headers).filter(|(_, name)| is_origin_bound(name));
        let origin_bound = bound.fold(0, |bits, (at, _)| bits | (1 << at));
        Program { site, rules, starts, request_headers, origin_bound }
    }

    /// The site.
    pub fn site(&self) -> &Site {
        &self.site
    }

    /// The rules of a stage, in the order of the file.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// assert_eq!(rules.program().stage(ravel::program::Stage::Redirect).len(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn stage(&self, stage: Stage) -> &[Rule] {
        &self.rules[self.start(stage)..self.starts[stage as usize + 1] as usize]
    }

    /// Whether a stage has no rules.
    pub(crate) fn is_empty(&self, stage: Stage) -> bool {
        self.starts[stage as usize] == self.starts[stage as usize + 1]
    }

    /// The rules of a stage with their identities, in the order of the file.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// use ravel::program::Stage;
    ///
    /// let rule = rules.program().rules(Stage::Redirect).next().unwrap();
    /// assert_eq!(rule.to_string(), "redirect /a/{x} -> /b");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rules(
        &self,
        stage: Stage,
    ) -> impl DoubleEndedIterator<Item = RuleRef<'_>> + Clone + ExactSizeIterator {
        let start = self.starts[stage as usize];
        self.stage(stage)
            .iter()
            .enumerate()
            .map(move |(number, rule)| RuleRef { id: RuleId(start + number as u32), rule })
    }

    /// A rule by its identity.
    ///
    /// # Panics
    /// When the identity is another program's, and this one has fewer rules.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// let rule = rules.program().rule(edge.answer(&request).rule().unwrap());
    /// assert_eq!(rule.line().number(), 3);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rule(&self, id: RuleId) -> RuleRef<'_> {
        RuleRef { id, rule: &self.rules[id.0 as usize] }
    }

    /// The identity of a rule by its number within its stage.
    pub(crate) fn id(&self, stage: Stage, number: u32) -> RuleId {
        RuleId(self.starts[stage as usize] + number)
    }

    /// The number of a rule within its stage.
    pub(crate) fn number(&self, id: RuleId, stage: Stage) -> u32 {
        id.0 - self.starts[stage as usize]
    }

    /// A rule by its number within its stage.
    ///
    /// # Panics
    /// When the stage has no such rule, and the program no later stage that does.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let rule = rules.program().numbered(ravel::program::Stage::Redirect, 0);
    /// assert_eq!(rule.to_string(), "redirect /a/{x} -> /b/{x}");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn numbered(&self, stage: Stage, number: u32) -> RuleRef<'_> {
        self.rule(self.id(stage, number))
    }

    /// Every rule, stage after stage.
    pub fn all_rules(&self) -> &[Rule] {
        &self.rules
    }

    /// The request headers that tests look at, by their bits in [`Tests::request_headers`].
    pub fn request_headers(&self) -> &[HeaderName] {
        &self.request_headers
    }

    /// The bits of the request headers that a browser's next request need not carry unchanged once
    /// the origin has changed.
    pub(crate) fn origin_bound(&self) -> u64 {
        self.origin_bound
    }

    fn start(&self, stage: Stage) -> usize {
        self.starts[stage as usize] as usize
    }
}

/// Whether browsers send a header to one origin and not, or otherwise, to another (Fetch, sections
/// 3.2, 4.4 and 4.5).
///
/// ```
/// use ravel::program::is_origin_bound;
///
/// assert!(is_origin_bound(&http::header::COOKIE));
/// assert!(!is_origin_bound(&http::header::ACCEPT_LANGUAGE));
/// ```
pub fn is_origin_bound(name: &HeaderName) -> bool {
    matches!(name.as_str(), "cookie" | "authorization" | "origin" | "referer")
        || name.as_str().starts_with("sec-")
}

impl fmt::Display for RuleRef<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.rule.fmt(f)
    }
}

impl RuleId {
    /// The place of the rule in its program, from 0.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

impl RuleRef<'_> {
    /// Where the rule is written.
    pub fn line(&self) -> Line {
        self.rule.line
    }
}
