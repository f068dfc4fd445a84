//! What a rules file means: the site, its rules, its expectations.
//!
//! ```text
//!   text ──language──▶ statements ──read──▶ Rules { Site, Rule…, Expectation… }
//!                          ▲
//!                 tables and included files, through the loader that the caller gives
//! ```
//!
//! Reading reports every problem, not the first alone, so each statement is read on its own and a
//! wrong one is left out; [`Rules`] exist only where there was no problem at all.

mod accept;
mod code;
mod domain;
mod expectation;
mod read;

pub use accept::Accept;
pub use code::{Code, Severity, UnknownCode};
pub use domain::{Apex, Domain, Issue, NamedFile, VerificationRecord, VerificationValue};
pub use expectation::{
    Check, CheckTest, EveryExpectation, Expectation, ExpectedOutcome, StatedOutcome,
};

use std::fmt;
use std::sync::Arc;

use crate::address::Host;
use crate::language::{Line, Problems};
pub use crate::program::{Alias, Hsts, HttpPolicy, Pages, PreviewHost, Site};
use crate::program::{Program, Rule, RuleChange, RuleId, Stage};

/// A rules file, understood. Cheap to clone.
#[derive(Debug, Clone)]
pub struct Rules(Arc<RuleSet>);

#[derive(Debug, Clone)]
pub(crate) struct RuleSet {
    pub(crate) program: Program,
    pub(crate) expectations: Vec<Expectation>,
    pub(crate) every_expectations: Vec<EveryExpectation>,
    pub(crate) accepts: Vec<Accept>,
    pub(crate) groups: Arc<[StatementGroup]>,
    pub(crate) domains: Vec<Domain>,
    pub(crate) sources: Arc<[Box<str>]>,
}

/// The lines of a statement that has several rules.
#[derive(Debug, Clone)]
pub(crate) struct StatementGroup {
    pub(crate) head: Line,
    pub(crate) source: u16,
    pub(crate) lines: std::ops::RangeInclusive<u32>,
}

