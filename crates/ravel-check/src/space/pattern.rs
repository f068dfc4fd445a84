//! Templates as automata: one thread for each way to match so far.

use super::capture::{CaptureTest, LOST, PASSED, Progress};
use super::state::{State, Thread, Threads};
use super::symbol::{Alphabet, SLASH, Symbol, symbols};
use ravel::template::{Expression, Piece, Template};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Op {
    Text(Symbol),
    Expression(Expression, u16),
}

/// A template as a program.
#[derive(Debug)]
pub(super) struct PatternLeaf<'r> {
    pub(super) ops: Vec<Op>,
    /// Tests, each with the number of the expression that it is about.
    pub(super) tests: Vec<(u16, CaptureTest<'r>)>,
    pub(super) fold: bool,
    pub(super) start: State,
    /// What all of its words begin with.
    leading: Vec<Symbol>,
}

/// A template's program.
pub(super) fn ops(template: &Template) -> Vec<Op> {
    let mut ops = Vec::new();
    let mut expressions = 0;
    for piece in template.pieces() {
        match piece {
            Piece::Text(text) => ops.extend(symbols(text).map(Op::Text)),
            Piece::Expression(form, _) => {
                ops.push(Op::Expression(form, expressions));
                expressions += 1;
            }
        }
    }
    ops
}

/// Whether an expression can end where it is.
pub(super) fn may_leave(op: Option<&Op>, begun: bool) -> bool {
    match op {
        Some(Op::Expression(Expression::Segment, _)) => begun,
        Some(Op::Expression(..)) => true,
        Some(Op::Text(_)) | None => false,
    }
}

/// Whether an expression takes a symbol.
pub(super) fn takes(form: Expression, begun: bool, symbol: Symbol) -> bool {
    match form {
        Expression::Segment => symbol != SLASH,
        Expression::Any => true,
        Expression::Segments => begun || symbol == SLASH,
    }
}

/// Whether a text's symbol is the one that was read.
pub(super) fn same(fold: bool, text: Symbol, symbol: Symbol) -> bool {
    let lower = |symbol: Symbol| {
        u8::try_from(symbol).map_or(symbol, |byte| byte.to_ascii_lowercase().into())
    };
    text == symbol || (fold && lower(text) == lower(symbol))
}

impl<'r> PatternLeaf<'r> {
    /// `tests` are about the template's expressions, by their number; `read` is what is before
    /// the paths that are asked about.
    pub(super) fn new(
        template: &Template,
        tests: Vec<(u16, CaptureTest<'r>)>,
        fold: bool,
        read: &[Symbol],
    ) -> PatternLeaf<'r> {
        let ops = ops(template);
        let (start, leading) = (State::Dead, Vec::new());
        let mut leaf = PatternLeaf { ops, tests, fold, start, leading };
        let mut threads = Threads::new();
        let first = Thread {
            op: 0,
            begun: false,
            tests: leaf.tests.iter().map(|(_, test)| test.start()).collect(),
        };
        leaf.enter(first, &mut threads);
        leaf.start = State::Threads(threads);
        leaf.start =
            read.iter().fold(leaf.start.clone(), |state, symbol| leaf.step(&state, *symbol));
        let mut state = leaf.start.clone();
        while let State::Threads(threads) = &state
            && let Some(symbol) = leaf.only(threads)
        {
            leaf.leading.push(symbol);
            state = leaf.step(&state, symbol);
        }
        leaf
    }

    /// Whether a word begins as its words do.
    pub(super) fn begins(&self, word: &[Symbol]) -> bool {
        word.starts_with(&self.leading)
    }

    /// The symbol that all threads wait for, where they wait for a text.
    pub(super) fn only(&self, threads: &Threads) -> Option<Symbol> {
        let mut texts = threads.iter().map(|thread| match self.ops.get(usize::from(thread.op)) {
            Some(Op::Text(text)) if !self.fold => Some(*text),
            _ => None,
        });
        let first = texts.next()??;
        texts.all(|text| text == Some(first)).then_some(first)
    }

