//! Regular expressions that stand for a whole text.

use std::fmt;

use regex_automata::dfa::{Automaton, dense};
use regex_automata::util::primitives::StateID;
use regex_automata::{Anchored, MatchKind, util::syntax};
use rustc_hash::FxHashMap;

use crate::language::ProblemKind;

/// A regular expression that stands for a whole text, as a table: no text makes it slow.
#[derive(Clone)]
pub struct WholeRegex {
    source: Box<str>,
    table: dense::DFA<Vec<u32>>,
    start: StateID,
}

/// The largest table of one regular expression, in bytes.
const REGEX_TABLE: usize = 256 * 1024;

impl WholeRegex {
    pub(crate) fn new(source: &str) -> Result<WholeRegex, ProblemKind> {
        let wrong = |why: &str| ProblemKind::Regex { why: why.to_owned() };
        if !source.is_ascii() {
            return Err(wrong("it holds a character that is not ASCII"));
        }
        let parsed =
            regex_syntax::ParserBuilder::new().unicode(false).utf8(false).build().parse(source);
        let hir = parsed.map_err(|error| wrong(&first_words(&error)))?;
        if !hir.properties().look_set().is_empty() {
            return Err(wrong("it holds an anchor or a word boundary"));
        }
        let built = dense::Builder::new()
            .configure(
                dense::Config::new()
                    .match_kind(MatchKind::All)
                    .start_kind(regex_automata::dfa::StartKind::Anchored)
                    .dfa_size_limit(Some(REGEX_TABLE))
                    .determinize_size_limit(Some(4 * REGEX_TABLE)),
            )
            .syntax(syntax::Config::new().unicode(false).utf8(false))
            .thompson(
                regex_automata::nfa::thompson::Config::new()
                    .utf8(false)
                    .nfa_size_limit(Some(4 * REGEX_TABLE)),
            )
            .build(source);
        let table = built.map_err(|_| ProblemKind::RegexSize)?;
        let config = regex_automata::util::start::Config::new().anchored(Anchored::Yes);
        let start = table.start_state(&config).map_err(|_| ProblemKind::RegexSize)?;
        Ok(WholeRegex { source: source.into(), table, start })
    }

    /// Whether it matches the whole text.
    pub fn is_match(&self, text: &[u8]) -> bool {
        let mut state = self.start;
        for &byte in text {
            state = self.table.next_state(state, byte);
            if self.table.is_dead_state(state) {
                return false;
            }
        }
        self.table.is_match_state(self.table.next_eoi_state(state))
    }

    /// The expression as it is written.
    pub fn as_str(&self) -> &str {
        &self.source
    }

    /// The state before any byte.
    pub fn start(&self) -> u32 {
        self.start.as_u32()
    }

    /// The state after one more byte; none if no text can match any more.
    pub fn next(&self, state: u32, byte: u8) -> Option<u32> {
        let next = self.table.next_state(state_of(state), byte);
        (!self.table.is_dead_state(next)).then(|| next.as_u32())
    }

    /// Whether a text that ends here matches.
    pub fn accepts(&self, state: u32) -> bool {
        self.table.is_match_state(self.table.next_eoi_state(state_of(state)))
    }

    /// A class for each byte: bytes of one class lead to the same states everywhere.
    pub fn classes(&self) -> [u8; 256] {
        let states = self.reachable();
        let mut rows: Vec<Vec<Option<u32>>> = Vec::new();
        let mut classes = [0; 256];
        for byte in 0..=u8::MAX {
            let row: Vec<Option<u32>> =
                states.iter().map(|state| self.next(*state, byte)).collect();
            let class = rows.iter().position(|known| *known == row).unwrap_or_else(|| {
                rows.push(row);
                rows.len() - 1
            });
            classes[usize::from(byte)] = class as u8;
        }
        classes
    }

    /// The whole of it as a table: a class for each byte; for each state and class the next state
    /// or -1, a row a state, the first state first; and whether a text may end in each state.
    pub fn as_table(&self) -> (Vec<u8>, Vec<i64>, Vec<u8>) {
        let classes = self.classes();
        let width = classes.iter().max().map_or(0, |most| usize::from(*most) + 1);
        let samples: Vec<u8> = (0..width)
            .filter_map(|class| {
                (0..=u8::MAX).find(|byte| usize::from(classes[usize::from(*byte)]) == class)
            })
            .collect();
        let states = self.reachable();
        let number: FxHashMap<u32, i64> =
            (0..).zip(&states).map(|(number, state)| (*state, number)).collect();
        let next = |state: &u32| {
            let state = *state;
            let number = &number;
            samples
                .iter()
                .map(move |byte| self.next(state, *byte).map_or(-1, |next| number[&next]))
                .collect::<Vec<_>>()
        };
        let last = states.iter().map(|state| u8::from(self.accepts(*state))).collect();
        (classes.to_vec(), states.iter().flat_map(next).collect(), last)
    }

    fn reachable(&self) -> Vec<u32> {
        let mut states = vec![self.start()];
        let mut at = 0;
        while let Some(&state) = states.get(at) {
            for byte in 0..=u8::MAX {
                if let Some(next) = self.next(state, byte)
                    && !states.contains(&next)
                {
                    states.push(next);
                }
            }
            at += 1;
        }
        states
    }

    /// A short text that it matches, of printable ASCII.
    pub fn shortest(&self) -> Option<String> {
        let mut seen = vec![(self.start(), String::new())];
        let mut at = 0;
        while let Some((state, text)) = seen.get(at).cloned() {
            if self.accepts(state) {
                return Some(text);
            }
            for byte in (b'a'..=b'z').chain(b'0'..=b'9').chain(b'!'..=b'~') {
                if let Some(next) = self.next(state, byte)
                    && !seen.iter().any(|(known, _)| *known == next)
                {
                    seen.push((next, format!("{text}{}", char::from(byte))));
                }
            }
            at += 1;
        }
        None
    }
}

fn state_of(state: u32) -> StateID {
    StateID::must(state as usize)
}

impl fmt::Debug for WholeRegex {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("WholeRegex").field(&self.source).finish()
    }
}

/// The one line of a regular expression's error that is about the error.
fn first_words(error: &regex_syntax::Error) -> String {
    match error {
        regex_syntax::Error::Parse(error) => error.kind().to_string(),
        regex_syntax::Error::Translate(error) => error.kind().to_string(),
        _ => "it cannot be read".to_owned(),
    }
}
