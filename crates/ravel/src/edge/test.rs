//! Whether tests pass.

use std::borrow::Cow;

use http::header::{ACCEPT_LANGUAGE, COOKIE};
use http::{HeaderMap, HeaderName, Method};
use smallvec::SmallVec;

use super::Edge;
use super::hosts::RequestParts;
use crate::program::{Test, TestKind, ValueSet};
use crate::template::{Captures, Pattern};

impl Edge {
    /// Whether a test passes. What the type of the answer's file is, only headers know: elsewhere
    /// it is none.
    pub(super) fn passes(
        &self,
        test: &Test,
        (pattern, captures): (&Pattern, &Captures<'_>),
        visit: &RequestParts<'_>,
        content_type: Option<&str>,
    ) -> bool {
        let accepted = match &test.kind {
            TestKind::Capture(name, set) => {
                let slot = pattern.names().position(|captured| captured == &**name);
                let Some(captured) = slot.and_then(|slot| captures.get(slot)) else { return false };
                set.contains(&captured.decoded(), self.program().site.ignore_case)
            }
            TestKind::Host(hosts) => hosts.iter().any(|host| host.as_str() == visit.host),
            TestKind::Scheme(scheme) => *scheme == visit.scheme,
            TestKind::Role(role) => *role == visit.role,
            TestKind::Method(methods) => {
                let method = if visit.method == Method::HEAD { &Method::GET } else { visit.method };
                methods.contains(method)
            }
            TestKind::Language(wanted) => wanted.contains(&self.language_of(visit.headers)),
            TestKind::Header(name, set) => header_is(visit.headers, name, set),
            TestKind::Cookie(name, set) => cookie_is(visit.headers, name, set),
            TestKind::FileExists => visit
                .relative()
                .is_some_and(|path| self.variants.asked(path, visit.hash, visit.odd).is_some()),
            TestKind::ContentType(ranges) => content_type.is_some_and(|content_type| {
                ranges.iter().any(|range| range.contains(content_type))
            }),
        };
        accepted != test.negated
    }

    /// Which of the site's languages the visitor gets (RFC 4647, section 3.4); the first, where
    /// none is asked for.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n  languages en, de\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
    /// let headers = [(http::header::ACCEPT_LANGUAGE, "de-AT, en;q=0.5".parse()?)].into_iter().collect();
    /// assert_eq!(edge.language_of(&headers), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn language_of(&self, headers: &HeaderMap) -> usize {
        let languages = &self.program().site.languages;
        let joined = header_value(headers, &ACCEPT_LANGUAGE).unwrap_or_default();
        let asked = String::from_utf8_lossy(&joined);
        let mut ranges: SmallVec<[(&str, u32); 8]> = asked
            .split(',')
            .map(weighted)
            .filter(|(range, weight)| *weight > 0 && !range.is_empty() && *range != "*")
            .collect();
        ranges.sort_by_key(|(_, weight)| std::cmp::Reverse(*weight));
        let find = |range: &str| {
            languages.iter().position(|language| language.eq_ignore_ascii_case(range))
        };
        ranges.iter().find_map(|(range, _)| truncations(range).find_map(find)).unwrap_or(0)
    }
}

/// Whether a header is in a set.
///
/// ```
/// use ravel::program::ValueSet;
///
/// let headers = [(http::header::RANGE, "bytes=0-9".parse()?)].into_iter().collect();
/// assert!(ravel::edge::header_is(&headers, &http::header::RANGE, &ValueSet::Any));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn header_is(headers: &HeaderMap, name: &HeaderName, set: &ValueSet) -> bool {
    set.contains(header_value(headers, name).as_deref())
}

/// Whether a cookie is there, and one of its name in a set.
///
/// ```
/// use ravel::program::ValueSet;
///
/// let headers = [(http::header::COOKIE, "a=1; b=2".parse()?)].into_iter().collect();
/// assert!(ravel::edge::cookie_is(&headers, "b", &ValueSet::OneOf(vec!["2".into()])));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn cookie_is(headers: &HeaderMap, name: &str, set: &ValueSet) -> bool {
    let Some(cookies) = header_value(headers, &COOKIE) else { return false };
    cookies.split(|byte| *byte == b';').any(|pair| {
        let (found, value) = match pair.iter().position(|byte| *byte == b'=') {
            Some(at) => (&pair[..at], &pair[at + 1..]),
            None => (pair, &b""[..]),
        };
        trim(found) == name.as_bytes() && set.contains(Some(trim(value)))
    })
}

/// The lines of a header as one value (RFC 9110, section 5.3; RFC 9113, section 8.2.3 for cookies);
/// none where it is not there.
fn header_value<'h>(headers: &'h HeaderMap, name: &HeaderName) -> Option<Cow<'h, [u8]>> {
    let mut lines = headers.get_all(name).into_iter().map(|value| trim(value.as_bytes()));
    let first = lines.next()?;
    let mut value = Cow::Borrowed(first);
    let separator: &[u8] = if *name == COOKIE { b"; " } else { b", " };
    for line in lines {
        let joined = value.to_mut();
        joined.extend_from_slice(separator);
        joined.extend_from_slice(line);
    }
    Some(value)
}

/// Without the white space around it (RFC 9110, section 5.6.3).
fn trim(mut value: &[u8]) -> &[u8] {
    while let [b' ' | b'\t', rest @ ..] = value {
        value = rest;
    }
    while let [rest @ .., b' ' | b'\t'] = value {
        value = rest;
    }
    value
}

/// A language range with its weight in thousandths (RFC 9110, section 12.4.2); a weight that is
/// none counts as 0.
fn weighted(item: &str) -> (&str, u32) {
    let space = [' ', '\t'];
    let mut parts = item.split(';').map(|part| part.trim_matches(space));
    let range = parts.next().unwrap_or_default();
    let weight =
        parts.find_map(|parameter| parameter.strip_prefix("q=").or(parameter.strip_prefix("Q=")));
    (range, weight.map_or(1_000, |weight| thousandths(weight).unwrap_or(0)))
}

/// `0`, `0.7`, `1.000`: up to three digits, and at most 1.
fn thousandths(weight: &str) -> Option<u32> {
    let (whole, digits) = weight.split_once('.').unwrap_or((weight, ""));
    let padded = format!("{digits:0<3}");
    let fits = matches!(whole, "0" | "1")
        && padded.len() == 3
        && padded.bytes().all(|byte| byte.is_ascii_digit());
    let weight = whole.parse::<u32>().ok()? * 1_000 + padded.parse::<u32>().ok()?;
    (fits && weight <= 1_000).then_some(weight)
}

/// A range, then the same with its last subtag off, and so on; a single-letter subtag goes with the
/// one behind it.
fn truncations(range: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(range), |range| {
        let (shorter, _) = range.rsplit_once('-')?;
        match shorter.rsplit_once('-') {
            Some((shortest, single)) if single.len() == 1 => Some(shortest),
            _ => Some(shorter),
        }
    })
}
