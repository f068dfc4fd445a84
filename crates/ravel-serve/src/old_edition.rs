//! The edition of a site that is published until now, with which each answer is compared.

use std::net::IpAddr;

use ravel::{Edge, FileList, Request, Rules};
use ravel_check::{Difference, DifferenceKind};
use serde::Serialize;

use crate::Site;
use crate::visitor::with_own_names;

/// The edition of a site that is published until now.
#[derive(Debug)]
pub struct OldEdition {
    name: String,
    rules: Rules,
    files: Option<FileList>,
}

/// How a request was answered differently by the old edition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestDifference {
    kind: DifferenceKind,
    before: String,
    after: String,
    lines: Vec<String>,
}

impl OldEdition {
    /// An edition by the name that people know it by, as `main`; without a list of built files,
    /// those that are served are meant.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n")?;
    /// let files = ravel::FileList::from_iter(["index.html"]);
    /// let old = ravel_serve::OldEdition::new("main", rules, Some(files));
    /// assert_eq!(old.name(), "main");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(name: impl Into<String>, rules: Rules, files: Option<FileList>) -> OldEdition {
        OldEdition { name: name.into(), rules, files }
    }

    /// The name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// As it would answer beside a site, on the same names of this machine.
    pub(crate) fn beside(&self, site: &Site, listen: Option<IpAddr>) -> Edge {
        let files = self.files.as_ref().unwrap_or(site.edge().files());
        Edge::new(&with_own_names(&self.rules, listen), files.clone())
    }
}

impl RequestDifference {
    pub(crate) fn of(old: &Edge, site: &Site, request: &Request) -> Option<RequestDifference> {
        let difference = Difference::of(old, site.edge(), request)?;
        let [before, after] = difference.descriptions();
        let lines = difference.old_lines().map(|line| old.rules().line_name(line)).collect();
        Some(RequestDifference { kind: difference.kind(), before, after, lines })
    }

    /// In which way.
    pub fn kind(&self) -> DifferenceKind {
        self.kind
    }

    /// What the old edition answers, in words.
    pub fn before(&self) -> &str {
        &self.before
    }

    /// What is answered now, in words.
    pub fn after(&self) -> &str {
        &self.after
    }

    /// The lines of the old edition that decide.
    pub fn lines(&self) -> &[String] {
        &self.lines
    }
}

#[derive(Serialize)]
struct RequestDifferenceData<'d> {
    kind: &'static str,
    before: &'d str,
    after: &'d str,
    lines: &'d [String],
}

impl Serialize for RequestDifference {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        RequestDifferenceData {
            kind: self.kind.as_str(),
            before: &self.before,
            after: &self.after,
            lines: &self.lines,
        }
        .serialize(serializer)
    }
}
