//! Sets of paths as automata that read one symbol after another.

use std::sync::Arc;

use smallvec::SmallVec;

use super::capture::{CaptureTest, Progress};
use super::symbol::{Alphabet, ESCAPED_SLASH, SLASH, Symbol, meaning, symbols};
use ravel::files::KNOWN_TYPES;
use ravel::template::{Expression, Piece, Template};

/// A set of paths. Its complement, and what it has in common with others, are worked out in
/// `search.rs`.
#[derive(Debug)]
pub(super) enum Leaf<'r> {
    /// Every path: words that begin with `/` and have no `.` or `..` segment.
    Path,
    /// One path.
    Word(Vec<Symbol>),
    /// The paths that a template matches, with captures that pass the tests.
    Pattern(PatternLeaf<'r>),
    /// Paths that begin with this text and a `/`.
    Below(Vec<Symbol>),
    /// Paths that name a file.
    Named(Arc<Names>),
    /// Paths whose last segment ends in the extension of a known file type.
    KnownType,
    /// No path but a value: not empty, and passing the tests.
    Value(Vec<CaptureTest<'r>>),
}

/// Where a leaf is in a word.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum State {
    Dead,
    At(u32),
    Range { low: u32, high: u32, depth: u32, slash: bool },
    Threads(Threads),
    Tests(Tests),
}

type Tests = SmallVec<[Progress; 1]>;
type Threads = SmallVec<[Thread; 2]>;

/// One way to match so far. Ways are kept in the order of their right: the expression further left
/// takes as little as it can.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct Thread {
    op: u16,
    /// Whether the expression has taken something.
    begun: bool,
    tests: Tests,
}

/// The addresses that name files, as words in order.
#[derive(Debug, Default)]
pub(super) struct Names {
    pub(super) words: Vec<Vec<Symbol>>,
    /// Every symbol of them, once.
    pub(super) symbols: Vec<Symbol>,
    /// ASCII letters match in any case; the words are in lower case.
    pub(super) fold: bool,
    /// Empty segments are left out of an address before it is compared.
    pub(super) tidy: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Op {
    Text(Symbol),
    Expression(Expression, u16),
}

/// A template as a program.
#[derive(Debug)]
pub(super) struct PatternLeaf<'r> {
    ops: Vec<Op>,
    /// Tests, each with the number of the expression that it is about.
    tests: Vec<(u16, CaptureTest<'r>)>,
    fold: bool,
    start: State,
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
        let mut leaf = PatternLeaf { ops, tests, fold, start: State::Dead };
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
        leaf
    }

    /// Adds a thread, and those that it could go on as without reading: leaving an expression comes
    /// before staying in it.
    fn enter(&self, thread: Thread, threads: &mut Threads) {
        let known = |other: &Thread| other.op == thread.op && other.begun == thread.begun;
        if threads.iter().any(known) {
            return;
        }
        let may_leave = match self.ops.get(usize::from(thread.op)) {
            Some(Op::Expression(Expression::Segment, _)) => thread.begun,
            Some(Op::Expression(..)) => true,
            Some(Op::Text(_)) | None => false,
        };
        if may_leave {
            self.enter(
                Thread { op: thread.op + 1, begun: false, tests: thread.tests.clone() },
                threads,
            );
        }
        threads.push(thread);
    }

    fn step(&self, state: &State, symbol: Symbol) -> State {
        let State::Threads(threads) = state else { return State::Dead };
        let mut next = Threads::new();
        for thread in threads {
            match self.ops.get(usize::from(thread.op)) {
                Some(Op::Text(text)) if self.same(*text, symbol) => {
                    self.enter(
                        Thread { op: thread.op + 1, begun: false, tests: thread.tests.clone() },
                        &mut next,
                    );
                }
                Some(Op::Expression(form, number)) => {
                    let takes = match form {
                        Expression::Segment => symbol != SLASH,
                        Expression::Any => true,
                        Expression::Segments => thread.begun || symbol == SLASH,
                    };
                    if takes {
                        let mut thread = Thread { begun: true, ..thread.clone() };
                        for (progress, (of, test)) in thread.tests.iter_mut().zip(&self.tests) {
                            if of == number {
                                *progress = test.step(*progress, symbol);
                            }
                        }
                        self.enter(thread, &mut next);
                    }
                }
                _ => {}
            }
        }
        if next.is_empty() { State::Dead } else { State::Threads(next) }
    }

