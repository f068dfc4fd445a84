//! What is plain of sets without a search: of single paths, of which there may be very many, and of
//! pieces whose leaves are the same.

use std::sync::Arc;

use smallvec::SmallVec;

use super::leaf::Leaf;
use super::names::Names;
use super::search::SignedLeaf;
use super::set::Piece;
use super::symbol::{Symbol, symbols};
use super::{RequestSet, Space};

impl<'r> RequestSet<'r> {
    /// The requests of it for one path, below a base path.
    pub(crate) fn at_path(&self, space: &Space<'r>, path: &str) -> RequestSet<'r> {
        let word: Vec<Symbol> = symbols(path).collect();
        // Pieces have most of their leaves in common.
        let mut known: SmallVec<[(usize, bool); 16]> = SmallVec::new();
        let mut is_in = |leaf: &Arc<Leaf<'r>>| {
            let place = Arc::as_ptr(leaf) as usize;
            if let Some((_, is_in)) = known.iter().find(|(known, _)| *known == place) {
                return *is_in;
            }
            let is_in = self.work.contains(leaf, &word);
            known.push((place, is_in));
            is_in
        };
        let has = |piece: &&Piece<'r>| {
            space.axes.regions[piece.region].inside
                && piece.path.iter().all(|(leaf, wanted)| is_in(leaf) == *wanted)
        };
        let leaf = Arc::new(Leaf::Word(word.clone()));
        let pieces = self.pieces.iter().filter(has).map(|piece| Piece {
            region: piece.region,
            origins: piece.origins.clone(),
            methods: piece.methods.clone(),
            languages: piece.languages.clone(),
            path: vec![(Arc::clone(&leaf), true)],
            facts: piece.facts.clone(),
        });
        RequestSet { pieces: pieces.collect(), loose: self.loose, work: self.work.clone() }
    }

    /// Whether its paths are some of a list, so that it is worth to go through them.
    pub(crate) fn is_listed(&self) -> bool {
        let is_list = |(leaf, wanted): &SignedLeaf<'r>| *wanted && leaf.is_list();
        self.pieces.iter().all(|piece| piece.path.iter().any(is_list))
    }

    /// Takes out the requests for these paths, below a base path.
    pub(crate) fn take_out_paths(&mut self, space: &Space<'r>, paths: &[&str]) {
        if paths.is_empty() {
            return;
        }
        let words = paths.iter().map(|path| symbols(path).collect()).collect();
        let leaf = Arc::new(Leaf::Named(Arc::new(Names::of_words(words))));
        let is_inside = |piece: &&mut Piece<'r>| space.axes.regions[piece.region].inside;
        for piece in self.pieces.iter_mut().filter(is_inside) {
            piece.path.push((Arc::clone(&leaf), false));
        }
    }
}

impl<'r> Piece<'r> {
    /// Whether it is plain that all of it is in another piece.
    pub(super) fn is_inside(&self, other: &Piece<'r>) -> bool {
        self.region == other.region
            && self.origins.is_within(&other.origins)
            && self.methods.is_within(&other.methods)
            && self.languages.is_within(&other.languages)
            && other.path.iter().all(|(leaf, wanted)| self.has_leaf(leaf, *wanted))
            && other.facts.iter().all(|(fact, holds)| self.known(fact) == Some(*holds))
    }
}
