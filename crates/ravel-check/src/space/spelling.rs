//! The paths that name one file, in all their spellings.

use std::cell::{OnceCell, RefCell};
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::cut::CutResult;
use super::leaf::{Leaf, Names};
use super::pair::{Cell, Pair};
use super::symbol::{SLASH, Symbol, spell, symbols};
use super::track::{Track, TrackedPath};
use ravel::address::Address;
use ravel::edge::Edge;

/// The paths that name each file of a side, made when they are asked for.
#[derive(Debug, Default)]
pub(super) struct Spellings<'r> {
    /// The addresses of each file.
    addresses: OnceCell<FxHashMap<u32, Vec<&'r str>>>,
    leaves: RefCell<FxHashMap<u32, Arc<Leaf<'r>>>>,
}

impl<'r> Spellings<'r> {
    /// The paths below the base path that name a file, empty segments and all.
    fn of(&self, edge: &'r Edge, file: u32) -> Arc<Leaf<'r>> {
        if let Some(known) = self.leaves.borrow().get(&file) {
            return Arc::clone(known);
        }
        let all = self.addresses.get_or_init(|| {
            let mut all: FxHashMap<u32, Vec<&str>> = FxHashMap::default();
            for (address, file, _) in edge.variant_table() {
                all.entry(file).or_default().push(address);
            }
            all
        });
        let addresses = all.get(&file).into_iter().flatten().copied();
        let leaf = Arc::new(Leaf::Named(Arc::new(Names::new(addresses, edge.site()))));
        self.leaves.borrow_mut().insert(file, Arc::clone(&leaf));
        leaf
    }
}

impl<'r> Track<'r> {
    /// Cuts a cell by whether it has come to the file that an address names; where all of it has,
    /// a redirect to the file's own address leads to one path.
    pub(crate) fn cut_by_file(
        &mut self,
        pair: &Pair<'r>,
        cell: &Cell<'r>,
        at: &Address,
    ) -> CutResult<'r> {
        if matches!(self.path, TrackedPath::Among(_)) {
            return CutResult::Unknown;
        }
        let space = &pair.sides[self.side];
        let path = at.path().strip_prefix(&*space.region(self.place).prefix).unwrap_or_default();
        let (edge, word) = (space.edge(), symbols(path).collect::<Vec<_>>());
        let single = spell(&without_empty_segments(&word));
        let Some(file) = edge.file_number(path).or_else(|| edge.file_number(&single)) else {
            return CutResult::Unknown;
        };
        let leaf = pair.spellings[self.side].of(edge, file);
        let mut pieces = space.all().pieces;
        pieces.retain(|piece| piece.origins.has(self.place));
        pieces.truncate(1);
        pieces.iter_mut().for_each(|piece| piece.path.push((Arc::clone(&leaf), true)));
        let result = self.cut_by(pair, cell, pieces);
        self.is_of_one_file = matches!(result, CutResult::Whole);
        result
    }
}

fn without_empty_segments(word: &[Symbol]) -> Vec<Symbol> {
    let mut single = word.to_vec();
    single.dedup_by(|a, b| *a == SLASH && *b == SLASH);
    single
}
