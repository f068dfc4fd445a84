use std::fmt;

use http::{HeaderName, Method};
use regex_automata::dfa::{Automaton, dense};
use regex_automata::util::primitives::StateID;
use regex_automata::{Anchored, MatchKind, util::syntax};
use rustc_hash::FxHashMap;

use crate::address::{Host, Scheme};
use crate::language::{Place, ProblemKind};

/// What must hold besides the pattern.
#[derive(Debug, Clone, Default)]
pub struct Conditions {
    /// What captures must be.
    pub wheres: Vec<Where>,
    /// What the request must be.
    pub whens: Vec<When>,
    /// The request headers that `whens` look at, as bits of the rules' list of them.
    pub(crate) vary: u64,
}

/// `where NAME …`: narrows a capture; looks at its decoded text.
#[derive(Debug, Clone)]
pub struct Where {
    /// The capture.
    pub name: Box<str>,
    /// What its text must be.
    pub test: WhereTest,
    /// Where the name stands.
    pub place: Place,
}

/// What a capture's text must be.
#[derive(Debug, Clone)]
pub enum WhereTest {
    /// ASCII digits, this many of them.
    Digits {
        /// At least; 1 or more.
        least: usize,
        /// At most, if there is a limit.
        most: Option<usize>,
    },
    /// One of a list.
    OneOf(Vec<Box<str>>),
    /// None of a list.
    NotOneOf(Vec<Box<str>>),
    /// Matched, as a whole, by a regular expression.
    Matches(Box<WholeRegex>),
}

/// `when …`: asks something of the request.
#[derive(Debug, Clone)]
pub struct When {
    /// Whether `not` stands before it.
    pub negated: bool,
    /// What is asked.
    pub test: WhenTest,
}

/// What is asked of a request.
#[derive(Debug, Clone)]
pub enum WhenTest {
    /// The visitor's language, out of the site's, is one of these (indices into the site's list).
    Language(Vec<usize>),
    /// A cookie stands there, or has this value.
    Cookie(Box<str>, Option<Box<str>>),
    /// A request header.
    Header(HeaderName, HeaderTest),
    /// The host is one of these.
    Host(Vec<Host>),
    /// The scheme.
    Scheme(Scheme),
    /// The method is one of these; `GET` covers `HEAD`.
    Method(Vec<Method>),
    /// The request came to a preview host.
    Preview,
    /// No spelling of the address names a file.
    NoFile,
}

