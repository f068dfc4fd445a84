//! Which rules of a stage could match an address, without asking each.
//!
//! ```text
//!   /summer                 literal     the whole path is a key; literal query values are part of it
//!   /ports/{port}/          segments    a walk over the path, one look-up a segment
//!   /news{/story*}/print    tail        a look-up by what is before and after the wide expression
//! ```
//!
//! Every rule stands in exactly one place of one [`PathIndex`]: that of paths below the base path,
//! or that of its host. What is found are candidates: their patterns are still held against the
//! address, in the order of the file, which therefore stays exact.

mod buckets;
mod literal;
mod segments;
mod shape;
#[cfg(test)]
mod tests;

use std::num::NonZeroU64;
use std::ops::ControlFlow;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::hosts::RequestParts;
use crate::program::Site;
use crate::program::{Role, Rule};
use literal::Literals;
use segments::Segments;
pub use shape::{Segment, Shape, Tail};

/// Numbers of rules that could match.
type Candidates = SmallVec<[u32; 12]>;

/// The rules of a stage, sorted by the shape of their patterns.
#[derive(Debug)]
pub(crate) struct Index {
    /// Patterns that are paths below the base path.
    relative: PathIndex,
    /// Whole-URL patterns, by their host.
    hosts: FxHashMap<Box<str>, PathIndex>,
    /// Those that capture the first label, by the rest of their host.
    labels: FxHashMap<Box<str>, PathIndex>,
    canonical: Box<str>,
}

/// What one look at an index says.
pub(super) enum IndexResult {
    /// No rule could match.
    Nothing,
    /// This rule may have the path as it stands; others could match, too.
    Literal(u32),
    /// There is more to look at.
    More,
}

#[derive(Debug, Default)]
struct PathIndex {
    literals: Literals,
    segments: Segments,
}

impl Index {
    pub(crate) fn new(rules: &[Rule], site: &Site) -> Index {
        let mut index = Index {
            relative: PathIndex::default(),
            hosts: FxHashMap::default(),
            labels: FxHashMap::default(),
            canonical: site.host.as_str().into(),
        };
        let literals = rules
            .iter()
            .filter(|rule| rule.pattern.origin().is_none() && rule.pattern.path.is_literal());
        index.relative.literals.reserve(literals.count());
        for (number, rule) in (0_u32..).zip(rules) {
            let into = match rule.pattern.origin() {
                None => &mut index.relative,
                Some(origin) => {
                    let map = if origin.host.capture.is_some() {
                        &mut index.labels
                    } else {
                        &mut index.hosts
                    };
                    map.entry(origin.host.host.as_str().into()).or_default()
                }
            };
            match rule.pattern.path.is_literal() {
                true => into.literals.insert(rules, number, site.ignore_case),
                false => into.segments.insert(rules, number, site.ignore_case),
            }
        }
        let paths = index.hosts.values_mut().chain(index.labels.values_mut());
        std::iter::once(&mut index.relative)
            .chain(paths)
            .for_each(|path| path.segments.finish(site.ignore_case));
        index
    }

    /// Whether no rule could match this path below the base path, whatever the query and the host.
    /// That one could may be said where none does.
    pub(super) fn is_quiet(&self, path: &str, fold: bool) -> bool {
        let mut found = Candidates::new();
        if self.hosts.is_empty()
            && self.labels.is_empty()
            && !self.relative.literals.has_path(path, fold)
        {
            self.relative.segments.find(path, fold, &mut found);
            return found.is_empty();
        }
        false
    }

    /// The first rule that could match this path below the base path, asked without a query, where
    /// rules know no hosts.
    pub(super) fn first_of(&self, path: &str) -> Option<u32> {
        let mut found = Candidates::new();
        self.relative.find(path, None, None, false, &mut found);
        found.iter().min().copied()
    }

    /// What one look says of an address, in the case of letters that rules have.
    #[inline]
    pub(super) fn glance(&self, visit: &RequestParts<'_>) -> IndexResult {
        let Some(path) =
            visit.relative().filter(|_| self.hosts.is_empty() && self.labels.is_empty())
        else {
            return IndexResult::More;
        };
        match self.relative.literals.one(path, visit.hash) {
            Some(number) => IndexResult::Literal(number),
            None if self.relative.segments.could_lead(path) => IndexResult::More,
            None if visit.query.is_some() && self.relative.literals.have_values() => {
                IndexResult::More
            }
            None => IndexResult::Nothing,
        }
    }

    /// Gives the numbers of rules that could match, in the order of the file, until told to stop.
    pub(super) fn candidates(
        &self,
        visit: &RequestParts<'_>,
        fold: bool,
        mut each: impl FnMut(u32) -> ControlFlow<()>,
    ) {
        let mut found = Candidates::new();
        if let Some(path) = visit.relative() {
            self.relative.find(path, visit.hash, visit.query, fold, &mut found);
        }
        if !self.hosts.is_empty() {
            let preview = (visit.role == Role::Preview).then_some(&*self.canonical);
            for host in std::iter::once(visit.host).chain(preview) {
                if let Some(index) = self.hosts.get(host) {
                    index.find(visit.path, None, visit.query, fold, &mut found);
                }
            }
        }
        if !self.labels.is_empty()
            && let Some(index) =
                visit.host.split_once('.').and_then(|(_, rest)| self.labels.get(rest))
        {
            index.find(visit.path, None, visit.query, fold, &mut found);
        }
        if found.len() > 1 {
            found.sort_unstable();
            found.dedup();
        }
        let _ = found.iter().try_for_each(|number| each(*number));
    }
}

impl PathIndex {
    fn find(
        &self,
        path: &str,
        hash: Option<NonZeroU64>,
        query: Option<&str>,
        fold: bool,
        found: &mut Candidates,
    ) {
        self.literals.find((path, hash), query, fold, found);
        self.segments.find(path, fold, found);
    }
}