    /// Whether each expression is one of a list.
    fn is_listed(&self) -> bool {
        let mut expressions = self.ops.iter().filter_map(|op| match op {
            Op::Expression(_, number) => Some(*number),
            Op::Text(_) => None,
        });
        let is_listed =
            |number: u16| self.tests.iter().any(|(of, test)| *of == number && test.is_of_list());
        expressions.all(is_listed)
    }

    fn same(&self, text: Symbol, symbol: Symbol) -> bool {
        let lower = |symbol: Symbol| {
            u8::try_from(symbol).map_or(symbol, |byte| byte.to_ascii_lowercase().into())
        };
        text == symbol || (self.fold && lower(text) == lower(symbol))
    }

    fn accepts(&self, state: &State) -> bool {
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

impl Leaf<'_> {
    pub(super) fn start(&self) -> State {
        match self {
            Leaf::Path | Leaf::Word(_) | Leaf::Below(_) => State::At(0),
            Leaf::Pattern(pattern) => pattern.start.clone(),
            Leaf::Named(names) => {
                State::Range { low: 0, high: names.words.len() as u32, depth: 0, slash: false }
            }
            Leaf::KnownType => State::Range { low: 0, high: 0, depth: 0, slash: false },
            Leaf::Value(tests) => {
                let mut progress: Tests = tests.iter().map(CaptureTest::start).collect();
                progress.push(Progress::default());
                State::Tests(progress)
            }
        }
    }

    pub(super) fn step(&self, state: &State, symbol: Symbol) -> State {
        match (self, state) {
            (_, State::Dead) => State::Dead,
            (Leaf::Path, State::At(at)) => step_path(*at, symbol),
            (Leaf::Word(word), State::At(at)) => match word.get(*at as usize) {
                Some(next) if *next == symbol => State::At(at + 1),
                _ => State::Dead,
            },
            (Leaf::Below(text), State::At(at)) => match text.get(*at as usize) {
                Some(next) if *next == symbol => State::At(at + 1),
                None if symbol == SLASH || *at as usize > text.len() => {
                    State::At(text.len() as u32 + 1)
                }
                _ => State::Dead,
            },
            (Leaf::Pattern(pattern), state) => pattern.step(state, symbol),
            (Leaf::Named(names), State::Range { low, high, depth, slash }) => {
                names.step((*low, *high, *depth, *slash), symbol)
            }
            (Leaf::KnownType, State::Range { low, high, depth, .. }) => {
                step_type((*low, *high, *depth), symbol)
            }
            (Leaf::Value(tests), State::Tests(progress)) => {
                let begun = CaptureTest::LABEL.step(Progress::default(), Symbol::from(b'a'));
                let mut next: Tests =
                    tests.iter().zip(progress).map(|(test, at)| test.step(*at, symbol)).collect();
                next.push(begun);
                State::Tests(next)
            }
            _ => State::Dead,
        }
    }

    pub(super) fn accepts(&self, state: &State) -> bool {
        match (self, state) {
            (Leaf::Path, State::At(at)) => *at == IN_SEGMENT || *at == SEGMENT_START,
            (Leaf::Word(word), State::At(at)) => *at as usize == word.len(),
            (Leaf::Below(text), State::At(at)) => *at as usize > text.len(),
            (Leaf::Pattern(pattern), state) => pattern.accepts(state),
            (Leaf::Named(names), State::Range { low, high, depth, .. }) => {
                low < high && names.words[*low as usize].len() == *depth as usize
            }
            (Leaf::KnownType, State::Range { low, high, depth, .. }) => {
                low < high && KNOWN_TYPES[*low as usize].0.len() == *depth as usize
            }
            (Leaf::Value(tests), State::Tests(progress)) => {
                progress.last() != Some(&Progress::default())
                    && tests.iter().zip(progress).all(|(test, progress)| test.accepts(*progress))
            }
            _ => false,
        }
    }

    /// Whether it has so many words as are written in it.
    pub(super) fn is_list(&self) -> bool {
        match self {
            Leaf::Word(_) | Leaf::Named(_) => true,
            Leaf::Pattern(pattern) => pattern.is_listed(),
            Leaf::Path | Leaf::Below(_) | Leaf::KnownType | Leaf::Value(_) => false,
        }
    }

    /// Whether no word that goes on from here is in the set.
    pub(super) fn is_dead(state: &State) -> bool {
        *state == State::Dead
    }

    /// The symbols that it tells apart.
    pub(super) fn mark(&self, alphabet: &mut Alphabet) {
        match self {
            Leaf::Path => alphabet.mark(Symbol::from(b'.')),
            Leaf::Word(word) | Leaf::Below(word) => {
                word.iter().for_each(|symbol| alphabet.mark(*symbol))
            }
            Leaf::Pattern(pattern) => {
                for op in &pattern.ops {
                    if let Op::Text(symbol) = op {
                        alphabet.mark(*symbol);
                        if pattern.fold
                            && let Ok(byte) = u8::try_from(*symbol)
                        {
                            alphabet.mark(byte.to_ascii_lowercase().into());
                            alphabet.mark(byte.to_ascii_uppercase().into());
                        }
                    }
                }
                pattern.tests.iter().for_each(|(_, test)| test.mark(alphabet));
            }
            Leaf::Named(names) => {
                for symbol in &names.symbols {
                    alphabet.mark(*symbol);
                    if names.fold && *symbol < ESCAPED_SLASH {
                        alphabet.mark(meaning(*symbol).to_ascii_uppercase().into());
                    }
                }
            }
            Leaf::KnownType => {
                alphabet.mark(Symbol::from(b'.'));
                for byte in KNOWN_TYPES.iter().flat_map(|(extension, _)| extension.bytes()) {
                    alphabet.mark(byte.into());
                    alphabet.mark(byte.to_ascii_uppercase().into());
                }
            }
            Leaf::Value(tests) => tests.iter().for_each(|test| test.mark(alphabet)),
        }
    }
}

const SEGMENT_START: u32 = 1;
const ONE_DOT: u32 = 2;
const TWO_DOTS: u32 = 3;
const IN_SEGMENT: u32 = 4;

fn step_path(at: u32, symbol: Symbol) -> State {
    const DOT: Symbol = b'.' as Symbol;
    State::At(match (at, symbol) {
        (SEGMENT_START | IN_SEGMENT, SLASH) | (0, SLASH) => SEGMENT_START,
        (0, _) | (ONE_DOT | TWO_DOTS, SLASH) => return State::Dead,
        (SEGMENT_START, DOT) => ONE_DOT,
        (ONE_DOT, DOT) => TWO_DOTS,
        _ => IN_SEGMENT,
    })
}

/// Looks on among the known extensions, from the last `.` of the last segment.
fn step_type((low, high, depth): (u32, u32, u32), symbol: Symbol) -> State {
    let range = |low, high, depth| State::Range { low, high, depth, slash: false };
    if symbol == Symbol::from(b'.') {
        return range(0, KNOWN_TYPES.len() as u32, 0);
    }
    let byte = match u8::try_from(symbol) {
        Ok(byte) if byte != b'/' => byte.to_ascii_lowercase(),
        _ => return range(0, 0, 0),
    };
    let known = &KNOWN_TYPES[low as usize..high as usize];
    let here = |extension: &str| extension.as_bytes().get(depth as usize).copied();
    let from = known.partition_point(|(extension, _)| here(extension) < Some(byte)) as u32;
    let to = known.partition_point(|(extension, _)| here(extension) <= Some(byte)) as u32;
    if from == to { range(0, 0, 0) } else { range(low + from, low + to, depth + 1) }
}

impl Names {
    fn step(&self, (low, high, depth, slash): (u32, u32, u32, bool), symbol: Symbol) -> State {
        if self.tidy && slash && symbol == SLASH {
            return State::Range { low, high, depth, slash };
        }
        let symbol = match u8::try_from(symbol) {
            Ok(byte) if self.fold => byte.to_ascii_lowercase().into(),
            _ => symbol,
        };
        let range = &self.words[low as usize..high as usize];
        let here = |word: &Vec<Symbol>| word.get(depth as usize).copied();
        let from = range.partition_point(|word| here(word) < Some(symbol)) as u32;
        let to = range.partition_point(|word| here(word) <= Some(symbol)) as u32;
        if from == to {
            return State::Dead;
        }
        State::Range { low: low + from, high: low + to, depth: depth + 1, slash: symbol == SLASH }
    }
}
