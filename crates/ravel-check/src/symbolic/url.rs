//! The URL to which redirects lead, with captures that stand for themselves.

use ravel::address::Address;
use ravel::edge::{Edge, RouteHop};
use ravel::template::QueryTest;

use super::align::captures_in;
use super::pieces::{Symbol, joined};
use super::{AskedPattern, is_exact, put};

/// The number of the first symbol that is a value of the query, and no capture of a path.
const FIRST_VALUE: usize = 1 << 16;

/// The URL that requests end at on a side, but for what of the query is carried along: text, captures
/// of the pattern that is asked, and values of its query.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct SymbolicUrl {
    pieces: Vec<Symbol>,
    /// What redirects write of the query, and the fragment.
    query: Vec<Symbol>,
    fragment: Vec<Symbol>,
    /// A redirect has written it that begins with a capture: of several `/` that this begins with, one
    /// is left.
    is_short: bool,
}

impl SymbolicUrl {
    /// Where hops lead from all URLs that are asked, of which one is the address; none where that hangs
    /// on what is captured. `keys`: those of the parameters of which there are values, for both URLs
    /// that are compared.
    pub(crate) fn of<'r>(
        edge: &'r Edge,
        keys: &mut Vec<&'r str>,
        asked: AskedPattern<'_>,
        address: &Address,
        hops: &[RouteHop],
    ) -> Option<SymbolicUrl> {
        let origin = |address: &Address| format!("{}://{}", address.scheme(), address.host());
        let base = edge.site().open_base();
        let mut at = origin(address);
        // Paths are below the base path, unless the pattern is asked with an origin.
        let mut is_whole = asked.pattern.is_some_and(|asked| asked.origin().is_some());
        let mut path = asked.pieces();
        if !is_whole {
            match path.first_mut() {
                _ if base.is_empty() => {}
                Some(Symbol::Text(text)) if text.starts_with(base) => {
                    drop(text.drain(..base.len()))
                }
                _ => return None,
            }
            path = joined(&path);
        }
        let mut is_short = false;
        let mut is_known = is_exact(&path, edge.site().ignore_case());
        let mut last = address;
        let (mut query, mut fragment): (Vec<Symbol>, Vec<Symbol>) = Default::default();
        let mut used: Vec<&str> = Vec::new();
        for hop in hops {
            at = origin(hop.to());
            match hop.rule() {
                None if below(last.path(), base) == below(hop.to().path(), base) => {}
                // One path has one canonical one.
                None if matches!(path[..], [Symbol::Text(_)]) => {
                    path = vec![Symbol::Text(below(hop.to().path(), base).to_owned())];
                    (is_whole, is_short) = (false, false);
                }
                None => return None,
                Some(id) => {
                    let rule = edge.program().rule(id).rule();
                    let redirect = rule.redirect()?;
                    let target = redirect.target();
                    if target.origin().is_some_and(|origin| origin.host().capture().is_some()) {
                        return None;
                    }
                    let of = rule.pattern();
                    let is_all = of.path().literal_prefix().is_empty() && path.len() == 1;
                    if is_short && !of.path().is_literal() && !is_all {
                        return None;
                    }
                    let mut captures = captures_in(of, &path, asked.pattern)?;
                    for part in of.query() {
                        let QueryTest::Capture(name) = part.test() else { continue };
                        // The value that was asked for, and no other.
                        if !query.is_empty() || used.contains(&part.key()) {
                            return None;
                        }
                        captures.push((name.to_string(), vec![value_of(part.key(), keys)]));
                    }
                    used.extend(of.query().iter().map(|part| part.key()));
                    let names = |name: &str| captures.iter().any(|(known, _)| known == name);
                    if !target.path().expressions().all(|(_, name)| names(name)) {
                        return None;
                    }
                    path = put(target.path(), &captures)?;
                    match target.query() {
                        // What is captured is escaped there, and the template's text is not.
                        Some(template) if query.is_empty() && captures.iter().all(is_plain) => {
                            query = put(template, &captures)?
                        }
                        None if query.is_empty() => {}
                        // What was written is carried along.
                        None if of.query().is_empty() && !redirect.drop_query() => {}
                        Some(_) | None => return None,
                    }
                    if let Some(template) = target.fragment() {
                        fragment = put(template, &captures)?;
                    }
                    let is_own = |(_, pieces): &(String, Vec<Symbol>)| is_exact(pieces, true);
                    is_known |= captures.iter().all(is_own);
                    let slashes = matches!(path.first(), Some(Symbol::Text(text)) if text == "/");
                    let first = path.get(usize::from(slashes));
                    let is_written = matches!(first, Some(Symbol::Capture(_)));
                    is_short = is_written || (is_short && !of.path().is_literal());
                    is_whole = target.origin().is_some();
                }
            }
            last = hop.to();
        }
        if !is_known {
            return None;
        }
        let base = if is_whole { "" } else { base };
        let all = [&[Symbol::Text(at), Symbol::Text(base.to_owned())], &path[..]].concat();
        Some(SymbolicUrl { pieces: joined(&all), query, fragment, is_short })
    }

    /// Whether both write the same query and fragment.
    pub(crate) fn has_same_end(&self, other: &SymbolicUrl) -> bool {
        (&self.query, &self.fragment) == (&other.query, &other.fragment)
    }

    /// Whether two are the same whatever is captured, or never; none where that hangs on it.
    /// `doubled`: whether the first capture begins with several `/`, where that is known.
    pub(crate) fn is(&self, other: &SymbolicUrl, doubled: Option<bool>) -> Option<bool> {
        let is_end = |end: &[Symbol], other: &[Symbol]| match end.is_empty() == other.is_empty() {
            true => is_text(end, other, [false, false]),
            false => Some(false),
        };
        let parts = [
            self.is_path(other, doubled),
            is_end(&self.query, &other.query),
            is_end(&self.fragment, &other.fragment),
        ];
        match parts.contains(&Some(false)) {
            true => Some(false),
            false => parts.into_iter().all(|part| part == Some(true)).then_some(true),
        }
    }

    fn is_path(&self, other: &SymbolicUrl, doubled: Option<bool>) -> Option<bool> {
        let is_short = [self, other].map(|url| url.is_short && doubled != Some(false));
        if self.pieces == other.pieces {
            return match (is_short[0] == is_short[1], doubled) {
                (true, _) => Some(true),
                (false, known) => known.map(|_| false),
            };
        }
        is_text(&self.pieces, &other.pieces, is_short)
    }
}