/// What is asked of a request header.
#[derive(Debug, Clone)]
pub enum HeaderTest {
    /// That it stands there.
    Present,
    /// That one of its fields has this value.
    Is(Box<str>),
    /// That one of its fields holds this text.
    Contains(Box<str>),
}

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
        let parsed = regex_syntax::ParserBuilder::new().unicode(false).utf8(false).build().parse(source);
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
            .thompson(regex_automata::nfa::thompson::Config::new().utf8(false).nfa_size_limit(Some(4 * REGEX_TABLE)))
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
    pub(crate) fn start(&self) -> u32 {
        self.start.as_u32()
    }

    /// The state after one more byte; none if no text can match any more.
    pub(crate) fn next(&self, state: u32, byte: u8) -> Option<u32> {
        let next = self.table.next_state(state_of(state), byte);
        (!self.table.is_dead_state(next)).then(|| next.as_u32())
    }

    /// Whether a text that ends here matches.
    pub(crate) fn accepts(&self, state: u32) -> bool {
        self.table.is_match_state(self.table.next_eoi_state(state_of(state)))
    }

    /// A class for each byte: bytes of one class lead to the same states everywhere.
    pub(crate) fn classes(&self) -> [u8; 256] {
        let states = self.reachable();
        let mut rows: Vec<Vec<Option<u32>>> = Vec::new();
        let mut classes = [0; 256];
        for byte in 0..=u8::MAX {
            let row: Vec<Option<u32>> = states.iter().map(|state| self.next(*state, byte)).collect();
            let class = rows.iter().position(|known| *known == row).unwrap_or_else(|| {
                rows.push(row);
                rows.len() - 1
            });
            classes[usize::from(byte)] = class as u8;
        }
        classes
    }

    /// The whole of it as a table: a class for each byte; for each state and class the next state or -1, a row a state, the first state
    /// first; and whether a text may end in each state.
    pub(crate) fn as_table(&self) -> (Vec<u8>, Vec<i64>, Vec<u8>) {
        let classes = self.classes();
        let width = classes.iter().max().map_or(0, |most| usize::from(*most) + 1);
        let samples: Vec<u8> =
            (0..width).filter_map(|class| (0..=u8::MAX).find(|byte| usize::from(classes[usize::from(*byte)]) == class)).collect();
        let states = self.reachable();
        let number: FxHashMap<u32, i64> = (0..).zip(&states).map(|(number, state)| (*state, number)).collect();
        let next = |state: &u32| {
            let state = *state;
            let number = &number;
            samples.iter().map(move |byte| self.next(state, *byte).map_or(-1, |next| number[&next])).collect::<Vec<_>>()
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
    pub(crate) fn shortest(&self) -> Option<String> {
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
        _ => "it can not be read".to_owned(),
    }
}

impl WhereTest {
    /// Whether a decoded text is as wanted.
    pub fn holds(&self, text: &[u8], ignore_case: bool) -> bool {
        let same = |listed: &str| match ignore_case {
            true => listed.as_bytes().eq_ignore_ascii_case(text),
            false => listed.as_bytes() == text,
        };
        match self {
            WhereTest::Digits { least, most } => {
                text.iter().all(u8::is_ascii_digit) && text.len() >= *least && most.is_none_or(|most| text.len() <= most)
            }
            WhereTest::OneOf(list) => list.iter().any(|listed| same(listed)),
            WhereTest::NotOneOf(list) => !list.iter().any(|listed| same(listed)),
            WhereTest::Matches(regex) => regex.is_match(text),
        }
    }
}

impl fmt::Display for Where {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "where {} ", self.name)?;
        match &self.test {
            WhereTest::Digits { least: 1, most: None } => f.write_str("is digits"),
            WhereTest::Digits { least, most: Some(most) } if least == most => write!(f, "is digits {least}"),
            WhereTest::Digits { least, most } => {
                write!(f, "is digits {least}..")?;
                most.iter().try_for_each(|most| write!(f, "{most}"))
            }
            WhereTest::OneOf(list) => write!(f, "is one of {}", joined(list)),
            WhereTest::NotOneOf(list) => write!(f, "is not one of {}", joined(list)),
            WhereTest::Matches(regex) => write!(f, "matches \"{}\"", regex.as_str()),
        }
    }
}

impl When {
    /// The condition as it is written; languages are named from the site's list.
    pub fn written(&self, languages: &[Box<str>]) -> String {
        let not = if self.negated { "not " } else { "" };
        let asked = match &self.test {
            WhenTest::Language(list) => {
                format!("language is {}", joined(list.iter().filter_map(|&at| languages.get(at))))
            }
            WhenTest::Cookie(name, None) => format!("cookie {name}"),
            WhenTest::Cookie(name, Some(value)) => format!("cookie {name} is {value}"),
            WhenTest::Header(name, HeaderTest::Present) => format!("header {name}"),
            WhenTest::Header(name, HeaderTest::Is(value)) => format!("header {name} is {value}"),
            WhenTest::Header(name, HeaderTest::Contains(text)) => format!("header {name} contains {text}"),
            WhenTest::Host(hosts) => format!("host is {}", joined(hosts.iter())),
            WhenTest::Scheme(scheme) => format!("scheme is {scheme}"),
            WhenTest::Method(methods) => format!("method is {}", joined(methods.iter())),
            WhenTest::Preview => "preview".to_owned(),
            WhenTest::NoFile => "no file".to_owned(),
        };
        format!("when {not}{asked}")
    }
}

fn joined<T: fmt::Display>(list: impl IntoIterator<Item = T>) -> String {
    list.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}
