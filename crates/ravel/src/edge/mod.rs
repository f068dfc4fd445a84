//! Rules and files as one thing that answers.
//!
//! ```text
//!   Request ──hosts──▶ Asked ──decide──▶ Decision ──headers──▶ Answer
//!                        │     │
//!                        │     └─ stages: redirect, canonical, method, rewrite, file, fallback, missing
//!                        └─ index: which rules of a stage could match, in the order of the file
//! ```
//!
//! One function decides, with and without an explanation: what is looked at goes to a `Trace`, which is
//! nothing at all where nobody asked why. Only then is what was foreseen when the rules were compiled taken as it is.

mod answer;
mod condition;
mod decide;
mod explain;
mod foreseen;
mod header;
mod hosts;
mod index;
mod look;
mod route;
mod trace;
mod walk;

pub use answer::{Answer, Header, Outcome};
pub(crate) use condition::holds_for;
pub use explain::Explanation;
pub(crate) use hosts::Role;
pub(crate) use route::{Route, RouteEnd};
pub use trace::{Came, Step};
pub use walk::{End, Walk};
pub(crate) use walk::{MOST_HOPS, method_after};

use std::sync::Arc;

use crate::address::Request;
use crate::files::{FileList, Spellings};
use crate::rules::{Rule, RuleSet, Rules, Site, Stage};
use crate::template::Captures;

/// The rules and the list of files, compiled: what answers requests. Shared freely between threads.
#[derive(Debug)]
pub struct Edge {
    rules: Arc<RuleSet>,
    files: FileList,
    spellings: Spellings,
    hosts: hosts::Hosts,
    indexes: [index::Index; 5],
    foreseen: foreseen::Foreseen,
    vary: header::VaryNames,
}

impl Edge {
    /// Compiles rules and a list of files.
    pub fn new(rules: &Rules, files: FileList) -> Edge {
        let rules = Arc::clone(rules.set());
        let mut edge = Edge {
            spellings: Spellings::new(&files, &rules.site),
            hosts: hosts::Hosts::new(&rules.site),
            indexes: Stage::ALL.map(|stage| index::Index::new(rules.stage(stage), &rules.site)),
            foreseen: foreseen::Foreseen::default(),
            vary: header::VaryNames::new(&rules.vary_names),
            rules,
            files,
        };
        edge.foreseen = foreseen::Foreseen::of(&edge);
        edge
    }

    /// What a request gets.
    pub fn answer<'e>(&'e self, request: &Request) -> Answer<'e> {
        self.decide(request, &mut trace::Silent)
    }

    /// What a request gets, and why: the same answer, with the steps that led to it.
    pub fn explain(&self, request: &Request) -> Explanation<'_> {
        let mut recorder = trace::Recorder::new(&self.rules.sources);
        let answer = self.decide(request, &mut recorder);
        Explanation { answer, steps: recorder.steps }
    }

    /// Follows a request through its redirects until it ends, as a browser would, explaining every answer.
    pub fn walk(&self, request: &Request) -> Walk<'_> {
        walk::walk(self, request)
    }

    /// The files that are served.
    pub fn files(&self) -> &FileList {
        &self.files
    }

    /// The site that is answered for.
    pub fn site(&self) -> &Site {
        &self.rules.site
    }

    /// The names of the files that the rules were read from; a [`crate::language::Line`] refers to them.
    pub fn sources(&self) -> &[Box<str>] {
        &self.rules.sources
    }

    pub(crate) fn rules(&self) -> &RuleSet {
        &self.rules
    }

    /// Every address below the base path that names a file.
    pub(crate) fn addresses(&self) -> impl Iterator<Item = &str> {
        self.spellings.addresses()
    }

    /// Every address below the base path with which a rule can name a file.
    pub(crate) fn spelled_addresses(&self) -> impl Iterator<Item = &str> {
        self.spellings.all()
    }

    /// The file that is shown where nothing answers, if the site has one.
    pub fn missing_file(&self) -> Option<&str> {
        self.rules.site.missing.as_ref().and_then(|(path, _)| self.file_of(path))
    }

    /// Every address below the base path with its file, and what is got there; see [`Spellings::table`].
    pub(crate) fn spelling_table(&self) -> Vec<(&str, u32, u8)> {
        self.spellings.table()
    }

    /// What a pattern captures of a request; none where it does not match.
    pub(crate) fn captures_of<'q>(&self, pattern: &crate::template::Pattern, request: &'q Request) -> Option<Captures<'q>> {
        let asked = self.hosts.locate(request.method(), request.headers(), request.address().ok()?)?;
        let mut captures = Captures::new();
        self.pattern_matches(pattern, &asked, &mut captures).then_some(captures)
    }

    /// The file that a path of a rule names, in any spelling.
    pub(crate) fn file_of(&self, path: &str) -> Option<&str> {
        self.spellings.any(path).map(|file| self.file_name(file))
    }

    /// The number of the file that an address names, in any spelling.
    pub(crate) fn file_number(&self, path: &str) -> Option<u32> {
        self.spellings.any(path)
    }

    /// The number of the file with this name.
    pub(crate) fn number_of(&self, name: &str) -> Option<u32> {
        self.files.names().binary_search_by(|known| (**known).cmp(name)).ok().map(|at| at as u32)
    }

    /// The address below the base path that a file is served under.
    pub(crate) fn own_address(&self, file: u32) -> &str {
        self.spellings.own(file)
    }

    /// The URL that a file is served under.
    pub(crate) fn url_of(&self, file: u32) -> String {
        let site = &self.rules.site;
        format!("{}://{}{}{}", site.scheme, site.host, site.open_base(), self.own_address(file))
    }

    /// The rules of a stage whose patterns match a request, whatever their conditions.
    pub(crate) fn rules_for(&self, stage: Stage, request: &Request) -> Vec<&Rule> {
        let mut found = Vec::new();
        let asked = request.address().ok().and_then(|address| self.hosts.locate(request.method(), request.headers(), address));
        if let Some(asked) = asked {
            let rules = self.rules.stage(stage);
            self.indexes[stage as usize].candidates(&asked, self.rules.site.ignore_case, |number| {
                let rule = &rules[number as usize];
                if self.pattern_matches(&rule.pattern, &asked, &mut Captures::new()) {
                    found.push(rule);
                }
                std::ops::ControlFlow::Continue(())
            });
        }
        found
    }

    fn file_name(&self, file: u32) -> &str {
        &self.files.names()[file as usize]
    }
}
