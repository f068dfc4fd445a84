//! Cuts a cell by what is asked at a place on its track.

use std::hash::{Hash, Hasher};
use std::sync::Arc;

use rustc_hash::FxHasher;

use super::fact::Fact;
use super::leaf::Leaf;
use super::pair::{Cell, Pair};
use super::set::Piece;
use super::symbol::symbols;
use super::track::{Cut, Track, TrackedPath};
use ravel::address::Address;
use ravel::program::Rule;

/// What a cut does to a cell.
#[derive(Debug)]
pub(crate) enum CutResult<'r> {
    /// It is all inside, or all outside.
    Whole,
    Parts(Vec<Cell<'r>>),
    /// It cannot be said of the requests.
    Unknown,
}

impl<'r> Track<'r> {
    /// Whether some of a cell is inside a cut.
    pub(crate) fn is_in(&self, pair: &Pair<'r>, cell: &Cell<'r>, cut: Cut<'r>) -> bool {
        let is_all = |piece: Piece<'r>| {
            let piece = self.pull_piece(pair, cell, piece).ok().flatten()?;
            let piece = cell.piece.and(&piece)?;
            Some(!pair.is_empty(&Cell { piece, ..cell.clone() }))
        };
        let pieces = self.pieces_of(pair, cut).unwrap_or_default();
        pieces.into_iter().any(|piece| is_all(piece) == Some(true))
    }

    /// Whether a redirect of this place can lead to the URL itself.
    pub(crate) fn could_be_itself(&self, pair: &Pair<'r>, rule: &'r Rule) -> bool {
        pair.sides[self.side].itself_at(rule, self.place).is_some()
    }

    /// Whether it is not worked out at which requests of a cell a redirect leads to the URL itself.
    pub(crate) fn is_doubtful(&self, pair: &Pair<'r>, cell: &Cell<'r>, rule: &'r Rule) -> bool {
        let is_one = self.is_at_one_path(pair, cell);
        let exact =
            pair.sides[self.side].itself_at(rule, self.place).is_none_or(|led| led.is_exact);
        // A parameter can be given several times, and what a target writes can be asked for.
        let has_query = !rule.pattern().query().is_empty()
            || rule.redirect().is_some_and(|redirect| redirect.target().has_query());
        (!is_one || has_query)
            && !exact
            && self.is_in(pair, cell, Cut::Itself(rule))
            && self.is_in(pair, cell, Cut::Visitors(rule))
    }

    /// Cuts a cell by whether it has come to an address.
    pub(crate) fn cut_at(&self, pair: &Pair<'r>, cell: &Cell<'r>, at: &Address) -> CutResult<'r> {
        let space = &pair.sides[self.side];
        if space.place_of(at) != Some(self.place) {
            return CutResult::Whole;
        }
        let prefix = &*space.region(self.place).prefix;
        let word = symbols(at.path().strip_prefix(prefix).unwrap_or_default()).collect();
        let leaf = (Arc::new(Leaf::Word(word)), true);
        self.cut_by(pair, cell, self.pieces_within(pair, Some(leaf)))
    }

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
        let Some(leaf) = pair.spellings[self.side].of_path(space.edge(), path) else {
            return CutResult::Unknown;
        };
        let result = self.cut_by(pair, cell, self.pieces_within(pair, Some((leaf, true))));
        self.is_of_one_file = matches!(result, CutResult::Whole);
        result
    }

    /// Cuts a cell by something at the place where it has come to.
    pub(crate) fn cut(&self, pair: &Pair<'r>, cell: &mut Cell<'r>, cut: Cut<'r>) -> CutResult<'r> {
        let key = self.key(cut);
        if cell.settled.contains(&key) {
            return CutResult::Whole;
        }
        let Some(pieces) = self.pieces_of(pair, cut) else { return CutResult::Unknown };
        let result = self.cut_by(pair, cell, pieces);
        if matches!(result, CutResult::Whole) {
            cell.settled.insert(key);
        }
        result
    }

    /// What tells a cut at this place from others.
    fn key(&self, cut: Cut<'r>) -> u64 {
        let mut hasher = FxHasher::default();
        (self.side, self.place, std::mem::discriminant(&cut)).hash(&mut hasher);
        for rule in &self.rules {
            std::ptr::from_ref(*rule).hash(&mut hasher);
        }
        std::mem::discriminant(&self.path).hash(&mut hasher);
        match &self.path {
            TrackedPath::One(word) => word.hash(&mut hasher),
            TrackedPath::Written(hops) => {
                hops.iter().for_each(|hop| std::mem::discriminant(hop).hash(&mut hasher))
            }
            TrackedPath::Asked | TrackedPath::Among(_) => {}
        }
        match cut {
            Cut::Rule(rule)
            | Cut::Visitors(rule)
            | Cut::Itself(rule)
            | Cut::Shows(rule)
            | Cut::Target(rule) => std::ptr::from_ref(rule).hash(&mut hasher),
            Cut::ShowsFile(rule, file) => (std::ptr::from_ref(rule), file).hash(&mut hasher),
            Cut::Named | Cut::Shown | Cut::Changed | Cut::KnownType | Cut::Reading => {}
        }
        hasher.finish()
    }

    pub(super) fn cut_by(
        &self,
        pair: &Pair<'r>,
        cell: &Cell<'r>,
        pieces: Vec<Piece<'r>>,
    ) -> CutResult<'r> {
        let mut unknown = false;
        for piece in pieces {
            match self.pull_piece(pair, cell, piece) {
                Ok(Some(piece)) => {
                    if let Some(parts) = pair.divide(cell, &piece) {
                        return CutResult::Parts(parts);
                    }
                }
                Ok(None) => {}
                Err(()) => unknown = true,
            }
        }
        if unknown { CutResult::Unknown } else { CutResult::Whole }
    }
}

impl<'r> Pair<'r> {
    /// Cuts a cell by whether its whole paths are below a path.
    pub(crate) fn cut_below(&self, cell: &Cell<'r>, path: &str) -> Option<Vec<Cell<'r>>> {
        let mut by = cell.piece.clone();
        by.path = vec![(Arc::new(Leaf::Below(symbols(path).collect())), true)];
        by.facts.clear();
        self.divide(cell, &by)
    }

    /// Cuts a cell by whether the query has a parameter, or has it with a value.
    pub(crate) fn cut_parameter(
        &self,
        cell: &Cell<'r>,
        key: &'r str,
        value: Option<&'r str>,
    ) -> Option<Vec<Cell<'r>>> {
        let fact =
            Arc::new(value.map_or(Fact::Parameter(key), |value| Fact::ParameterIs(key, value)));
        let mut by = cell.piece.clone();
        by.path.clear();
        by.facts = vec![(Arc::clone(&fact), true)];
        if cell.piece.known(&fact).is_some() { None } else { self.divide(cell, &by) }
    }
}
