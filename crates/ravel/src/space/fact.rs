//! What can hold of a request besides its address's path: parameters of the query, cookies, header fields.
//!
//! Facts are free of each other but for a few laws, which are worked out one name at a time: a parameter with a value is
//! there, a field that is a text contains every part of it.

use std::sync::Arc;

use http::header::{COOKIE, HeaderMap, HeaderName, HeaderValue};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use super::capture::CaptureTest;
use super::leaf::Leaf;
use super::search::{Found, Signed, shortest};
use super::symbol::meaning;
use crate::edge::holds_for;
use crate::rules::{HeaderTest, WhenTest};

/// Something that can hold of a request.
#[derive(Debug, Clone)]
pub(super) enum Fact<'r> {
    /// The query has this key, decoded.
    Parameter(&'r str),
    /// The query has this key with this value, both decoded.
    ParameterIs(&'r str, &'r str),
    /// The key has a value that is not empty, and the first of them passes the tests.
    FirstValue(&'r str, Vec<CaptureTest<'r>>),
    /// A cookie is there, or has this value.
    Cookie(&'r str, Option<&'r str>),
    /// A header field.
    Header(&'r HeaderName, &'r HeaderTest),
}

impl Fact<'_> {
    /// Whether it holds under these header fields; none where they do not name what it is about.
    pub(super) fn under(&self, headers: &HeaderMap) -> Option<bool> {
        let test = match self {
            Fact::Cookie(name, value) if headers.contains_key(COOKIE) => WhenTest::Cookie((*name).into(), value.map(Into::into)),
            Fact::Header(name, test) if headers.contains_key(*name) => WhenTest::Header((*name).clone(), (*test).clone()),
            _ => return None,
        };
        Some(holds_for(&test, headers))
    }
}

/// A fact, and whether it holds.
pub(super) type SignedFact<'r> = (Arc<Fact<'r>>, bool);

