//! The values that a redirect writes into a path between two texts, as `/?p={id} -> /posts/{id}/`
//! does: of a path's set, those that lead into it.

use std::sync::Arc;

use super::state::{Acceptor, State};
use super::symbol::{Alphabet, ESCAPED_SLASH, SLASH, Symbol, symbols};
use ravel::template::{Pattern, Piece, Target};

/// A path that is written of the first value of a parameter, between two texts.
#[derive(Debug, Clone)]
pub(super) struct WrittenQuery<'r> {
    pub(super) key: &'r str,
    before: Vec<Symbol>,
    after: Vec<Symbol>,
}

impl<'r> WrittenQuery<'r> {
    /// None unless the target's path has one capture, and that is of the query.
    pub(super) fn of(pattern: &'r Pattern, target: &Target) -> Option<WrittenQuery<'r>> {
        let mut names = target.path().expressions().map(|(_, name)| name);
        let (Some(name), None) = (names.next(), names.next()) else { return None };
        let key = pattern.parameter_of(name)?;
        let mut texts = [Vec::new(), Vec::new()];
        let mut at = 0;
        for piece in target.path().pieces() {
            match piece {
                Piece::Text(text) => texts[at].extend(symbols(text)),
                Piece::Expression(..) => at = 1,
            }
        }
        let [before, after] = texts;
        // A path is written with one `/` at its start.
        let slashes = before.iter().take_while(|symbol| **symbol == SLASH).count();
        let before = before[slashes.checked_sub(1)?..].to_vec();
        Some(WrittenQuery { key, before, after })
    }
}

/// The values that make a path of a set, between two texts.
#[derive(Debug)]
pub(super) struct FilledLeaf<A> {
    into: Arc<A>,
    /// Where the set is behind the first text.
    start: State,
    after: Vec<Symbol>,
}

impl<A: Acceptor> FilledLeaf<A> {
    pub(super) fn new(written: &WrittenQuery<'_>, into: Arc<A>) -> FilledLeaf<A> {
        let start = read(&*into, into.start(), &written.before);
        FilledLeaf { into, start, after: written.after.clone() }
    }
}

impl<A: Acceptor> Acceptor for FilledLeaf<A> {
    fn start(&self) -> State {
        self.start.clone()
    }

    /// A value ends no segment.
    fn step(&self, state: &State, symbol: Symbol) -> State {
        self.into.step(state, if symbol == SLASH { ESCAPED_SLASH } else { symbol })
    }

    fn accepts(&self, state: &State) -> bool {
        self.into.accepts(&read(&*self.into, state.clone(), &self.after))
    }

    fn mark(&self, alphabet: &mut Alphabet) {
        alphabet.mark(ESCAPED_SLASH);
        alphabet.mark(SLASH);
        self.into.mark(alphabet);
    }
}

fn read(set: &impl Acceptor, from: State, text: &[Symbol]) -> State {
    text.iter().fold(from, |state, symbol| set.step(&state, *symbol))
}
