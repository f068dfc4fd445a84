//! Sets of paths as automata that read one symbol after another.

use std::sync::Arc;

use super::capture::{CaptureTest, Progress};
use super::filled::FilledLeaf;
use super::image::ImageLeaf;
use super::names::Names;
use super::pattern::{PatternLeaf, leading_text, mark_ops};
use super::state::{Acceptor, State, Tests};
use super::symbol::{Alphabet, ESCAPED_SLASH, SLASH, Symbol};
use ravel::files::KNOWN_TYPES;

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
    /// Paths that go on behind a text as the leaf says; the text is not empty.
    Behind(Vec<Symbol>, Arc<Leaf<'r>>),
    /// Paths that a redirect leads to a path in a leaf.
    Image(Box<ImageLeaf<Leaf<'r>>>),
    /// No paths but values: those that, written by a redirect, make a path in a leaf.
    Filled(Box<FilledLeaf<Leaf<'r>>>),
}

impl Acceptor for Leaf<'_> {
    fn start(&self) -> State {
        match self {
            Leaf::Path | Leaf::Word(_) | Leaf::Below(_) => State::At(0),
            Leaf::Pattern(pattern) => pattern.start.clone(),
            Leaf::Named(names) => names.start(),
            Leaf::KnownType => State::Range { low: 0, high: 0, depth: 0, slash: false },
            Leaf::Value(tests) => {
                let mut progress: Tests = tests.iter().map(CaptureTest::start).collect();
                progress.push(Progress::default());
                State::Tests(progress)
            }
            Leaf::Behind(..) => State::Before(0),
            Leaf::Image(image) => image.start(),
            Leaf::Filled(filled) => filled.start(),
        }
    }

    fn step(&self, state: &State, symbol: Symbol) -> State {
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
            (Leaf::Value(_), _) if symbol == ESCAPED_SLASH => State::Dead,
            (Leaf::Value(tests), State::Tests(progress)) => {
                let begun = CaptureTest::LABEL.step(Progress::default(), Symbol::from(b'a'));
                let mut next: Tests =
                    tests.iter().zip(progress).map(|(test, at)| test.step(*at, symbol)).collect();
                if tests.iter().zip(&next).any(|(test, at)| test.is_lost(*at)) {
                    return State::Dead;
                }
                next.push(begun);
                State::Tests(next)
            }
            (Leaf::Behind(text, behind), State::Before(at)) => match text.get(*at as usize) {
                Some(next) if *next != symbol => State::Dead,
                _ if *at as usize + 1 == text.len() => behind.start(),
                _ => State::Before(at + 1),
            },
            (Leaf::Behind(_, behind), state) => behind.step(state, symbol),
            (Leaf::Image(image), State::Images(threads)) => image.step(threads, symbol),
            (Leaf::Filled(filled), state) => filled.step(state, symbol),
            _ => State::Dead,
        }
    }

    fn accepts(&self, state: &State) -> bool {
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
            (Leaf::Behind(..), State::Before(_)) => false,
            (Leaf::Behind(_, behind), state) => behind.accepts(state),
            (Leaf::Image(image), State::Images(threads)) => image.accepts(threads),
            (Leaf::Filled(filled), state) => filled.accepts(state),
            _ => false,
        }
    }

    fn mark(&self, alphabet: &mut Alphabet) {
        match self {
            Leaf::Path => alphabet.mark(Symbol::from(b'.')),
            Leaf::Word(word) | Leaf::Below(word) => {
                word.iter().for_each(|symbol| alphabet.mark(*symbol))
            }
            Leaf::Pattern(pattern) => {
                mark_ops(&pattern.ops, pattern.fold, alphabet);
                pattern.tests.iter().for_each(|(_, test)| test.mark(alphabet));
            }
            Leaf::Named(names) => names.mark(alphabet),
            Leaf::KnownType => {
                alphabet.mark(Symbol::from(b'.'));
                for byte in KNOWN_TYPES.iter().flat_map(|(extension, _)| extension.bytes()) {
                    alphabet.mark(byte.into());
                    alphabet.mark(byte.to_ascii_uppercase().into());
                }
            }
            Leaf::Value(tests) => tests.iter().for_each(|test| test.mark(alphabet)),
            Leaf::Behind(text, behind) => {
                text.iter().for_each(|symbol| alphabet.mark(*symbol));
                behind.mark(alphabet);
            }
            Leaf::Image(image) => image.mark(alphabet),
            Leaf::Filled(filled) => filled.mark(alphabet),
        }
    }
}

impl Leaf<'_> {
    /// The one symbol on which a state goes on, where it is seen that there is but one.
    pub(super) fn only(&self, state: &State) -> Option<Symbol> {
        match (self, state) {
            (Leaf::Word(word), State::At(at)) => word.get(*at as usize).copied(),
            (Leaf::Below(text), State::At(at)) => text.get(*at as usize).copied(),
            (Leaf::Pattern(pattern), State::Threads(threads)) => pattern.only(threads),
            (Leaf::Behind(text, _), State::Before(at)) => text.get(*at as usize).copied(),
            (Leaf::Behind(_, behind), state) => behind.only(state),
            _ => None,
        }
    }

    /// Whether it has so many words as are written in it.
    pub(super) fn is_list(&self) -> bool {
        match self {
            Leaf::Word(_) | Leaf::Named(_) => true,
            Leaf::Pattern(pattern) => pattern.is_listed(),
            Leaf::Behind(_, behind) => behind.is_list(),
            Leaf::Path
            | Leaf::Below(_)
            | Leaf::KnownType
            | Leaf::Value(_)
            | Leaf::Image(_)
            | Leaf::Filled(_) => false,
        }
    }

    /// Whether no word that goes on from here is in the set.
    pub(super) fn is_dead(state: &State) -> bool {
        *state == State::Dead
    }

    /// The symbols that every word of it begins with, and whether these are all.
    pub(super) fn literal_prefix(&self) -> (Vec<Symbol>, bool) {
        match self {
            Leaf::Word(word) => (word.clone(), true),
            Leaf::Below(word) => (word.clone(), false),
            Leaf::Pattern(pattern) if pattern.fold => (Vec::new(), false),
            Leaf::Pattern(pattern) => (leading_text(&pattern.ops), false),
            Leaf::Image(image) => (image.leading_text(), false),
            Leaf::Behind(text, behind) => {
                let (more, whole) = behind.literal_prefix();
                (text.iter().chain(&more).copied().collect(), whole)
            }
            Leaf::Path | Leaf::Named(_) | Leaf::KnownType | Leaf::Value(_) | Leaf::Filled(_) => {
                (Vec::new(), false)
            }
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