/// The query and the header fields of a request of which the facts hold; none where they exclude each other.
pub(super) fn request_with(facts: &[SignedFact<'_>]) -> Found<(Option<String>, HeaderMap)> {
    let mut query: Vec<String> = Vec::new();
    for key in names(facts, |fact| match fact {
        Fact::Parameter(key) | Fact::ParameterIs(key, _) | Fact::FirstValue(key, _) => Some(*key),
        _ => None,
    }) {
        match parameter(key, facts) {
            Found::Member(values) => query.extend(values),
            Found::Nothing => return Found::Nothing,
            Found::Undecided => return Found::Undecided,
        }
    }
    let mut headers = HeaderMap::new();
    let mut cookies: Vec<String> = Vec::new();
    for name in names(facts, |fact| if let Fact::Cookie(name, _) = fact { Some(*name) } else { None }) {
        match cookie(name, facts) {
            Some(values) => cookies.extend(values),
            None => return Found::Nothing,
        }
    }
    if !cookies.is_empty() {
        match HeaderValue::from_str(&cookies.join("; ")) {
            Ok(value) => drop(headers.append(COOKIE, value)),
            Err(_) => return Found::Undecided,
        }
    }
    for name in names(facts, |fact| if let Fact::Header(name, _) = fact { Some(*name) } else { None }) {
        let Some(values) = header(name, facts) else { return Found::Nothing };
        for value in values {
            match HeaderValue::from_str(&value) {
                Ok(value) => drop(headers.append(name, value)),
                Err(_) => return Found::Undecided,
            }
        }
    }
    Found::Member(((!query.is_empty()).then(|| query.join("&")), headers))
}

/// The names that some kind of fact is about, once each.
fn names<'f, 'r, N: PartialEq>(facts: &'f [SignedFact<'r>], of: impl Fn(&'f Fact<'r>) -> Option<N>) -> Vec<N> {
    let mut names = Vec::new();
    for name in facts.iter().filter_map(|(fact, _)| of(fact)) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

/// Parameters of one key, so that all facts about it hold.
fn parameter(key: &str, facts: &[SignedFact<'_>]) -> Found<Vec<String>> {
    let mut wanted: Vec<&str> = Vec::new();
    let mut unwanted: Vec<&str> = Vec::new();
    let mut first: Vec<Signed<'_>> = Vec::new();
    let (mut present, mut absent, mut has_first) = (false, false, false);
    for (fact, holds) in facts {
        match (&**fact, holds) {
            (Fact::Parameter(of), true) if *of == key => present = true,
            (Fact::Parameter(of), false) if *of == key => absent = true,
            (Fact::ParameterIs(of, value), true) if *of == key => wanted.push(value),
            (Fact::ParameterIs(of, value), false) if *of == key => unwanted.push(value),
            (Fact::FirstValue(of, tests), holds) if *of == key => {
                has_first |= holds;
                first.push((Arc::new(Leaf::Value(tests.clone())), *holds));
            }
            _ => {}
        }
    }
    wanted.sort_unstable();
    wanted.dedup();
    if wanted.iter().any(|value| unwanted.contains(value)) {
        return Found::Nothing;
    }
    if !present && !has_first && wanted.is_empty() {
        return Found::Member(Vec::new());
    }
    if absent {
        return Found::Nothing;
    }
    let written = |value: &str| format!("{}={}", form(key), form(value));
    let mut written_values: Vec<String> = Vec::new();
    let needs_first = has_first || wanted.iter().any(|value| !value.is_empty());
    let empty_fits = !unwanted.contains(&"");
    if needs_first || !empty_fits {
        // Something stands there that is not empty, and the first such value must be as the facts say.
        first.push((Arc::new(Leaf::Value(Vec::new())), true));
        for value in &unwanted {
            first.push((Arc::new(Leaf::Word(value.bytes().map(u16::from).collect())), false));
        }
        let fits = |value: &&&str| {
            let word: Vec<u16> = value.bytes().map(u16::from).collect();
            first.iter().all(|(leaf, holds)| super::search::contains(leaf, &word) == *holds)
        };
        match wanted.iter().filter(|value| !value.is_empty()).find(fits) {
            Some(value) => written_values.push(written(value)),
            None => match shortest(&first) {
                Found::Member(word) => {
                    let bytes: Vec<u8> = word.iter().map(|symbol| meaning(*symbol)).collect();
                    written_values.push(format!("{}={}", form(key), percent_encoding::percent_encode(&bytes, FORM)));
                }
                Found::Nothing => return Found::Nothing,
                Found::Undecided => return Found::Undecided,
            },
        }
    } else if wanted.is_empty() {
        written_values.push(form(key));
    }
    for value in wanted {
        let text = if value.is_empty() { form(key) } else { written(value) };
        if !written_values.contains(&text) {
            written_values.push(text);
        }
    }
    Found::Member(written_values)
}

fn cookie(name: &str, facts: &[SignedFact<'_>]) -> Option<Vec<String>> {
    let mut wanted: Vec<&str> = Vec::new();
    let mut unwanted: Vec<&str> = Vec::new();
    let (mut present, mut absent) = (false, false);
    for (fact, holds) in facts {
        match (&**fact, holds) {
            (Fact::Cookie(of, None), true) if *of == name => present = true,
            (Fact::Cookie(of, None), false) if *of == name => absent = true,
            (Fact::Cookie(of, Some(value)), true) if *of == name => wanted.push(value),
            (Fact::Cookie(of, Some(value)), false) if *of == name => unwanted.push(value),
            _ => {}
        }
    }
    if wanted.iter().any(|value| unwanted.contains(value)) || (absent && (present || !wanted.is_empty())) {
        return None;
    }
    if present && wanted.is_empty() {
        return Some(vec![format!("{name}={}", other_than(&unwanted))]);
    }
    wanted.dedup();
    Some(wanted.iter().map(|value| format!("{name}={value}")).collect())
}

/// A value that is none of these.
fn other_than(unwanted: &[&str]) -> String {
    let mut value = "1".to_owned();
    while unwanted.contains(&&*value) {
        value.push('1');
    }
    value
}

fn header(name: &HeaderName, facts: &[SignedFact<'_>]) -> Option<Vec<String>> {
    let mut tests: Vec<(&HeaderTest, bool)> = Vec::new();
    for (fact, holds) in facts {
        if let Fact::Header(of, test) = &**fact
            && *of == name
        {
            tests.push((test, *holds));
        }
    }
    let fits = |value: &str| {
        tests.iter().filter(|(_, holds)| !holds).all(|(test, _)| match test {
            HeaderTest::Present => false,
            HeaderTest::Is(unwanted) => value != &**unwanted,
            HeaderTest::Contains(unwanted) => !value.contains(&**unwanted),
        })
    };
    let mut values = Vec::new();
    for (test, holds) in &tests {
        let value = match (test, holds) {
            (HeaderTest::Is(text), true) => text.to_string(),
            // A text that must not be the whole value gets something around it.
            (HeaderTest::Contains(text), true) if fits(text) => text.to_string(),
            (HeaderTest::Contains(text), true) => format!("~{text}~"),
            (HeaderTest::Present, true) => ["1", "a", "~", "%"].into_iter().find(|value| fits(value))?.to_owned(),
            (_, false) => continue,
        };
        if !fits(&value) {
            return None;
        }
        if !values.contains(&value) {
            values.push(value);
        }
    }
    Some(values)
}

/// All but what forms leave as it is.
const FORM: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'*');

fn form(text: &str) -> String {
    utf8_percent_encode(text, FORM).to_string()
}
