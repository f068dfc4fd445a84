//! The shortest word that is in some sets and not in others.
//!
//! The sets' automata are walked side by side, breadth first, and only as far as is needed: a
//! combination of states is looked at once, one that cannot come into a wanted set any more is
//! left, and the first word found is a shortest.

use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::leaf::{Leaf, State};
use super::symbol::{Alphabet, Symbol};

/// A leaf, and whether words are in it or outside.
pub(super) type SignedLeaf<'r> = (Arc<Leaf<'r>>, bool);

/// What a search comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum SearchResult<T> {
    /// A shortest member.
    Member(T),
    /// There is none.
    Nothing,
    /// So much would have to be looked at that it was given up.
    Undecided,
}

/// The most combinations of states that are looked at.
const MAX_STATES: usize = 40_000;

/// Finds the shortest word that is in every leaf signed so, and in none of the others.
pub(super) fn shortest(leaves: &[SignedLeaf<'_>]) -> SearchResult<Vec<Symbol>> {
    let contains =
        |word: &[Symbol]| leaves.iter().all(|(leaf, wanted)| contains(leaf, word) == *wanted);
    if let Some(word) = leaves.iter().find_map(|(leaf, wanted)| match &**leaf {
        Leaf::Word(word) if *wanted => Some(word),
        _ => None,
    }) {
        return if contains(word) {
            SearchResult::Member(word.clone())
        } else {
            SearchResult::Nothing
        };
    }
    let mut alphabet = Alphabet::default();
    leaves.iter().for_each(|(leaf, _)| leaf.mark(&mut alphabet));
    Walk { leaves, symbols: alphabet.symbols(), seen: FxHashSet::default(), nodes: Vec::new() }
        .run()
}

/// Whether a word is in a leaf.
pub(super) fn contains(leaf: &Leaf<'_>, word: &[Symbol]) -> bool {
    let mut state = leaf.start();
    for symbol in word {
        state = leaf.step(&state, *symbol);
        if Leaf::is_dead(&state) {
            return false;
        }
    }
    leaf.accepts(&state)
}

struct Walk<'w, 'r> {
    leaves: &'w [SignedLeaf<'r>],
    symbols: Vec<Symbol>,
    seen: FxHashSet<Vec<State>>,
    /// Every word looked at: the one it goes on from, its last symbol, and where the leaves are.
    nodes: Vec<(usize, Symbol, Vec<State>)>,
}

impl Walk<'_, '_> {
    fn run(mut self) -> SearchResult<Vec<Symbol>> {
        let start: Vec<State> = self.leaves.iter().map(|(leaf, _)| leaf.start()).collect();
        if self.lost(&start) {
            return SearchResult::Nothing;
        }
        if self.accepts(&start) {
            return SearchResult::Member(Vec::new());
        }
        self.nodes.push((0, 0, start));
        let mut at = 0;
        while at < self.nodes.len() {
            for number in 0..self.symbols.len() {
                let symbol = self.symbols[number];
                let states = &self.nodes[at].2;
                let next: Vec<State> = self
                    .leaves
                    .iter()
                    .zip(states)
                    .map(|((leaf, _), state)| leaf.step(state, symbol))
                    .collect();
                if self.lost(&next) || self.seen.contains(&next) {
                    continue;
                }
                let accepted = self.accepts(&next);
                self.seen.insert(next.clone());
                self.nodes.push((at, symbol, next));
                if accepted {
                    return SearchResult::Member(self.word(self.nodes.len() - 1));
                }
                if self.nodes.len() > MAX_STATES {
                    return SearchResult::Undecided;
                }
            }
            at += 1;
        }
        SearchResult::Nothing
    }

    fn lost(&self, states: &[State]) -> bool {
        self.leaves.iter().zip(states).any(|((_, wanted), state)| *wanted && Leaf::is_dead(state))
    }

    fn accepts(&self, states: &[State]) -> bool {
        self.leaves.iter().zip(states).all(|((leaf, wanted), state)| leaf.accepts(state) == *wanted)
    }

    fn word(&self, mut at: usize) -> Vec<Symbol> {
        let mut word = Vec::new();
        while at > 0 {
            word.push(self.nodes[at].1);
            at = self.nodes[at].0;
        }
        word.reverse();
        word
    }
}
