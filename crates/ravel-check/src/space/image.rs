//! The paths that a redirect leads into a set: its pattern is read, and what its target writes of
//! the captures is followed in the set's automaton at the same time.

use std::sync::Arc;

use super::numbered::{DEAD, Numbered};
use super::pattern::{Op, leading_text, mark_ops, may_leave, ops, same, takes};
use super::state::{Acceptor, ImageThread, ImageThreads, Lead, State};
use super::symbol::{Alphabet, SLASH, Symbol, symbols};
use ravel::template::{Piece, Target, Template};

/// The paths that a redirect leads to a path in a set.
#[derive(Debug)]
pub(super) struct ImageLeaf<A> {
    ops: Vec<Op>,
    fold: bool,
    written: Vec<Written>,
    into: Numbered<A>,
    /// With no more than one expression, a path can be read in one way.
    has_one_way: bool,
    start: State,
}

/// In place of a state, of a path that is written whole and is in the set.
const MEMBER: u32 = u32::MAX;

/// A piece of what a target writes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Written {
    Text(Vec<Symbol>),
    /// What the pattern's expression of this number captures.
    Capture(u16),
}

/// What a target's path writes of what a pattern captures; none unless captures of the path are
/// written in their order, each once at most.
pub(super) fn written(pattern: &Template, target: &Target) -> Option<Vec<Written>> {
    let names: Vec<&str> = pattern.expressions().map(|(_, name)| name).collect();
    let mut next = 0;
    let mut written = Vec::new();
    for piece in target.path().pieces() {
        written.push(match piece {
            Piece::Text(text) => Written::Text(symbols(text).collect()),
            Piece::Expression(_, name) => {
                let at = names.iter().position(|known| *known == name).filter(|at| *at >= next)?;
                next = at + 1;
                Written::Capture(at as u16)
            }
        });
    }
    Some(written)
}

impl<A: Acceptor> ImageLeaf<A> {
    /// `read` is what is before the paths that are asked about.
    pub(super) fn new(
        pattern: &Template,
        fold: bool,
        read: &[Symbol],
        written: Vec<Written>,
        into: Arc<A>,
    ) -> ImageLeaf<A> {
        let ops = ops(pattern);
        let into = Numbered::new(into);
        let has_one_way = pattern.expressions().count() < 2;
        let start = State::Dead;
        let mut leaf = ImageLeaf { ops, fold, written, into, has_one_way, start };
        let at = leaf.into.start();
        let mut first = ImageThread { op: 0, begun: false, written: 0, lead: Lead::Nothing, at };
        leaf.write_texts(&mut first);
        let mut threads = ImageThreads::new();
        leaf.enter(first, &mut threads);
        leaf.start = read.iter().fold(State::Images(threads), |state, symbol| match &state {
            State::Images(threads) => leaf.step(threads, *symbol),
            _ => State::Dead,
        });
        leaf
    }

    pub(super) fn start(&self) -> State {
        self.start.clone()
    }

    pub(super) fn leading_text(&self) -> Vec<Symbol> {
        if self.fold { Vec::new() } else { leading_text(&self.ops) }
    }

    pub(super) fn mark(&self, alphabet: &mut Alphabet) {
        mark_ops(&self.ops, self.fold, alphabet);
        self.into.automaton().mark(alphabet);
    }

    /// What is written is followed, with one `/` at its start.
    fn feed(&self, thread: &mut ImageThread, symbol: Symbol) {
        match (thread.lead, symbol == SLASH) {
            (Lead::Slash, true) => return,
            (Lead::Nothing, false) => thread.at = self.into.step(thread.at, SLASH),
            (Lead::Nothing | Lead::Body, _) | (Lead::Slash, false) => {}
        }
        thread.lead =
            if thread.lead == Lead::Nothing && symbol == SLASH { Lead::Slash } else { Lead::Body };
        thread.at = self.into.step(thread.at, symbol);
    }

    /// Writes the texts before the next capture. When all is written, it does not matter any more how
    /// it came to be in the set, or outside.
    fn write_texts(&self, thread: &mut ImageThread) {
        while let Some(Written::Text(text)) = self.written.get(usize::from(thread.written)) {
            text.iter().for_each(|symbol| self.feed(thread, *symbol));
            thread.written += 1;
        }
        if usize::from(thread.written) == self.written.len() {
            if thread.lead == Lead::Nothing {
                self.feed(thread, SLASH);
            }
            thread.at = if self.into.accepts(thread.at) { MEMBER } else { DEAD };
            thread.lead = Lead::Body;
        }
    }

    fn writes(&self, thread: &ImageThread, number: u16) -> bool {
        self.written.get(usize::from(thread.written)) == Some(&Written::Capture(number))
    }

    /// Adds a thread, and those that it could go on as without reading, as patterns do.
    fn enter(&self, thread: ImageThread, threads: &mut ImageThreads) {
        let known = |other: &ImageThread| other.op == thread.op && other.begun == thread.begun;
        if threads.iter().any(known) {
            return;
        }
        let op = self.ops.get(usize::from(thread.op));
        if may_leave(op, thread.begun) {
            let mut left = ImageThread { op: thread.op + 1, begun: false, ..thread };
            if let Some(Op::Expression(_, number)) = op
                && self.writes(&left, *number)
            {
                left.written += 1;
                self.write_texts(&mut left);
            }
            self.enter(left, threads);
        }
        threads.push(thread);
    }

    pub(super) fn step(&self, threads: &[ImageThread], symbol: Symbol) -> State {
        let mut next = ImageThreads::new();
        for thread in threads {
            match self.ops.get(usize::from(thread.op)) {
                Some(Op::Text(text)) if same(self.fold, *text, symbol) => {
                    let passed = ImageThread { op: thread.op + 1, begun: false, ..*thread };
                    self.enter(passed, &mut next);
                }
                Some(Op::Expression(form, number)) if takes(*form, thread.begun, symbol) => {
                    let mut thread = ImageThread { begun: true, ..*thread };
                    if self.writes(&thread, *number) {
                        self.feed(&mut thread, symbol);
                    }
                    self.enter(thread, &mut next);
                }
                _ => {}
            }
        }
        // A way that leads nowhere still stands before those that have less right, where a path can
        // be read in several ways; nothing else matters of it.
        let is_lost = |thread: &ImageThread| thread.at == DEAD;
        if self.has_one_way {
            next.retain(|thread| !is_lost(thread));
        }
        while next.last().is_some_and(is_lost) {
            next.pop();
        }
        for thread in next.iter_mut().filter(|thread| is_lost(thread)) {
            (thread.written, thread.lead) = (0, Lead::Body);
        }
        if next.is_empty() { State::Dead } else { State::Images(next) }
    }

    pub(super) fn accepts(&self, threads: &[ImageThread]) -> bool {
        let ended = threads.iter().find(|thread| usize::from(thread.op) == self.ops.len());
        ended.is_some_and(|thread| thread.at == MEMBER)
    }
}
