//! Reads the query of a pattern: the parameters that it wants.

use std::borrow::Cow;

use super::capture::{CaptureValue, Captures, Source};
use super::error::{TemplateError, TemplateErrorKind as Kind};
use super::parse;
use crate::address::{form_decode, parameters};

type Result<T> = std::result::Result<T, TemplateError>;

/// One parameter that a pattern wants.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QueryPart {
    pub(crate) key: Box<str>,
    pub(crate) test: QueryTest,
}

/// What a pattern wants of a parameter's value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum QueryTest {
    /// `?key`: that the key stands there.
    Present,
    /// `?key=text`: that any occurrence has this value, decoded.
    Text(Box<str>),
    /// `?key={name}`: the first occurrence that is not empty.
    Capture(Box<str>),
}

impl QueryPart {
    pub(super) fn matches<'r>(&self, query: &'r str, captures: &mut Captures<'r>) -> bool {
        let mut values = parameters(query)
            .filter(|(_, key, _)| *form_decode(key) == *self.key.as_bytes())
            .map(|(_, _, value)| value.unwrap_or_default());
        match &self.test {
            QueryTest::Present => values.next().is_some(),
            QueryTest::Text(wanted) => {
                values.any(|value| *form_decode(value) == *wanted.as_bytes())
            }
            QueryTest::Capture(_) => match values.find(|value| !value.is_empty()) {
                Some(value) => {
                    captures.push(CaptureValue { text: value, source: Source::Query });
                    true
                }
                None => false,
            },
        }
    }

    /// The key, decoded.
    pub fn key(&self) -> &str {
        &self.key
    }

    /// What is wanted of its value.
    pub fn test(&self) -> &QueryTest {
        &self.test
    }
}

pub(super) fn parts(query: &str, offset: usize) -> Result<Box<[QueryPart]>> {
    let mut parts: Vec<QueryPart> = Vec::new();
    let mut at = offset;
    for text in query.split('&') {
        let range = at..at + text.len();
        at = range.end + 1;
        let fail = |kind| Err(TemplateError::new(kind, range.clone()));
        let (key, value) = match text.split_once('=') {
            Some((key, value)) => (key, Some(value)),
            None => (text, None),
        };
        if key.is_empty() || key.contains(['{', '}']) {
            return fail(Kind::QueryKey);
        }
        let Ok(key) = decoded(key) else { return fail(Kind::QueryKey) };
        let test = match value {
            None => QueryTest::Present,
            Some(value) => {
                match value.strip_prefix('{').and_then(|inner| inner.strip_suffix('}')) {
                    Some(name) if parse::is_name(name) => QueryTest::Capture(name.into()),
                    Some(name) if !name.contains(['{', '}', '+', '/', '*']) => {
                        return fail(Kind::Name(name.to_owned()));
                    }
                    Some(_) => return fail(Kind::QueryMixed(value.to_owned())),
                    None if value.contains(['{', '}']) => {
                        return fail(Kind::QueryMixed(value.to_owned()));
                    }
                    None if let Some(instead) = parse::foreign_value(value) => {
                        return fail(Kind::Foreign(value.to_owned(), instead));
                    }
                    None => match decoded(value) {
                        Ok(value) => QueryTest::Text(value.into()),
                        Err(()) => return fail(Kind::QueryMixed(value.to_owned())),
                    },
                }
            }
        };
        if parts.iter().any(|part| *part.key == *key) {
            return fail(Kind::KeyTwice(key.into_owned()));
        }
        parts.push(QueryPart { key: key.into(), test });
    }
    Ok(parts.into())
}

fn decoded(text: &str) -> std::result::Result<Cow<'_, str>, ()> {
    match form_decode(text) {
        Cow::Borrowed(_) => Ok(Cow::Borrowed(text)),
        Cow::Owned(bytes) => String::from_utf8(bytes).map(Cow::Owned).map_err(|_| ()),
    }
}
