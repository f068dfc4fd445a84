//! Automata, and where they are in a word.

use smallvec::SmallVec;

use super::capture::Progress;
use super::symbol::{Alphabet, Symbol};

/// What reads a word symbol by symbol, and knows at its end whether it is in a set.
pub(super) trait Acceptor {
    fn start(&self) -> State;

    fn step(&self, state: &State, symbol: Symbol) -> State;

    fn accepts(&self, state: &State) -> bool;

    /// Marks the symbols that it tells apart.
    fn mark(&self, alphabet: &mut Alphabet);
}

/// Where a leaf is in a word.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum State {
    Dead,
    At(u32),
    Range {
        low: u32,
        high: u32,
        depth: u32,
        slash: bool,
    },
    Threads(Threads),
    Tests(Tests),
    /// So much of a text was read, and what is behind it not begun.
    Before(u32),
    Images(ImageThreads),
}

pub(super) type Tests = SmallVec<[Progress; 1]>;
pub(super) type Threads = SmallVec<[Thread; 2]>;
pub(super) type ImageThreads = SmallVec<[ImageThread; 2]>;

/// One way to match so far. Ways are kept in the order of their right: the expression further left
/// takes as little as it can.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct Thread {
    pub(super) op: u16,
    /// Whether the expression has taken something.
    pub(super) begun: bool,
    pub(super) tests: Tests,
}

/// One way to match so far, with where what it writes has led.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct ImageThread {
    pub(super) op: u16,
    pub(super) begun: bool,
    /// The pieces that are written.
    pub(super) written: u16,
    pub(super) lead: Lead,
    /// The number of the state that it has led to.
    pub(super) at: u32,
}

/// A path is written with one `/` at its start, however many there were.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Lead {
    Nothing,
    Slash,
    Body,
}
