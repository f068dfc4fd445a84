//! The shortest word that is in some sets and not in others.
//!
//! The sets' automata are walked side by side, breadth first, and only as far as is needed: a
//! combination of states is looked at once, one that cannot come into a wanted set any more is
//! left, and the first word found is a shortest.

use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use super::leaf::Leaf;
use super::names::Names;
use super::numbered::DEAD;
use super::state::Acceptor;
use super::symbol::{Alphabet, Symbol};
use super::table::{Table, Tables, is_kept};

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

/// The steps that are left for a question.
#[derive(Debug, Clone)]
pub(super) struct Steps(Arc<AtomicU64>);

impl Default for Steps {
    fn default() -> Steps {
        Steps(Arc::new(AtomicU64::new(MAX_STEPS)))
    }
}

impl Steps {
    /// Takes so many; whether they were left.
    fn take(&self, steps: usize) -> bool {
        let take = |left: u64| left.checked_sub(steps as u64);
        self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, take).is_ok()
    }
}

/// What is shared by all the sets that a question is asked with: the steps that are left for it,
/// and what was found of the same leaves before.
#[derive(Debug, Clone, Default)]
pub(super) struct Work<'r> {
    pub(super) steps: Steps,
    found: Arc<Mutex<FxHashMap<Key, Found<'r>>>>,
    tables: Arc<Tables<'r>>,
}

/// Leaves by where they are in memory, in the order of that, each with its sign.
type Key = SmallVec<[(usize, bool); 6]>;

/// The leaves, which are kept so that no others come to be in their place, and what they come to.
type Found<'r> = (Vec<SignedLeaf<'r>>, SearchResult<Vec<Symbol>>);

/// The most answers that are remembered.
const MAX_FOUND: usize = 4_096;

impl<'r> Work<'r> {
    /// Begins another question.
    pub(super) fn begin(&self) {
        self.steps.0.store(MAX_STEPS, Ordering::Relaxed);
    }

    /// Whether a word is in a leaf, by the table of it.
    pub(super) fn contains(&self, leaf: &Arc<Leaf<'r>>, word: &[Symbol]) -> bool {
        match &**leaf {
            Leaf::Pattern(pattern) if !pattern.begins(word) => return false,
            leaf if !is_kept(leaf) => return contains(leaf, word),
            _ => {}
        }
        let mut table = self.tables.take(leaf, 0);
        let mut state = table.number(leaf, leaf.start());
        for at in 0..word.len() {
            state = table.step(leaf, state, word, at);
            if state == DEAD {
                break;
            }
        }
        let accepts = table.states.accepts(state);
        self.tables.keep(leaf, table);
        accepts
    }

    /// As [`shortest`], for leaves that may be asked again; what was given up is looked for again.
    pub(super) fn shortest(&self, leaves: &[SignedLeaf<'r>]) -> SearchResult<Vec<Symbol>> {
        if let Some(found) = one_word(leaves) {
            return found;
        }
        let place = |(leaf, wanted): &SignedLeaf<'r>| (Arc::as_ptr(leaf) as usize, *wanted);
        let mut key: Key = leaves.iter().map(place).collect();
        key.sort_unstable();
        let known = || self.found.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, found)) = known().get(&key) {
            return found.clone();
        }
        let found = search(leaves, &self.steps, &self.tables);
        if found != SearchResult::Undecided {
            let mut known = known();
            if known.len() >= MAX_FOUND {
                known.clear();
            }
            known.insert(key, (leaves.to_vec(), found.clone()));
        }
        found
    }
}

