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
//! nothing at all where nobody asked why.

mod answer;
mod condition;
mod decide;
mod explain;
mod header;
mod hosts;
mod index;
mod look;
mod trace;
mod walk;

pub use answer::{Answer, Header, Outcome};
pub use explain::Explanation;
pub use trace::{Came, Step};
pub use walk::{End, Walk};

use std::sync::Arc;

use crate::address::Request;
use crate::files::{FileList, Spelled, Spellings};
use crate::rules::{Action, RuleSet, Rules, Site, Stage};

/// The rules and the list of files, compiled: what answers requests. Shared freely between threads.
#[derive(Debug)]
pub struct Edge {
    rules: Arc<RuleSet>,
    files: FileList,
    spellings: Spellings,
    hosts: hosts::Hosts,
    indexes: [index::Index; 5],
    /// The redirects whose target is redirected no further, whoever asks: a bit each.
    last: Vec<u64>,
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
            last: Vec::new(),
            vary: header::VaryNames::new(&rules.vary_names),
            rules,
            files,
        };
        edge.last = edge.last_redirects();
        edge
    }

    /// Follows every literal target once, so that answers need not.
    fn last_redirects(&self) -> Vec<u64> {
        let (rules, site) = (&self.rules.redirects, &self.rules.site);
        // An alias with a base path of its own may take addresses of the site's own host.
        if site.aliases.iter().any(|alias| alias.base != site.base) {
            return vec![0; rules.len().div_ceil(64)];
        }
        let mut bits = vec![0; rules.len().div_ceil(64)];
        for (number, rule) in rules.iter().enumerate() {
            let Action::Redirect(redirect) = &rule.action else { continue };
            let is_last = redirect.target.literal_path().is_some_and(|path| {
                let odd = path.contains('%') || path.contains("//");
                !odd && !matches!(self.spellings.asked(path, None, false), Some(Spelled::Moved(_)))
                    && self.indexes[Stage::Redirect as usize].is_quiet(rules, path, site.ignore_case)
            });
            if is_last {
                bits[number / 64] |= 1 << (number % 64);
            }
        }
        bits
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

    fn file_name(&self, file: u32) -> &str {
        &self.files.names()[file as usize]
    }
}
