//! Rules and files as one thing that answers.
//!
//! ```text
//!   Request ──hosts──▶ RequestParts ──decide──▶ Decision ──headers──▶ Answer
//!                        │     │
//!                        │     └─ stages: redirect, canonical, method, rewrite, file, fallback, missing
//!                        └─ index: which rules of a stage could match, in the order of the file
//! ```
//!
//! One function decides, with and without an explanation: what is looked at goes to a `Trace`,
//! which is nothing at all where nobody asked why. Only then are the shortcuts taken that were
//! worked out when the rules were compiled; the feature `self-check` asserts that they agree with
//! the rules.

mod answer;
mod content;
mod context;
mod decide;
mod decision;
mod header;
mod hosts;
mod index;
mod notes;
mod one_hop;
mod precomputed;
mod route;
mod step;
mod test;
mod walk;
mod words;

pub use answer::{Answer, BODIES, ElsewhereError, Header, Outcome};
use context::Context;
pub use decide::MAX_URL_BYTES;
pub use index::{Segment, Shape, Tail};
pub use route::{Route, RouteEnd, RouteHop};
use step::NoTrace;
pub use step::{
    CanonicalChange, HeaderChange, HeaderStep, LoopCause, Mismatch, Refusal, RuleResult, Step,
};
pub use test::{cookie_is, header_is};
pub use walk::{MAX_HOPS, Walk, WalkEnd, method_after};
pub use words::{Explanation, StepWords};

use std::sync::OnceLock;

use crate::address::Request;
use crate::files::{FileList, UrlVariants};
use crate::program::{Program, RuleChange, RuleId, RuleRef, Site, Stage};
use crate::rules::Rules;
use crate::template::Captures;

/// The rules and the list of files, compiled: what answers requests. Shared freely between threads.
#[derive(Debug)]
pub struct Edge {
    rules: Rules,
    files: FileList,
    variants: UrlVariants,
    hosts: hosts::Hosts,
    indexes: [index::Index; 5],
    precomputed: precomputed::Precomputed,
    vary: header::VaryNames,
    /// Only for explanations, so it waits for the first one.
    by_text: [OnceLock<notes::ByText>; 5],
}

const _: () = {
    const fn is_shared<T: Send + Sync>() {}
    is_shared::<Edge>();
};