/// Finds the shortest word that is in every leaf signed so, and in none of the others.
pub(super) fn shortest(leaves: &[SignedLeaf<'_>], steps: &Steps) -> SearchResult<Vec<Symbol>> {
    one_word(leaves).unwrap_or_else(|| search(leaves, steps, &Tables::default()))
}

/// What leaves come to of which one is a single word.
fn one_word(leaves: &[SignedLeaf<'_>]) -> Option<SearchResult<Vec<Symbol>>> {
    let word = leaves.iter().find_map(|(leaf, wanted)| match &**leaf {
        Leaf::Word(word) if *wanted => Some(word),
        _ => None,
    })?;
    let is_member = leaves.iter().all(|(leaf, wanted)| contains(leaf, word) == *wanted);
    Some(if is_member { SearchResult::Member(word.clone()) } else { SearchResult::Nothing })
}

/// So often what is not wanted is added bit by bit.
const MAX_ROUNDS: usize = 6;

/// Most of what is not wanted does not matter: it is first asked without, and then with what the word
/// that was found is in. A shortest word that is in none of the others is a shortest of all.
fn search<'r>(
    leaves: &[SignedLeaf<'r>],
    steps: &Steps,
    tables: &Tables<'r>,
) -> SearchResult<Vec<Symbol>> {
    let (mut asked, others): (Vec<_>, Vec<_>) =
        leaves.iter().cloned().partition(|(_, wanted)| *wanted);
    let (mut words, mut waiting) = (Vec::new(), Vec::new());
    for (leaf, wanted) in others {
        match &*leaf {
            Leaf::Word(word) => words.push(word.clone()),
            _ => waiting.push((leaf, wanted)),
        }
    }
    for round in 0.. {
        let found = Walk::new(&asked, steps, tables).run(tables);
        let SearchResult::Member(word) = &found else { return found };
        let is_listed = words.contains(word);
        // Very many single words are one list.
        if is_listed {
            let list = Names::of_words(std::mem::take(&mut words));
            asked.push((Arc::new(Leaf::Named(Arc::new(list))), false));
        }
        let is_last = round == MAX_ROUNDS;
        let (needed, rest): (Vec<_>, Vec<_>) =
            waiting.into_iter().partition(|(leaf, _)| is_last || contains(leaf, word));
        if !is_listed && needed.is_empty() {
            return found;
        }
        asked.extend(needed);
        waiting = rest;
    }
    SearchResult::Undecided
}

/// Whether a word is in a leaf.
pub(super) fn contains(leaf: &Leaf<'_>, word: &[Symbol]) -> bool {
    if let Leaf::Pattern(pattern) = leaf
        && !pattern.begins(word)
    {
        return false;
    }
    let mut state = leaf.start();
    for symbol in word {
        state = leaf.step(&state, *symbol);
        if Leaf::is_dead(&state) {
            return false;
        }
    }
    leaf.accepts(&state)
}

/// A leaf as numbers.
struct Automaton<'w, 'r> {
    leaf: &'w Arc<Leaf<'r>>,
    wanted: bool,
    table: Table,
}

impl Automaton<'_, '_> {
    fn start(&mut self) -> u32 {
        self.table.number(self.leaf, self.leaf.start())
    }

    fn step(&mut self, state: u32, symbols: &[Symbol], at: usize) -> u32 {
        self.table.step(self.leaf, state, symbols, at)
    }

    /// Whether what was read is as it is wanted.
    fn accepts(&self, state: u32) -> bool {
        self.table.states.accepts(state) == self.wanted
    }

    /// The one symbol on which what is wanted goes on, where there is but one.
    fn only(&self, state: u32) -> Option<Symbol> {
        self.wanted.then(|| self.table.only[state as usize]).flatten()
    }

    /// Whether no word that goes on from here is wanted.
    fn is_lost(&self, state: u32) -> bool {
        self.wanted && state == DEAD
    }
}

/// Where each automaton is.
type Place = SmallVec<[u32; 8]>;

struct Walk<'w, 'r> {
    leaves: Vec<Automaton<'w, 'r>>,
    symbols: Vec<Symbol>,
    seen: FxHashSet<Place>,
    /// Every word looked at: the one it goes on from, its last symbol, and where the leaves are.
    nodes: Vec<(usize, Symbol, Place)>,
    steps: &'w Steps,
}

impl<'w, 'r> Walk<'w, 'r> {
    fn new(leaves: &'w [SignedLeaf<'r>], steps: &'w Steps, tables: &Tables<'r>) -> Walk<'w, 'r> {
        let mut alphabet = Alphabet::default();
        leaves.iter().for_each(|(leaf, _)| leaf.mark(&mut alphabet));
        let (symbols, seen, nodes) = (alphabet.symbols(), FxHashSet::default(), Vec::new());
        let automaton = |(leaf, wanted): &'w SignedLeaf<'r>| {
            let table = tables.take(leaf, symbols.len());
            Automaton { leaf, wanted: *wanted, table }
        };
        let leaves = leaves.iter().map(automaton).collect();
        Walk { leaves, symbols, seen, nodes, steps }
    }

    fn run(mut self, tables: &Tables<'r>) -> SearchResult<Vec<Symbol>> {
        let found = self.walk();
        self.leaves.into_iter().for_each(|one| tables.keep(one.leaf, one.table));
        found
    }

    fn walk(&mut self) -> SearchResult<Vec<Symbol>> {
        let start: Place = self.leaves.iter_mut().map(Automaton::start).collect();
        if self.lost(&start) {
            return SearchResult::Nothing;
        }
        if self.accepts(&start) {
            return SearchResult::Member(Vec::new());
        }
        self.nodes.push((0, 0, start));
        let mut at = 0;
        while at < self.nodes.len() {
            let numbers = self.onward(at);
            if !self.steps.take(numbers.len() * self.leaves.len()) {
                return SearchResult::Undecided;
            }
            // Most symbols lead where another leads, too.
            let mut places: SmallVec<[Place; 8]> = SmallVec::new();
            for number in numbers {
                let Some(next) = self.step(at, number) else { continue };
                if places.contains(&next) {
                    continue;
                }
                places.push(next.clone());
                if !self.seen.insert(next.clone()) {
                    continue;
                }
                let accepted = self.accepts(&next);
                self.nodes.push((at, self.symbols[number], next));
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

    /// The numbers of the symbols on which a word can go on: within a text there is one.
    fn onward(&self, from: usize) -> Range<usize> {
        let mut leaves = self.leaves.iter().zip(&self.nodes[from].2);
        let only = leaves.find_map(|(leaf, state)| leaf.only(*state));
        let number = only.and_then(|only| self.symbols.iter().position(|known| *known == only));
        number.map_or(0..self.symbols.len(), |number| number..number + 1)
    }

    /// Where a symbol leads from a word, unless no word that goes on from there is wanted.
    fn step(&mut self, from: usize, symbol: usize) -> Option<Place> {
        let states = &self.nodes[from].2;
        let mut next = Place::new();
        for (leaf, state) in self.leaves.iter_mut().zip(states) {
            let state = leaf.step(*state, &self.symbols, symbol);
            if leaf.is_lost(state) {
                return None;
            }
            next.push(state);
        }
        Some(next)
    }

    fn lost(&self, states: &[u32]) -> bool {
        self.leaves.iter().zip(states).any(|(leaf, state)| leaf.is_lost(*state))
    }

    fn accepts(&self, states: &[u32]) -> bool {
        self.leaves.iter().zip(states).all(|(leaf, state)| leaf.accepts(*state))
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
