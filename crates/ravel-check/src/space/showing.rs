//! For which requests the target of a rule that shows a file names one.

use std::sync::Arc;

use super::Space;
use super::fact::Fact;
use super::filled::{FilledLeaf, WrittenQuery};
use super::image::{ImageLeaf, written};
use super::leaf::Leaf;
use super::names::Names;
use super::pattern::PatternLeaf;
use super::redirect::read_before;
use super::search::SearchResult;
use ravel::program::Rule;

/// For which requests a target names a file, where that hangs on what is captured.
pub(super) enum Shown<'r> {
    Never,
    ForPaths(Arc<Leaf<'r>>),
    Under(Fact<'r>),
    /// It hangs on captures of the path and of the query together.
    Unknown,
}

impl<'r> Space<'r> {
    /// For which requests the target of a rule names a file.
    pub(super) fn showing(&self, rule: &'r Rule, place: usize) -> Shown<'r> {
        let names = self.namable.get_or_init(|| self.names(self.edge.variant_paths()));
        self.showing_of(rule, Arc::clone(names), place)
    }

    /// The same for one file, by its number.
    pub(super) fn showing_file(&self, rule: &'r Rule, file: u32, place: usize) -> Shown<'r> {
        let table = self.edge.variant_table();
        let own = table.iter().filter(|(_, of, _)| *of == file).map(|(path, ..)| *path);
        self.showing_of(rule, self.names(own), place)
    }

    /// Addresses as rules write them: only what a visitor asks is read without its empty segments.
    fn names<'a>(&self, addresses: impl Iterator<Item = &'a str>) -> Arc<Leaf<'r>> {
        let names = Names { tidy: false, ..Names::new(addresses, self.edge.site()) };
        Arc::new(Leaf::Named(Arc::new(names)))
    }

    fn showing_of(&self, rule: &'r Rule, names: Arc<Leaf<'r>>, place: usize) -> Shown<'r> {
        let pattern = rule.pattern();
        let Some(target) = rule.shows().filter(|target| !target.path().is_literal()) else {
            return Shown::Never;
        };
        if let Some(pieces) = written(pattern.path(), target) {
            let fold = self.edge.site().ignore_case();
            let read = read_before(pattern.origin(), &self.region(place).prefix);
            let image = ImageLeaf::new(pattern.path(), fold, &read, pieces, names);
            return Shown::ForPaths(Arc::new(Leaf::Image(Box::new(image))));
        }
        if let Some(written) = WrittenQuery::of(pattern, target) {
            let leaf = Leaf::Filled(Box::new(FilledLeaf::new(&written, names)));
            return Shown::Under(Fact::FirstValue(written.key, Arc::new(leaf)));
        }
        let template = target.path_as_pattern(pattern);
        let all = Leaf::Pattern(PatternLeaf::new(&template, Vec::new(), false, &[]));
        match self.work.shortest(&[(Arc::new(all), true), (names, true)]) {
            SearchResult::Nothing => Shown::Never,
            SearchResult::Member(_) | SearchResult::Undecided => Shown::Unknown,
        }
    }
}
