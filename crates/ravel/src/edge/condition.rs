//! Whether conditions hold.

use http::header::{ACCEPT_LANGUAGE, COOKIE};
use http::{HeaderMap, HeaderName, Method};
use smallvec::SmallVec;

use super::Edge;
use super::hosts::{Asked, Role};
use crate::rules::{Conditions, HeaderTest, When, WhenTest, Where};
use crate::template::{Captures, Pattern};

/// What became of a rule's conditions.
pub(super) enum Held<'c> {
    /// All hold.
    Yes,
    /// A capture is not as wanted.
    Where(&'c Where),
    /// Something about host, scheme, method or file does not hold.
    When(&'c When),
    /// All of those hold, and something that depends on a request header does not.
    Header(&'c When),
}

impl Edge {
    /// Asks conditions, those that look at request headers last: only what passes the others makes an answer vary.
    pub(super) fn conditions<'c>(
        &self,
        conditions: &'c Conditions,
        pattern: &Pattern,
        captures: &Captures<'_>,
        asked: &Asked<'_>,
    ) -> Held<'c> {
        let ignore_case = self.rules.site.ignore_case;
        for condition in &conditions.wheres {
            let slot = pattern.names().position(|name| *name == *condition.name);
            let text = slot.and_then(|slot| captures.get(slot)).map(|captured| captured.decoded());
            if !text.is_some_and(|text| condition.test.holds(&text, ignore_case)) {
                return Held::Where(condition);
            }
        }
        let fails = |when: &&When| self.asks(&when.test, asked) == when.negated;
        if let Some(when) = conditions.whens.iter().filter(|when| !when.test.is_about_headers()).find(fails) {
            return Held::When(when);
        }
        match conditions.whens.iter().filter(|when| when.test.is_about_headers()).find(fails) {
            Some(when) => Held::Header(when),
            None => Held::Yes,
        }
    }

    fn asks(&self, test: &WhenTest, asked: &Asked<'_>) -> bool {
        match test {
            WhenTest::Language(wanted) => wanted.contains(&self.language_of(asked.headers)),
            WhenTest::Cookie(..) | WhenTest::Header(..) => holds_for(test, asked.headers),
            WhenTest::Host(hosts) => hosts.iter().any(|host| host.as_str() == asked.host),
            WhenTest::Scheme(scheme) => *scheme == asked.scheme,
            WhenTest::Method(methods) => {
                methods.iter().any(|method| method == asked.method || (method == Method::GET && asked.method == Method::HEAD))
            }
            WhenTest::Preview => asked.role == Role::Preview,
            WhenTest::NoFile => asked.relative().is_none_or(|path| self.spellings.asked(path, asked.hash, asked.odd).is_none()),
        }
    }

    /// Which of the site's languages the visitor gets (RFC 4647, section 3.4); the first, where none is asked for.
    pub(crate) fn language_of(&self, headers: &HeaderMap) -> usize {
        let languages = &self.rules.site.languages;
        let mut ranges: SmallVec<[(&str, u32); 8]> = values(headers, &ACCEPT_LANGUAGE)
            .flat_map(|value| value.split(','))
            .map(weighted)
            .filter(|(range, weight)| *weight > 0 && !range.is_empty() && *range != "*")
            .collect();
        ranges.sort_by_key(|(_, weight)| std::cmp::Reverse(*weight));
        let find = |range: &str| languages.iter().position(|language| language.eq_ignore_ascii_case(range));
        ranges.iter().find_map(|(range, _)| truncations(range).find_map(find)).unwrap_or(0)
    }
}

/// Whether a test of a cookie or a header field holds for these fields.
pub(crate) fn holds_for(test: &WhenTest, headers: &HeaderMap) -> bool {
    match test {
        WhenTest::Cookie(name, value) => {
            cookies(headers).any(|(found, text)| found == &**name && value.as_ref().is_none_or(|value| **value == *text))
        }
        WhenTest::Header(name, HeaderTest::Present) => headers.contains_key(name),
        WhenTest::Header(name, HeaderTest::Is(value)) => values(headers, name).any(|found| found == &**value),
        WhenTest::Header(name, HeaderTest::Contains(text)) => values(headers, name).any(|found| found.contains(&**text)),
        _ => false,
    }
}

impl WhenTest {
    /// Whether the answer depends on a request header through this.
    pub(crate) fn is_about_headers(&self) -> bool {
        matches!(self, WhenTest::Language(_) | WhenTest::Cookie(..) | WhenTest::Header(..))
    }

    /// Whether it looks at a cookie, which a browser may send to one origin and not to another.
    pub(super) fn looks_at_cookies(&self) -> bool {
        matches!(self, WhenTest::Cookie(..)) || matches!(self, WhenTest::Header(name, _) if name == COOKIE)
    }
}

fn values<'r>(headers: &'r HeaderMap, name: &HeaderName) -> impl Iterator<Item = &'r str> + use<'r> {
    headers.get_all(name).into_iter().filter_map(|value| std::str::from_utf8(value.as_bytes()).ok()).map(str::trim)
}

/// The cookies of a request (RFC 6265, section 4.2).
fn cookies(headers: &HeaderMap) -> impl Iterator<Item = (&str, &str)> {
    let pairs = values(headers, &COOKIE).flat_map(|value| value.split(';'));
    pairs.map(|pair| {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        let value = value.trim();
        let unquoted = value.strip_prefix('"').and_then(|value| value.strip_suffix('"'));
        (name.trim(), unquoted.unwrap_or(value))
    })
}

/// A language range with its weight in thousandths (RFC 9110, section 12.4.2); a weight that is none counts as 0.
fn weighted(item: &str) -> (&str, u32) {
    let mut parts = item.split(';');
    let range = parts.next().unwrap_or_default().trim();
    let weight = parts.find_map(|parameter| parameter.trim().strip_prefix("q=").or(parameter.trim().strip_prefix("Q=")));
    let thousandths = match weight {
        None => 1_000,
        Some(text) => {
            text.parse::<f32>().ok().filter(|weight| (0.0..=1.0).contains(weight)).map_or(0, |weight| (weight * 1000.0) as u32)
        }
    };
    (range, thousandths)
}

/// A range, then the same with its last subtag off, and so on; a single-letter subtag goes with the one behind it.
fn truncations(range: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(range), |range| {
        let (shorter, _) = range.rsplit_once('-')?;
        match shorter.rsplit_once('-') {
            Some((shortest, single)) if single.len() == 1 => Some(shortest),
            _ => Some(shorter),
        }
    })
}