    /// Adds a thread, and those that it could go on as without reading: leaving an expression comes
    /// before staying in it.
    fn enter(&self, thread: Thread, threads: &mut Threads) {
        let known = |other: &Thread| other.op == thread.op && other.begun == thread.begun;
        if threads.iter().any(known) {
            return;
        }
        let op = self.ops.get(usize::from(thread.op));
        if let Some(Op::Expression(_, number)) = op
            && may_leave(op, thread.begun)
        {
            let tests = thread.tests.clone();
            let mut left = Thread { op: thread.op + 1, begun: false, tests };
            self.judge(&mut left, *number, |test, at| match test.accepts(at) {
                true => PASSED,
                false => LOST,
            });
            self.enter(left, threads);
        }
        threads.push(thread);
    }

    /// Goes on with the tests of an expression; one that is lost loses the thread, of which nothing
    /// else matters then.
    fn judge(
        &self,
        thread: &mut Thread,
        number: u16,
        next: impl Fn(&CaptureTest<'r>, Progress) -> Progress,
    ) {
        let mut is_lost = false;
        for (at, (of, test)) in thread.tests.iter_mut().zip(&self.tests) {
            if *of == number {
                *at = next(test, *at);
                is_lost |= test.is_lost(*at);
            }
        }
        if is_lost {
            thread.tests.fill(LOST);
        }
    }

    pub(super) fn step(&self, state: &State, symbol: Symbol) -> State {
        let State::Threads(threads) = state else { return State::Dead };
        let mut next = Threads::new();
        for thread in threads {
            match self.ops.get(usize::from(thread.op)) {
                Some(Op::Text(text)) if same(self.fold, *text, symbol) => {
                    self.enter(
                        Thread { op: thread.op + 1, begun: false, tests: thread.tests.clone() },
                        &mut next,
                    );
                }
                Some(Op::Expression(form, number)) if takes(*form, thread.begun, symbol) => {
                    let mut thread = Thread { begun: true, ..thread.clone() };
                    self.judge(&mut thread, *number, |test, at| test.step(at, symbol));
                    self.enter(thread, &mut next);
                }
                _ => {}
            }
        }
        // A way that is lost still stands before those that have less right.
        while next.last().is_some_and(|thread| thread.tests.first() == Some(&LOST)) {
            next.pop();
        }
        if next.is_empty() { State::Dead } else { State::Threads(next) }
    }

    /// Whether each expression is one of a list.
    pub(super) fn is_listed(&self) -> bool {
        let mut expressions = self.ops.iter().filter_map(|op| match op {
            Op::Expression(_, number) => Some(*number),
            Op::Text(_) => None,
        });
        let is_listed =
            |number: u16| self.tests.iter().any(|(of, test)| *of == number && test.is_of_list());
        expressions.all(is_listed)
    }

    pub(super) fn accepts(&self, state: &State) -> bool {
        let State::Threads(threads) = state else { return false };
        let ended = threads.iter().find(|thread| usize::from(thread.op) == self.ops.len());
        ended.is_some_and(|thread| {
            thread
                .tests
                .iter()
                .zip(&self.tests)
                .all(|(progress, (_, test))| test.accepts(*progress))
        })
    }
}
/// The text before the first expression.
pub(super) fn leading_text(ops: &[Op]) -> Vec<Symbol> {
    let text = ops.iter().map_while(|op| match op {
        Op::Text(symbol) => Some(*symbol),
        Op::Expression(..) => None,
    });
    text.collect()
}

/// The symbols that a template's texts tell apart.
pub(super) fn mark_ops(ops: &[Op], fold: bool, alphabet: &mut Alphabet) {
    for op in ops {
        let Op::Text(symbol) = op else { continue };
        alphabet.mark(*symbol);
        if fold && let Ok(byte) = u8::try_from(*symbol) {
            alphabet.mark(byte.to_ascii_lowercase().into());
            alphabet.mark(byte.to_ascii_uppercase().into());
        }
    }
}
