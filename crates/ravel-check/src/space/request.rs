//! The query and the header fields of a request of which facts hold.
//!
//! Facts are free of each other but for a few laws, which are worked out one name at a time: a
//! parameter with a value is there, a field that is a text contains every part of it.

use http::header::{COOKIE, HeaderMap, HeaderName, HeaderValue};

use super::fact::{Fact, SignedFact};
use super::query::parameter;
use super::search::{SearchResult, Steps};
use ravel::program::ValueSet;

/// The query and the header fields of a request of which the facts hold; none where they exclude
/// each other.
pub(super) fn request_with(
    facts: &[SignedFact<'_>],
    steps: &Steps,
) -> SearchResult<(Option<String>, HeaderMap)> {
    let mut query: Vec<String> = Vec::new();
    for key in names(facts, Fact::parameter) {
        match parameter(key, facts, steps) {
            SearchResult::Member(values) => query.extend(values),
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
        }
    }
    let mut headers = HeaderMap::new();
    let mut cookies: Vec<String> = Vec::new();
    for name in
        names(facts, |fact| if let Fact::Cookie(name, _) = fact { Some(*name) } else { None })
    {
        match cookie(name, facts) {
            SearchResult::Member(values) => cookies.extend(values),
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
        }
    }
    let mut add = |name: &HeaderName, value: &str| match HeaderValue::from_bytes(value.as_bytes()) {
        Ok(value) => {
            headers.append(name, value);
            true
        }
        Err(_) => false,
    };
    if !cookies.is_empty() && !add(&COOKIE, &cookies.join("; ")) {
        return SearchResult::Undecided;
    }
    for name in
        names(facts, |fact| if let Fact::Header(name, _) = fact { Some(*name) } else { None })
    {
        match header(name, facts) {
            SearchResult::Member(Some(value)) if !add(name, &value) => {
                return SearchResult::Undecided;
            }
            SearchResult::Member(_) => {}
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
        }
    }
    // A header and a cookie can ask of the same line.
    let headers_hold = |(fact, holds): &SignedFact<'_>| match &**fact {
        Fact::Cookie(..) | Fact::Header(..) => fact.holds(&headers) == *holds,
        _ => true,
    };
    match facts.iter().all(headers_hold) {
        true => SearchResult::Member(((!query.is_empty()).then(|| query.join("&")), headers)),
        false => SearchResult::Undecided,
    }
}

/// The names that some kind of fact is about, once each.
fn names<'f, 'r, N: PartialEq>(
    facts: &'f [SignedFact<'r>],
    of: impl Fn(&'f Fact<'r>) -> Option<N>,
) -> Vec<N> {
    let mut names = Vec::new();
    for name in facts.iter().filter_map(|(fact, _)| of(fact)) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

/// The sets of values of those facts that hold, or do not, and that `of` picks.
fn accepted<'r>(
    facts: &[SignedFact<'r>],
    wanted: bool,
    of: impl Fn(&Fact<'r>) -> Option<&'r ValueSet>,
) -> Vec<&'r ValueSet> {
    facts.iter().filter(|(_, holds)| *holds == wanted).filter_map(|(fact, _)| of(fact)).collect()
}

/// Cookies of one name, so that all facts about it hold: every wanted set has a value of its own.
fn cookie(name: &str, facts: &[SignedFact<'_>]) -> SearchResult<Vec<String>> {
    let about = |wanted| {
        accepted(facts, wanted, |fact| match fact {
            Fact::Cookie(of, values) if *of == name => Some(values),
            _ => None,
        })
    };
    let unwanted = about(false);
    let mut cookies = Vec::new();
    for wanted in about(true) {
        match value_in(&[wanted], &unwanted, |value| {
            !value.contains(';') && value.trim_matches([' ', '\t']) == value
        }) {
            SearchResult::Member(value) => cookies.push(format!("{name}={value}")),
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
        }
    }
    cookies.sort();
    cookies.dedup();
    SearchResult::Member(cookies)
}

/// The value of a header, so that all facts about it hold; none where it need not be there.
fn header(name: &HeaderName, facts: &[SignedFact<'_>]) -> SearchResult<Option<String>> {
    let about = |wanted| {
        accepted(facts, wanted, |fact| match fact {
            Fact::Header(of, values) if *of == name => Some(values),
            _ => None,
        })
    };
    let (wanted, unwanted) = (about(true), about(false));
    if wanted.is_empty() {
        return SearchResult::Member(None);
    }
    match value_in(&wanted, &unwanted, |value| value.trim_matches([' ', '\t']) == value) {
        SearchResult::Member(value) => SearchResult::Member(Some(value)),
        SearchResult::Nothing => SearchResult::Nothing,
        SearchResult::Undecided => SearchResult::Undecided,
    }
}

/// A value in all of some sets and in none of others.
fn value_in(
    wanted: &[&ValueSet],
    unwanted: &[&ValueSet],
    can_be_sent: impl Fn(&str) -> bool,
) -> SearchResult<String> {
    let fits = |value: &str| {
        let value_in = |set: &&ValueSet| set.contains(Some(value.as_bytes()));
        can_be_sent(value) && wanted.iter().all(value_in) && !unwanted.iter().any(value_in)
    };
    let listed = wanted.iter().find_map(|set| match set {
        ValueSet::OneOf(list) => Some(list),
        ValueSet::Any | ValueSet::Containing(_) => None,
    });
    if let Some(list) = listed {
        return list
            .iter()
            .find(|value| fits(value))
            .map_or(SearchResult::Nothing, |value| SearchResult::Member(value.to_string()));
    }
    let parts: Vec<&str> = wanted
        .iter()
        .filter_map(|set| match set {
            ValueSet::Containing(text) => Some(&**text),
            ValueSet::Any | ValueSet::OneOf(_) => None,
        })
        .collect();
    // What contains a part that it must not contain is nowhere; else some filler between the parts
    // will do.
    let impossible = unwanted.iter().any(|set| match set {
        ValueSet::Any => true,
        ValueSet::Containing(text) => {
            text.is_empty() || parts.iter().any(|part| part.contains(&**text))
        }
        ValueSet::OneOf(_) => false,
    });
    if impossible {
        return SearchResult::Nothing;
    }
    const FILLERS: [&str; 5] = ["", "1", "a", "~", "%"];
    let around = |filler: &str, times: usize| {
        let filler = filler.repeat(times);
        format!("{filler}{}{filler}", parts.join(&filler))
    };
    let plain = (!parts.is_empty()).then(|| parts.join("~"));
    let filled = (1..=unwanted.len() + 1)
        .flat_map(|times| FILLERS.iter().map(move |filler| around(filler, times)));
    let found = plain.into_iter().chain(filled).find(|value| !value.is_empty() && fits(value));
    found.map_or(SearchResult::Undecided, SearchResult::Member)
}
