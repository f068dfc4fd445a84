//! What is asked of a later place on a track, said of the requests themselves.

use std::sync::Arc;

use http::Method;

use super::fact::Fact;
use super::filled::FilledLeaf;
use super::image::ImageLeaf;
use super::leaf::Leaf;
use super::pair::{Cell, Pair};
use super::redirect::read_before;
use super::search::{SignedLeaf, contains};
use super::set::Piece;
use super::showing::Shown;
use super::symbol::SLASH;
use super::track::{Cut, QueryHop, Track, TrackedPath, WritingHop, WrittenHop};

/// What a leaf of a later path says of the path that was asked.
enum Pulled<'r> {
    Leaf(Arc<Leaf<'r>>),
    /// Something of the query that was asked.
    Fact(Fact<'r>),
    Always(bool),
    Unknown,
}

impl<'r> Track<'r> {
    /// What a cut lets through, as pieces of the side's own space; none where that is not known.
    pub(super) fn pieces_of(&self, pair: &Pair<'r>, cut: Cut<'r>) -> Option<Vec<Piece<'r>>> {
        let space = &pair.sides[self.side];
        let is_inside = space.region(self.place).inside;
        let within = |leaf: SignedLeaf<'r>| self.pieces_within(pair, Some(leaf));
        let with = |leaf: Arc<Leaf<'r>>| if is_inside { within((leaf, true)) } else { Vec::new() };
        let shown = |shown: Shown<'r>| match shown {
            _ if !is_inside => Some(Vec::new()),
            Shown::Never => Some(Vec::new()),
            Shown::ForPaths(leaf) => Some(with(leaf)),
            Shown::Under(fact) => {
                let mut pieces = self.pieces_within(pair, None);
                let fact = Arc::new(fact);
                pieces.iter_mut().for_each(|piece| piece.facts.push((Arc::clone(&fact), true)));
                Some(pieces)
            }
            Shown::Unknown => None,
        };
        Some(match cut {
            Cut::Rule(rule) | Cut::Visitors(rule) => {
                let set = match cut {
                    Cut::Visitors(_) => space.looking_at_visitors(rule),
                    _ => space.matching(rule),
                };
                let mut pieces = set.pieces;
                pieces.retain(|piece| piece.origins.has(self.place));
                pieces
            }
            Cut::Itself(rule) => {
                let Some(led) = space.itself_at(rule, self.place) else { return Some(Vec::new()) };
                let mut pieces = within(led.paths);
                pieces.iter_mut().for_each(|piece| piece.facts.extend(led.query.clone()));
                pieces
            }
            Cut::Shows(rule) => return shown(space.showing(rule, self.place)),
            Cut::ShowsFile(rule, file) => return shown(space.showing_file(rule, file, self.place)),
            Cut::Target(rule) => {
                within((pair.target(rule, &space.region(self.place).prefix), true))
            }
            Cut::Named => with(Arc::clone(&space.named)),
            Cut::Shown => with(pair.shown(self.side)),
            Cut::Changed => with(pair.changed(self.side)),
            Cut::KnownType => with(Arc::clone(&space.known_type)),
            Cut::Reading => {
                let mut pieces = self.pieces_within(pair, None);
                let reads = |at: usize| {
                    matches!(pair.methods().get(at), Some(&Method::GET | &Method::HEAD))
                };
                pieces.iter_mut().for_each(|piece| piece.methods.retain(reads));
                pieces
            }
        })
    }

    /// All of the place where it is, or what of it is in a leaf.
    pub(super) fn pieces_within(
        &self,
        pair: &Pair<'r>,
        leaf: Option<SignedLeaf<'r>>,
    ) -> Vec<Piece<'r>> {
        let mut pieces = pair.sides[self.side].all().pieces;
        pieces.retain(|piece| piece.origins.has(self.place));
        pieces.truncate(1);
        pieces.iter_mut().for_each(|piece| piece.path.extend(leaf.clone()));
        pieces
    }

    /// A piece of a later place, as a piece of the requests themselves; none where it has nothing of
    /// them.
    pub(super) fn pull_piece(
        &self,
        pair: &Pair<'r>,
        cell: &Cell<'r>,
        piece: Piece<'r>,
    ) -> Result<Option<Piece<'r>>, ()> {
        let first = pair.frame(cell).places[self.side].ok_or(())?;
        let prefix = &pair.sides[self.side].region(first).prefix;
        let mut pulled = Piece { region: 0, path: Vec::new(), facts: Vec::new(), ..piece.clone() };
        pulled.origins = cell.piece.origins.clone();
        let methods = piece.methods;
        pulled.methods = cell.piece.methods.clone();
        pulled.methods.retain(|at| self.methods.get(at).is_some_and(|now| methods.has(*now)));
        if pulled.methods.is_empty() {
            return Ok(None);
        }
        let mut unknown = false;
        for (fact, holds) in &piece.facts {
            match self.pull_fact(fact) {
                Some(Some(known)) if known != *holds => return Ok(None),
                Some(Some(_)) => {}
                Some(None) => pulled.facts.push((Arc::clone(fact), *holds)),
                None => unknown = true,
            }
        }
        for (leaf, wanted) in piece.path.iter().filter(|leaf| !is_of_region(leaf)) {
            match self.pull(pair, leaf) {
                Pulled::Leaf(leaf) => pulled.path.push((pair.lift(prefix, &leaf), *wanted)),
                Pulled::Fact(fact) => pulled.facts.push((Arc::new(fact), *wanted)),
                Pulled::Always(known) if known != *wanted => return Ok(None),
                Pulled::Always(_) => {}
                Pulled::Unknown => unknown = true,
            }
        }
        if unknown { Err(()) } else { Ok(Some(pulled)) }
    }

    fn pull(&self, pair: &Pair<'r>, leaf: &Arc<Leaf<'r>>) -> Pulled<'r> {
        match &self.path {
            TrackedPath::Asked => Pulled::Leaf(Arc::clone(leaf)),
            TrackedPath::One(word) => Pulled::Always(contains(leaf, word)),
            TrackedPath::Among(some) if pair.are_apart(some, leaf, true) => Pulled::Always(false),
            TrackedPath::Among(some) if pair.are_apart(some, leaf, false) => Pulled::Always(true),
            TrackedPath::Among(_) => Pulled::Unknown,
            TrackedPath::Written(hops) => {
                let mut leaf = Arc::clone(leaf);
                for hop in hops.iter().rev() {
                    leaf = match hop {
                        WritingHop::Rule(hop) => pair.through(self.side, &leaf, hop),
                        WritingHop::OwnAddress => {
                            let edge = pair.sides[self.side].edge;
                            pair.spellings[self.side].of_files_within(edge, &leaf)
                        }
                        WritingHop::Query(hop) => {
                            let values = pair.filled(&leaf, hop);
                            return Pulled::Fact(Fact::FirstValue(hop.written.key, values));
                        }
                    };
                }
                Pulled::Leaf(leaf)
            }
        }
    }

    /// What a fact of the query comes to behind the hops; none where that is not known, and else
    /// whether it holds, or nothing where it is still about the query that was asked.
    pub(super) fn pull_fact(&self, fact: &Fact<'_>) -> Option<Option<bool>> {
        let Some(key) = fact.parameter() else { return Some(None) };
        for rule in self.rules.iter().rev() {
            let Some(redirect) = rule.redirect() else { continue };
            if let Some(query) = redirect.target().query() {
                if query.is_literal() && fact.of_query(query.as_str()) == Some(true) {
                    return Some(Some(true));
                }
                let own = Fact::Parameter(key).of_query(query.as_str()) == Some(true);
                if !query.is_literal() && own {
                    return None;
                }
                if own {
                    return Some(Some(false));
                }
            }
            let is_used = rule.pattern().query().iter().any(|part| part.key() == key);
            if is_used || redirect.drop_query() {
                return Some(Some(false));
            }
        }
        Some(None)
    }
}

