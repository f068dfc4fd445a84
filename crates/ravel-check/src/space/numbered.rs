//! States by their numbers, which are compared and kept at less cost.

use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashMap;

use super::state::{Acceptor, State};
use super::symbol::Symbol;

/// The number of the state that no word leaves.
pub(super) const DEAD: u32 = 0;

/// The states of an automaton that were met.
#[derive(Debug)]
pub(super) struct States {
    numbers: FxHashMap<State, u32>,
    states: Vec<State>,
    /// Of each state, whether what was read is in the set.
    accepts: Vec<bool>,
}

impl Default for States {
    fn default() -> States {
        let numbers = FxHashMap::from_iter([(State::Dead, DEAD)]);
        States { numbers, states: vec![State::Dead], accepts: vec![false] }
    }
}

impl States {
    /// The number of a state; those that are new are numbered one after another.
    pub(super) fn number(&mut self, automaton: &impl Acceptor, state: State) -> u32 {
        if let Some(number) = self.numbers.get(&state) {
            return *number;
        }
        let number = self.states.len() as u32;
        self.accepts.push(automaton.accepts(&state));
        self.numbers.insert(state.clone(), number);
        self.states.push(state);
        number
    }

    pub(super) fn state(&self, number: u32) -> &State {
        &self.states[number as usize]
    }

    pub(super) fn accepts(&self, number: u32) -> bool {
        self.accepts[number as usize]
    }

    pub(super) fn len(&self) -> usize {
        self.states.len()
    }
}

/// An automaton that is read by numbers.
#[derive(Debug)]
pub(super) struct Numbered<A> {
    automaton: Arc<A>,
    known: Mutex<Known>,
}

/// The states that were met, and where each leads on the symbols that were read there.
#[derive(Debug, Default)]
struct Known {
    states: States,
    next: FxHashMap<(u32, Symbol), u32>,
}

impl<A: Acceptor> Numbered<A> {
    pub(super) fn new(automaton: Arc<A>) -> Numbered<A> {
        Numbered { automaton, known: Mutex::default() }
    }

    pub(super) fn automaton(&self) -> &A {
        &self.automaton
    }

    pub(super) fn start(&self) -> u32 {
        self.known().states.number(&*self.automaton, self.automaton.start())
    }

    pub(super) fn step(&self, number: u32, symbol: Symbol) -> u32 {
        if number == DEAD {
            return DEAD;
        }
        let mut known = self.known();
        if let Some(next) = known.next.get(&(number, symbol)) {
            return *next;
        }
        let state = self.automaton.step(known.states.state(number), symbol);
        let next = known.states.number(&*self.automaton, state);
        known.next.insert((number, symbol), next);
        next
    }

    pub(super) fn accepts(&self, number: u32) -> bool {
        self.known().states.accepts(number)
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
