//! What can hold of a request besides its address's path: parameters of the query, cookies, header
//! fields.

use std::borrow::Cow;
use std::sync::Arc;

use http::header::{COOKIE, HeaderMap, HeaderName};

use super::leaf::Leaf;
use super::ranks::Ranks;
use super::search::contains;
use super::symbol::Symbol;
use ravel::Request;
use ravel::address::{form_decode, parameters};
use ravel::edge::{cookie_is, header_is};
use ravel::program::ValueSet;

/// Something that can hold of a request.
#[derive(Debug, Clone)]
pub(super) enum Fact<'r> {
    /// The query has this key, decoded.
    Parameter(&'r str),
    /// The query has this key with this value, both decoded.
    ParameterIs(&'r str, &'r str),
    /// A key has a value that comes before a place in a list of values.
    ParameterBefore(Arc<Ranks<'r>>, u32),
    /// The key has a value that is not empty, and the first of them is in the leaf.
    FirstValue(&'r str, Arc<Leaf<'r>>),
    /// A cookie with such a value is there.
    Cookie(&'r str, &'r ValueSet),
    /// A header has such a value.
    Header(&'r HeaderName, &'r ValueSet),
}

impl Fact<'_> {
    /// Whether it holds under these headers; none where they do not name what it is about.
    pub(super) fn under(&self, headers: &HeaderMap) -> Option<bool> {
        match self {
            Fact::Cookie(..) => headers.contains_key(COOKIE).then(|| self.holds(headers)),
            Fact::Header(name, _) => headers.contains_key(*name).then(|| self.holds(headers)),
            Fact::Parameter(_)
            | Fact::ParameterIs(..)
            | Fact::ParameterBefore(..)
            | Fact::FirstValue(..) => None,
        }
    }

    /// Whether it holds of a request.
    pub(super) fn is_of(&self, request: &Request) -> bool {
        let query = request.address().ok().and_then(|address| address.query());
        self.of_query(query.unwrap_or_default()).unwrap_or_else(|| self.holds(request.headers()))
    }

    /// Whether it holds of a query; none where it is about something else.
    pub(super) fn of_query(&self, query: &str) -> Option<bool> {
        match self {
            Fact::Parameter(key) => Some(values(query, key).next().is_some()),
            Fact::ParameterIs(key, wanted) => {
                Some(values(query, key).any(|value| *value == *wanted.as_bytes()))
            }
            Fact::ParameterBefore(ranks, place) => Some(values(query, ranks.key).any(|value| {
                std::str::from_utf8(&value).is_ok_and(|value| ranks.has_before(value, *place))
            })),
            Fact::FirstValue(key, leaf) => {
                let first = values(query, key).find(|value| !value.is_empty());
                let word = |value: &[u8]| -> Vec<Symbol> {
                    value.iter().map(|byte| Symbol::from(*byte)).collect()
                };
                Some(first.is_some_and(|value| contains(leaf, &word(&value))))
            }
            Fact::Cookie(..) | Fact::Header(..) => None,
        }
    }

    /// The key of the parameter that it is about.
    pub(super) fn parameter(&self) -> Option<&str> {
        match self {
            Fact::Parameter(key) | Fact::ParameterIs(key, _) | Fact::FirstValue(key, _) => {
                Some(key)
            }
            Fact::ParameterBefore(ranks, _) => Some(ranks.key),
            Fact::Cookie(..) | Fact::Header(..) => None,
        }
    }

    /// The value that a parameter has.
    pub(super) fn value_of(&self, key: &str) -> Option<&str> {
        match self {
            Fact::ParameterIs(of, value) if *of == key => Some(value),
            _ => None,
        }
    }

    /// Whether it holds of all queries in which a parameter has a value.
    pub(super) fn is_of_value(&self, key: &str, value: &str) -> bool {
        match self {
            Fact::Parameter(of) => *of == key,
            Fact::ParameterIs(of, known) => *of == key && *known == value,
            Fact::ParameterBefore(ranks, place) => {
                ranks.key == key && ranks.has_before(value, *place)
            }
            Fact::FirstValue(..) | Fact::Cookie(..) | Fact::Header(..) => false,
        }
    }

    /// Whether two facts about parameters are one.
    pub(super) fn is(&self, other: &Fact<'_>) -> bool {
        match (self, other) {
            (Fact::Parameter(key), Fact::Parameter(other)) => key == other,
            (Fact::ParameterIs(key, value), Fact::ParameterIs(other, others)) => {
                value == others && key == other
            }
            (Fact::FirstValue(key, leaf), Fact::FirstValue(other, others)) => {
                key == other && Arc::ptr_eq(leaf, others)
            }
            _ => false,
        }
    }

    pub(super) fn is_of_query(&self) -> bool {
        self.parameter().is_some()
    }

    /// Whether it holds of a request with no other headers than these; of the query nothing is
    /// known here.
    pub(super) fn holds(&self, headers: &HeaderMap) -> bool {
        match self {
            Fact::Cookie(name, values) => cookie_is(headers, name, values),
            Fact::Header(name, values) => header_is(headers, name, values),
            Fact::Parameter(_)
            | Fact::ParameterIs(..)
            | Fact::ParameterBefore(..)
            | Fact::FirstValue(..) => true,
        }
    }
}

/// The values of a parameter, decoded.
fn values<'q>(query: &'q str, key: &'q str) -> impl Iterator<Item = Cow<'q, [u8]>> {
    let of_key = parameters(query).filter(|(_, name, _)| *form_decode(name) == *key.as_bytes());
    of_key.map(|(.., value)| form_decode(value.unwrap_or_default()))
}

/// A fact, and whether it holds.
pub(super) type SignedFact<'r> = (Arc<Fact<'r>>, bool);