/// Whether a leaf says no more than that a path is one of its region. No base path is below `//`.
fn is_of_region((leaf, wanted): &SignedLeaf<'_>) -> bool {
    match &**leaf {
        Leaf::Path => *wanted,
        Leaf::Below(base) => !wanted && base[..] != [SLASH],
        _ => false,
    }
}

impl<'r> Pair<'r> {
    /// The paths that a redirect leads to those in a leaf.
    fn through(&self, side: usize, leaf: &Arc<Leaf<'r>>, hop: &WrittenHop<'r>) -> Arc<Leaf<'r>> {
        let place = std::ptr::from_ref(hop.rule) as usize;
        self.pulled.of((place, hop.prefixes.clone()), leaf, || {
            let (pattern, redirect) = (hop.rule.pattern(), hop.rule.redirect());
            let is_whole = redirect.is_some_and(|redirect| redirect.target().origin().is_some());
            let into = if is_whole { self.lift(&hop.prefixes[1], leaf) } else { Arc::clone(leaf) };
            let read = read_before(pattern.origin(), &hop.prefixes[0]);
            let fold = self.sides[side].edge.site().ignore_case();
            let image = ImageLeaf::new(pattern.path(), fold, &read, hop.pieces.clone(), into);
            Leaf::Image(Box::new(image))
        })
    }

    /// The values of which a redirect makes paths in a leaf.
    fn filled(&self, leaf: &Arc<Leaf<'r>>, hop: &QueryHop<'r>) -> Arc<Leaf<'r>> {
        let place = std::ptr::from_ref(hop.rule) as usize;
        self.filled.of((place, hop.prefix.clone()), leaf, || {
            let is_whole =
                hop.rule.redirect().is_some_and(|redirect| redirect.target().origin().is_some());
            let into = if is_whole { self.lift(&hop.prefix, leaf) } else { Arc::clone(leaf) };
            Leaf::Filled(Box::new(FilledLeaf::new(&hop.written, into)))
        })
    }
}