impl Edge {
    /// Compiles rules and a list of files.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let answer = edge.answer(&ravel::Request::get("https://h.example/a")?);
    /// assert_eq!(answer.location(), Some("https://h.example/b"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(rules: &Rules, files: FileList) -> Edge {
        let program = rules.program();
        let mut edge = Edge {
            variants: UrlVariants::new(&files, program.site()),
            hosts: hosts::Hosts::new(program.site()),
            indexes: Stage::ALL
                .map(|stage| index::Index::new(program.stage(stage), program.site())),
            precomputed: precomputed::Precomputed::default(),
            vary: header::VaryNames::new(program.request_headers()),
            by_text: Default::default(),
            rules: rules.clone(),
            files,
        };
        edge.precomputed = precomputed::Precomputed::of(&edge);
        edge
    }

    /// The same with one rule changed.
    ///
    /// # Panics
    /// When the identity is another program's, and this one has fewer rules.
    ///
    /// ```
    /// use ravel::program::{RuleChange, Stage};
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let rule = rules.program().rules(Stage::Redirect).next().unwrap().id();
    /// let without = edge.with_change(rule, &RuleChange::Removed);
    /// let request = ravel::Request::get("https://h.example/a")?;
    /// assert_eq!(without.answer(&request).status(), Some(404));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn with_change(&self, rule: RuleId, change: &RuleChange) -> Edge {
        Edge::new(&self.rules.with_change(rule, change), self.files.clone())
    }

    /// What a request gets.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let request = ravel::Request::get("https://h.example/b")?;
    /// assert_eq!(edge.answer(&request).file(), Some("b.html"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn answer<'e>(&'e self, request: &Request) -> Answer<'e> {
        self.decide(request, &mut NoTrace)
    }

    /// What a request gets, and why: the same answer, with the steps that led to it.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.explain(&request).answer().line().unwrap().number(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn explain(&self, request: &Request) -> Explanation<'_> {
        let mut recorder = step::Recorder::default();
        let answer = self.decide(request, &mut recorder);
        Explanation { answer, steps: recorder.steps, headers: recorder.headers, edge: self }
    }

    /// Follows a request through its redirects until it ends, as a browser would, explaining every
    /// answer.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let walk = edge.walk(&ravel::Request::get("http://h.example/a/1")?);
    /// assert_eq!((walk.hops(), walk.url()), (1, "https://h.example/b"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn walk(&self, request: &Request) -> Walk<'_> {
        walk::walk(self, request, |request| self.explain(request))
    }

    /// The same without the reasons, for those who ask for very many: the answers have no steps, and
    /// what did not decide is not looked at.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let walk = edge.walk_unexplained(&ravel::Request::get("http://h.example/a/1")?);
    /// assert_eq!((walk.hops(), walk.first().steps().len()), (1, 0));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn walk_unexplained(&self, request: &Request) -> Walk<'_> {
        walk::walk(self, request, |request| Explanation {
            answer: self.answer(request),
            steps: Vec::new(),
            headers: Vec::new(),
            edge: self,
        })
    }

    /// The files that are served.
    pub fn files(&self) -> &FileList {
        &self.files
    }

    /// The site that is answered for.
    pub fn site(&self) -> &Site {
        self.rules.site()
    }

    /// The rules as they are executed.
    pub fn program(&self) -> &Program {
        self.rules.program()
    }

    /// The names of the files that the rules were read from; a [`crate::language::Line`] refers to
    /// The rules as they are written.
    pub fn rules(&self) -> &Rules {
        &self.rules
    }

    /// Every address below the base path that names a file.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// assert!(edge.addresses().any(|address| address == "/b.html"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn addresses(&self) -> impl Iterator<Item = &str> {
        self.variants.addresses()
    }

    /// Every address below the base path with which a rule can name a file.
    pub fn variant_paths(&self) -> impl Iterator<Item = &str> {
        self.variants.all()
    }

    /// The file that is shown where nothing answers, if the site has one.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// assert_eq!(edge.missing_file(), None);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn missing_file(&self) -> Option<&str> {
        self.site().missing.as_ref().and_then(|(path, _)| self.file_of(path))
    }

    /// Every address below the base path with the number of its file, and what a visitor who asks
    /// for it gets: 0 the file, 1 a redirect to the file's own address, 2 nothing, since only rules
    /// may name the file so. In byte order.
    pub fn variant_table(&self) -> Vec<(&str, u32, u8)> {
        self.variants.table()
    }

    /// What a pattern captures of a request; none where it does not match.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let rule = edge.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert!(edge.captures_of(rule.pattern(), &request).is_some());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn captures_of<'q>(
        &self,
        pattern: &crate::template::Pattern,
        request: &'q Request,
    ) -> Option<Captures<'q>> {
        let visit =
            self.hosts.locate(request.method(), request.headers(), request.address().ok()?)?;
        let mut captures = Captures::new();
        self.pattern_matches(pattern, &visit, &mut captures).then_some(captures)
    }

    /// The built files whose names a pattern matches, a `/` before them, by their numbers.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["a/b.css", "c.html"]));
    /// let styles = Pattern::parse("/a/{+name}")?;
    /// assert_eq!(edge.files_named(&styles).collect::<Vec<_>>(), [0]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn files_named<'p>(
        &'p self,
        pattern: &'p crate::template::Pattern,
    ) -> impl Iterator<Item = u32> + 'p {
        let fold = self.site().ignore_case();
        (0..).zip(self.files().names()).filter_map(move |(file, name)| {
            let mut path = String::from("/");
            let keep = |byte| byte == b'/' || crate::address::is_path_byte(byte);
            crate::address::encode(name.as_bytes(), keep, &mut path);
            pattern.path().matches(&path, fold, &mut Default::default()).then_some(file)
        })
    }

    /// The file that a path of a rule names, by any URL variant.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// assert_eq!(edge.file_of("/b/"), Some("b.html"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn file_of(&self, path: &str) -> Option<&str> {
        self.variants.any(path).map(|file| self.file_name(file))
    }

    /// The number of the file that an address names, by any URL variant.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// assert_eq!(edge.file_number("/b/1.html"), edge.number_of("b/1.html"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn file_number(&self, path: &str) -> Option<u32> {
        self.variants.any(path)
    }

    /// The number of the file with this name.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// assert_eq!(edge.number_of("nowhere.html"), None);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn number_of(&self, name: &str) -> Option<u32> {
        self.files.names().binary_search_by(|known| (**known).cmp(name)).ok().map(|at| at as u32)
    }

    /// The address below the base path that a file is served under.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let file = edge.number_of("b/1.html").unwrap();
    /// assert_eq!(edge.own_address(file), "/b/1");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn own_address(&self, file: u32) -> &str {
        self.variants.own(file)
    }

    /// The URL that a file is served under.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let file = edge.number_of("b.html").unwrap();
    /// assert_eq!(edge.url_of(file), "https://h.example/b");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn url_of(&self, file: u32) -> String {
        let site = self.site();
        format!("{}://{}{}{}", site.scheme, site.host, site.open_base(), self.own_address(file))
    }

    /// The rules of a stage whose patterns match a request, whatever their tests.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// use ravel::program::Stage;
    ///
    /// let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.rules_for(Stage::Redirect, &request).len(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rules_for(&self, stage: Stage, request: &Request) -> Vec<RuleRef<'_>> {
        let mut found = Vec::new();
        let visit = request
            .address()
            .ok()
            .and_then(|address| self.hosts.locate(request.method(), request.headers(), address));
        if let Some(visit) = visit {
            self.indexes[stage as usize].candidates(&visit, self.site().ignore_case, |number| {
                let rule = self.program().numbered(stage, number);
                if self.pattern_matches(&rule.rule.pattern, &visit, &mut Captures::new()) {
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