/// Whether two texts are the same whatever is captured, or never; none where that hangs on it.
/// `is_short`: of each, whether it can be without a `/` that it is written with.
fn is_text(a: &[Symbol], b: &[Symbol], is_short: [bool; 2]) -> Option<bool> {
    if a == b {
        return Some(true);
    }
    let (mut a, mut b) = (a, b);
    while let ([first, rest @ ..], [same, others @ ..]) = (a, b)
        && first == same
    {
        (a, b) = (rest, others);
    }
    while let ([rest @ .., last], [others @ .., same]) = (a, b)
        && last == same
    {
        (a, b) = (rest, others);
    }
    let text = |piece: Option<&Symbol>| match piece {
        Some(Symbol::Text(text)) => text.clone(),
        Some(Symbol::Capture(_)) | None => String::new(),
    };
    let apart = |a: &str, b: &str| !a.starts_with(b) && !b.starts_with(a);
    let ends = |a: &str, b: &str| !a.ends_with(b) && !b.ends_with(a);
    let count = |pieces: &[Symbol]| {
        let mut captures: Vec<usize> = Vec::new();
        let mut length = 0;
        for piece in pieces {
            match piece {
                Symbol::Text(text) => length += text.len(),
                Symbol::Capture(number) => captures.push(*number),
            }
        }
        captures.sort_unstable();
        (captures, length)
    };
    let ((captures, length), (others, other)) = (count(a), count(b));
    // What is short can be shorter, and longer by a `/` where the capture is empty.
    let is_longer = match is_short {
        [false, false] => length != other,
        [true, false] => other > length + 1,
        [false, true] => length > other + 1,
        [true, true] => false,
    };
    let never = apart(&text(a.first()), &text(b.first()))
        || ends(&text(a.last()), &text(b.last()))
        || (captures == others && is_longer);
    never.then_some(false)
}

/// Whether what is captured is written into a query as it is.
fn is_plain((_, pieces): &(String, Vec<Symbol>)) -> bool {
    pieces.iter().all(|piece| match piece {
        Symbol::Text(text) => {
            text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._~".contains(&byte))
        }
        Symbol::Capture(_) => true,
    })
}

/// The symbol of the first value of a parameter.
fn value_of<'r>(key: &'r str, keys: &mut Vec<&'r str>) -> Symbol {
    let known = keys.iter().position(|known| *known == key);
    let number = known.unwrap_or_else(|| {
        keys.push(key);
        keys.len() - 1
    });
    Symbol::Capture(FIRST_VALUE + number)
}

fn below<'a>(path: &'a str, base: &str) -> &'a str {
    path.strip_prefix(base).unwrap_or(path)
}
