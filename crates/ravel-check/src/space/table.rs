//! Automata as tables: the states that were met, and where each leads on each symbol, worked out once
//! for all the searches that they are part of.

use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashMap;

use super::leaf::Leaf;
use super::numbered::States;
use super::state::{Acceptor, State};
use super::symbol::{SYMBOLS, Symbol};

/// Of a step that was not worked out yet.
const UNKNOWN: u32 = u32::MAX;

/// What is known of a leaf's automaton.
#[derive(Debug)]
pub(super) struct Table {
    pub(super) states: States,
    /// Of each state, the one symbol on which it goes on, where there is but one.
    pub(super) only: Vec<Option<Symbol>>,
    /// Of each state, where it leads: on every symbol, or on those of one search.
    next: Vec<u32>,
    width: usize,
}

impl Table {
    /// The number of a state.
    pub(super) fn number(&mut self, leaf: &Leaf<'_>, state: State) -> u32 {
        let number = self.states.number(leaf, state);
        if number as usize == self.only.len() {
            self.next.resize(self.next.len() + self.width, UNKNOWN);
            self.only.push(leaf.only(self.states.state(number)));
        }
        number
    }

    /// Where a state leads on a symbol of a search, by its number there.
    pub(super) fn step(
        &mut self,
        leaf: &Leaf<'_>,
        state: u32,
        symbols: &[Symbol],
        at: usize,
    ) -> u32 {
        let column = if self.width == SYMBOLS as usize { symbols[at] as usize } else { at };
        let place = state as usize * self.width + column;
        if self.next[place] == UNKNOWN {
            let next = leaf.step(self.states.state(state), symbols[at]);
            self.next[place] = self.number(leaf, next);
        }
        self.next[place]
    }
}

/// The tables of the leaves that are met again and again, by where the leaves are in memory; these are
/// kept, so that no others come to be in their place.
#[derive(Debug, Default)]
pub(super) struct Tables<'r>(Mutex<FxHashMap<usize, (Arc<Leaf<'r>>, Table)>>);

/// The most tables that are kept, and the most states of one.
const MAX_TABLES: usize = 512;
const MAX_KEPT_STATES: usize = 512;

impl<'r> Tables<'r> {
    /// The table of a leaf for a search with so many symbols. Who takes it keeps it from others, and
    /// gives it back.
    pub(super) fn take(&self, leaf: &Arc<Leaf<'r>>, symbols: usize) -> Table {
        let is_kept = is_kept(leaf);
        let known = || {
            let mut tables = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            Some(tables.remove(&(Arc::as_ptr(leaf) as usize))?.1)
        };
        if let Some(table) = is_kept.then(known).flatten() {
            return table;
        }
        let width = if is_kept { SYMBOLS as usize } else { symbols };
        let (states, only, next) = (States::default(), Vec::new(), Vec::new());
        let mut table = Table { states, only, next, width };
        table.number(leaf, State::Dead);
        table
    }

    /// Keeps a table for the next search.
    pub(super) fn keep(&self, leaf: &Arc<Leaf<'r>>, table: Table) {
        if !is_kept(leaf) || table.states.len() > MAX_KEPT_STATES {
            return;
        }
        let mut tables = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if tables.len() >= MAX_TABLES {
            tables.clear();
        }
        tables.insert(Arc::as_ptr(leaf) as usize, (Arc::clone(leaf), table));
    }
}

/// Whether a leaf is part of many searches; lists of names have as many states as characters.
pub(super) fn is_kept(leaf: &Leaf<'_>) -> bool {
    match leaf {
        Leaf::Path | Leaf::Pattern(_) | Leaf::Below(_) | Leaf::KnownType | Leaf::Image(_) => true,
        Leaf::Behind(_, behind) => is_kept(behind),
        Leaf::Word(_) | Leaf::Named(_) | Leaf::Value(_) | Leaf::Filled(_) => false,
    }
}
