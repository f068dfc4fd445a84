//! The shortest word that is in some sets and not in others.
//!
//! The sets' automata are walked side by side, breadth first, and only as far as is needed: a
//! combination of states is looked at once, one that cannot come into a wanted set any more is
//! left, and the first word found is a shortest.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use rustc_hash::FxHashSet;

use super::leaf::{Leaf, Names, State};
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

/// The most combinations of states that are looked at in one search.
const MAX_STATES: usize = 40_000;

/// The most steps of automata for one question, so that what is undecided is so on every machine.
const MAX_STEPS: u64 = 8_000_000;

/// The steps that are left for a question, shared by all the sets that it is asked with.
#[derive(Debug, Clone)]
pub(super) struct Work(Arc<AtomicU64>);

impl Default for Work {
    fn default() -> Work {
        Work(Arc::new(AtomicU64::new(MAX_STEPS)))
    }
}

impl Work {
    /// Begins another question.
    pub(super) fn begin(&self) {
        self.0.store(MAX_STEPS, Ordering::Relaxed);
    }

    /// Takes so many steps; whether they were left.
    fn take(&self, steps: usize) -> bool {
        let take = |left: u64| left.checked_sub(steps as u64);
        self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, take).is_ok()
    }
}

/// Finds the shortest word that is in every leaf signed so, and in none of the others.
pub(super) fn shortest(leaves: &[SignedLeaf<'_>], work: &Work) -> SearchResult<Vec<Symbol>> {
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
    // Lists of words that are not wanted may be very long: it is first asked without them, and then
    // with all single words as one list.
    let (mut others, mut lists, mut words) = (Vec::new(), Vec::new(), Vec::new());
    for (leaf, wanted) in leaves {
        match &**leaf {
            Leaf::Word(word) if !wanted => words.push(word.clone()),
            Leaf::Named(_) if !wanted => lists.push((Arc::clone(leaf), *wanted)),
            _ => others.push((Arc::clone(leaf), *wanted)),
        }
    }
    let found = Walk::new(&others, work).run();
    let is_listed = |word: &Vec<Symbol>| {
        words.contains(word) || lists.iter().any(|(list, _)| self::contains(list, word))
    };
    match &found {
        SearchResult::Member(word) if is_listed(word) => {}
        _ => return found,
    }
    others.extend(lists);
    if !words.is_empty() {
        others.push((Arc::new(Leaf::Named(Arc::new(Names::of_words(words)))), false));
    }
    Walk::new(&others, work).run()
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
    work: &'w Work,
}

impl<'w, 'r> Walk<'w, 'r> {
    fn new(leaves: &'w [SignedLeaf<'r>], work: &'w Work) -> Walk<'w, 'r> {
        let mut alphabet = Alphabet::default();
        leaves.iter().for_each(|(leaf, _)| leaf.mark(&mut alphabet));
        let (symbols, seen, nodes) = (alphabet.symbols(), FxHashSet::default(), Vec::new());
        Walk { leaves, symbols, seen, nodes, work }
    }

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
            if !self.work.take(self.symbols.len() * self.leaves.len()) {
                return SearchResult::Undecided;
            }
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