impl Rules {
    /// The first line of the statement that a rule's line is in: of a group, for its rows.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect\n  /a -> /b\n  /c -> /b\n")?;
    /// let row = rules.rules(ravel::program::Stage::Redirect)[1].line();
    /// assert_eq!(rules.statement_of(row).number(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn statement_of(&self, line: Line) -> Line {
        let mut groups = self.0.groups.iter();
        let is_in = |group: &&StatementGroup| {
            group.source == line.source && group.lines.contains(&line.number)
        };
        groups.find(is_in).map_or(line, |group| group.head)
    }

    /// The same with one rule changed.
    pub(crate) fn with_change(&self, rule: RuleId, change: &RuleChange) -> Rules {
        let RuleSet {
            program,
            expectations,
            every_expectations,
            accepts,
            groups,
            domains,
            sources,
        } = &*self.0;
        Rules(Arc::new(RuleSet {
            program: program.with_change(rule, change),
            expectations: expectations.clone(),
            every_expectations: every_expectations.clone(),
            accepts: accepts.clone(),
            groups: Arc::clone(groups),
            domains: domains.clone(),
            sources: sources.clone(),
        }))
    }

    /// Reads a rules file that names no other files.
    ///
    /// # Errors
    /// Every problem of the file, with its place.
    ///
    /// ```
    /// let problems = ravel::Rules::parse("site https://h.example/\nredirct /a -> /b\n").unwrap_err();
    /// assert!(problems.to_string().contains("redirect"));
    /// ```
    pub fn parse(text: &str) -> Result<Rules, Problems> {
        Rules::read("edge.ravel", text, |_| Err::<Vec<u8>, _>("there is no folder to read it from"))
    }

    /// Reads a rules file; `load` gives the bytes of the tables and included files it names, by
    /// their path, with `/` between folders. It is named as the rules file is: beside `edge.ravel`,
    /// as seen from its folder; beside `site/edge.ravel`, as `site/more.ravel`. It may begin with
    /// `../`: how far that may lead is for `load` to say.
    ///
    /// # Errors
    /// Every problem of the file and of those it names, with its place.
    ///
    /// ```
    /// let table = |_: &str| Ok::<_, std::io::Error>(b"old,new\n/a,/b\n/c,/d\n".to_vec());
    /// let rules = ravel::Rules::parse_with("site https://h.example/\nredirect\n  table moved.csv\n", table)?;
    /// assert_eq!(rules.rules(ravel::program::Stage::Redirect).len(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn parse_with<E: fmt::Display>(
        text: &str,
        load: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Rules, Problems> {
        Rules::read("edge.ravel", text, load)
    }

    /// As [`Rules::parse_with`], for a file with this name, of which all other names are made.
    ///
    /// ```
    /// let load = |name: &str| match name {
    ///     "more.ravel" => Ok(b"gone /old\n".to_vec()),
    ///     _ => Err("no such file"),
    /// };
    /// let rules = ravel::Rules::read("edge.ravel", "site https://h.example/\ninclude more.ravel\n", load)?;
    /// assert_eq!(rules.sources(), ["edge.ravel".into(), "more.ravel".into()] as [Box<str>; 2]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// Every problem of the file and of those it names, with its place.
    pub fn read<E: fmt::Display>(
        name: &str,
        text: &str,
        mut load: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Rules, Problems> {
        let mut load = |path: &str| load(path).map_err(|error| error.to_string());
        read::read(name, text, &mut load).map(|set| Rules(Arc::new(set)))
    }

    /// The path of a file that is named from the rules file's folder, as the rules file is named.
    ///
    /// ```
    /// let load = |_: &str| Err::<Vec<u8>, _>("no such file");
    /// let rules = ravel::Rules::read("site/edge.ravel", "site https://h.example/\n", load)?;
    /// assert_eq!(rules.path("dist/index.html"), "site/dist/index.html");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn path(&self, name: &str) -> String {
        read::below(self.folder(), name).unwrap_or_else(|| name.to_owned())
    }

    /// The folder of the rules file as that is named, with the `/` behind it; empty for none.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n")?;
    /// assert_eq!(rules.folder(), "");
    /// # Ok::<(), ravel::Problems>(())
    /// ```
    pub fn folder(&self) -> &str {
        self.sources().first().map_or("", |main| read::folder_of(main))
    }

    /// The site.
    pub fn site(&self) -> &Site {
        self.0.program.site()
    }

    /// The rules of a stage, in the order of the file.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// assert_eq!(rules.rules(ravel::program::Stage::Redirect).len(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rules(&self, stage: Stage) -> &[Rule] {
        self.0.program.stage(stage)
    }

    /// The rules as they are executed.
    pub fn program(&self) -> &Program {
        &self.0.program
    }

    /// The expectations, in the order of the file.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nexpect /a is missing\n")?;
    /// assert_eq!(rules.expectations()[0].url().to_string(), "https://h.example/a");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn expectations(&self) -> &[Expectation] {
        &self.0.expectations
    }

    /// What is expected of every address of a pattern, in the order of the file.
    pub fn every_expectations(&self) -> &[EveryExpectation] {
        &self.0.every_expectations
    }

    /// What the domains of the site must say, in the order of the file.
    pub fn domains(&self) -> &[Domain] {
        &self.0.domains
    }

    /// The findings that are accepted, in the order of the file.
    pub fn accepts(&self) -> &[Accept] {
        &self.0.accepts
    }

    /// The same rules with more preview hosts; those that the site has already stay what they are.
    ///
    /// ```
    /// use ravel::address::Host;
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\n")?;
    /// let rules = rules.with_previews([Host::parse("pr-7.preview.example")?]);
    /// assert!(rules.site().has_host("pr-7.preview.example"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn with_previews(&self, hosts: impl IntoIterator<Item = Host>) -> Rules {
        let mut set = RuleSet::clone(&self.0);
        for host in hosts {
            let site = &mut set.program.site;
            if !site.has_host(host.as_str()) {
                let line = site.line;
                site.previews.push(PreviewHost { wildcard: false, host, line });
            }
        }
        Rules(Arc::new(set))
    }

    /// The names of the files that the rules were read from: the rules file, then those it names,
    /// as they were met.
    pub fn sources(&self) -> &[Box<str>] {
        &self.0.sources
    }

    /// The name of the file that a line stands in; empty for a line of other rules.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let line = rules.rules(ravel::program::Stage::Redirect)[0].line();
    /// assert_eq!(rules.source(line), "edge.ravel");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn source(&self, line: Line) -> &str {
        self.0.sources.get(usize::from(line.source)).map_or("", |source| source)
    }

    /// A line as people name it: `edge.ravel:12`.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
    /// let rule = &rules.rules(ravel::program::Stage::Redirect)[0];
    /// assert_eq!(rules.line_name(rule.line()), "edge.ravel:2");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn line_name(&self, line: Line) -> String {
        format!("{}:{}", self.source(line), line.number)
    }
}
