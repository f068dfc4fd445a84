//! A query of which facts hold.

use std::sync::Arc;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_encode, utf8_percent_encode};

use super::fact::{Fact, SignedFact};
use super::leaf::Leaf;
use super::names::Names;
use super::ranks::Ranks;
use super::search::{SearchResult, SignedLeaf, Steps, contains, shortest};
use super::symbol::{Symbol, meaning};
use ravel::address::parameters;

/// Parameters of one key, so that all facts about it hold.
pub(super) fn parameter(
    key: &str,
    facts: &[SignedFact<'_>],
    steps: &Steps,
) -> SearchResult<Vec<String>> {
    let mut wanted: Vec<&str> = Vec::new();
    let mut unwanted: Vec<&str> = Vec::new();
    let mut first: Vec<SignedLeaf<'_>> = Vec::new();
    let mut barred: Vec<(&Ranks<'_>, u32)> = Vec::new();
    let (mut present, mut absent, mut has_first) = (false, false, false);
    for (fact, holds) in facts {
        match (&**fact, holds) {
            (Fact::Parameter(of), true) if *of == key => present = true,
            (Fact::Parameter(of), false) if *of == key => absent = true,
            (Fact::ParameterIs(of, value), true) if *of == key => wanted.push(value),
            (Fact::ParameterIs(of, value), false) if *of == key => unwanted.push(value),
            (Fact::ParameterBefore(ranks, place), false) if ranks.key == key => {
                barred.push((ranks, *place))
            }
            // Of no set of requests it is said that one of many values is there.
            (Fact::ParameterBefore(ranks, _), true) if ranks.key == key => {
                return SearchResult::Undecided;
            }
            (Fact::FirstValue(of, leaf), holds) if *of == key => {
                has_first |= holds;
                first.push((Arc::clone(leaf), *holds));
            }
            _ => {}
        }
    }
    wanted.sort_unstable();
    wanted.dedup();
    let is_barred = |value: &str| {
        unwanted.contains(&value)
            || barred.iter().any(|(ranks, place)| ranks.has_before(value, *place))
    };
    if wanted.iter().any(|value| is_barred(value)) {
        return SearchResult::Nothing;
    }
    if !present && !has_first && wanted.is_empty() {
        return SearchResult::Member(Vec::new());
    }
    if absent {
        return SearchResult::Nothing;
    }
    let written = |value: &str| format!("{}={}", form(key), form(value));
    let mut written_values: Vec<String> = Vec::new();
    let needs_first = has_first || wanted.iter().any(|value| !value.is_empty());
    if needs_first || is_barred("") {
        first.push((Arc::new(Leaf::Value(Vec::new())), true));
        let fits = |value: &&&str| {
            first.iter().all(|(leaf, holds)| contains(leaf, &word(value)) == *holds)
        };
        match wanted.iter().filter(|value| !value.is_empty()).find(fits) {
            Some(value) => written_values.push(written(value)),
            None => {
                let listed =
                    barred.iter().flat_map(|(ranks, place)| &ranks.values[..*place as usize]);
                let words = unwanted.iter().chain(listed).map(|value| word(value)).collect();
                first.push((Arc::new(Leaf::Named(Arc::new(Names::of_words(words)))), false));
                match shortest(&first, steps) {
                    SearchResult::Member(word) => {
                        let bytes: Vec<u8> = word.iter().map(|symbol| meaning(*symbol)).collect();
                        written_values.push(format!(
                            "{}={}",
                            form(key),
                            percent_encode(&bytes, FORM)
                        ));
                    }
                    SearchResult::Nothing => return SearchResult::Nothing,
                    SearchResult::Undecided => return SearchResult::Undecided,
                }
            }
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
    SearchResult::Member(written_values)
}

/// The parameters that a target writes, each with its value where that is no capture; but for those
/// whose key is escaped.
pub(crate) fn written_parameters(query: &str) -> impl Iterator<Item = (&str, Option<&str>)> {
    let is_plain = |text: &&str| !text.contains(['%', '+', '{']);
    let of_key = move |(_, key, value): (_, _, Option<_>)| {
        (key, Some(value.unwrap_or_default()).filter(is_plain))
    };
    parameters(query).filter(move |(_, key, _)| is_plain(key)).map(of_key)
}

/// All but what forms leave as it is.
const FORM: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'*');

/// A value as a word of its bytes.
fn word(value: &str) -> Vec<Symbol> {
    value.bytes().map(Symbol::from).collect()
}

fn form(text: &str) -> String {
    utf8_percent_encode(text, FORM).to_string()
}
