//! What patterns capture and targets write, with captures that stand for themselves.

mod align;
mod pieces;

use ravel::address::Address;
use ravel::edge::{Edge, RouteHop};
use ravel::program::Rule;
use ravel::template::{Expression, Pattern, Piece, Target};

use align::captures_in;
use pieces::{joined, pieces};

pub(crate) use pieces::Symbol;

/// For each capture of `of`, what it is made of where an address matches both patterns; none where
/// that can be in more than one way. `fold`: ASCII letters match in any case.
pub(super) fn symbolic(
    of: &Pattern,
    by: &Pattern,
    fold: bool,
) -> Option<Vec<(String, Vec<Symbol>)>> {
    let is_of_paths = of.query().is_empty()
        && by.query().is_empty()
        && of.origin().is_some() == by.origin().is_some();
    let captures = if is_of_paths { captures_in(of, &pieces(by), Some(by))? } else { return None };
    let is_exact = captures.iter().all(|(_, pieces)| is_exact(pieces, fold));
    is_exact.then_some(captures)
}

/// Whether texts of a pattern stand for themselves where an address matches it.
fn is_exact(pieces: &[Symbol], fold: bool) -> bool {
    let has_letters = |piece: &Symbol| match piece {
        Symbol::Text(text) => text.bytes().any(|byte| byte.is_ascii_alphabetic()),
        Symbol::Capture(_) => false,
    };
    !(fold && pieces.iter().any(has_letters))
}

/// What a target writes, in pieces, with neighbouring texts joined; none where it has more than a
/// path.
pub(super) fn written(
    target: &Target,
    captures: &[(String, Vec<Symbol>)],
) -> Option<(String, Vec<Symbol>)> {
    if target.has_query() || target.has_fragment() {
        return None;
    }
    let origin = target
        .origin()
        .map_or(String::new(), |origin| format!("{}://{}", origin.scheme(), origin.host()));
    Some((origin, put(target, captures)?))
}

/// Whether two rules that show files write the same, whatever is asked of both.
pub(super) fn show_the_same(old: &Rule, new: &Rule) -> bool {
    let write = |rule: &Rule| {
        // Files are named in any case where paths match so.
        let captures = symbolic(rule.pattern(), old.pattern(), false)?;
        put(rule.shows()?, &captures)
    };
    let (before, after) = (write(old), write(new));
    before.is_some() && before == after
}

/// The requests that are asked: those of a pattern, or all, below a base path.
#[derive(Debug, Clone, Copy)]
pub(super) struct AskedPattern<'p> {
    pub(super) base: &'p str,
    pub(super) pattern: Option<&'p Pattern>,
}

impl AskedPattern<'_> {
    /// The whole paths, as pieces.
    fn pieces(self) -> Vec<Symbol> {
        let path = self.pattern.map_or(vec![Symbol::Capture(0)], pieces);
        let is_whole = self.pattern.is_some_and(|asked| asked.origin().is_some());
        let base = if is_whole { "" } else { self.base };
        joined(&[&[Symbol::Text(base.to_owned())], &path[..]].concat())
    }

    /// The path below which the first capture begins with several `/`; none if it takes none, or
    /// begins with one anyway.
    pub(super) fn doubled(self) -> Option<String> {
        let pattern = self.pattern?;
        let prefix = pattern.path().literal_prefix();
        let prefix = match pattern.path().expressions().next()?.0 {
            Expression::Segments if !prefix.ends_with('/') => prefix,
            Expression::Any => prefix.strip_suffix('/')?,
            _ => return None,
        };
        let base = if pattern.origin().is_some() { "" } else { self.base };
        Some(format!("{base}{prefix}/"))
    }
}

/// The URL that requests end at on a side, as far as its path: text, and captures of the pattern that
/// is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct SymbolicUrl {
    pieces: Vec<Symbol>,
    /// A redirect has written it that begins with a capture: of several `/` that this begins with, one
    /// is left.
    is_short: bool,
}

impl SymbolicUrl {
    /// Where hops lead from all URLs that are asked, of which one is the address; none where that hangs
    /// on what is captured.
    pub(super) fn of(
        edge: &Edge,
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
        for hop in hops {
            at = origin(hop.to());
            match hop.rule() {
                None if below(last.path(), base) == below(hop.to().path(), base) => {}
                None => return None,
                Some(id) => {
                    let rule = edge.program().rule(id).rule();
                    let target = rule.redirect()?.target();
                    if target.origin().is_some_and(|origin| origin.host().capture().is_some()) {
                        return None;
                    }
                    let of = rule.pattern();
                    let is_all = of.path().literal_prefix().is_empty() && path.len() == 1;
                    if is_short && !of.path().is_literal() && !is_all {
                        return None;
                    }
                    let captures = captures_in(of, &path, asked.pattern)?;
                    let names = |name: &str| captures.iter().any(|(known, _)| known == name);
                    if !target.path().expressions().all(|(_, name)| names(name)) {
                        return None;
                    }
                    path = put(target, &captures)?;
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
        Some(SymbolicUrl { pieces: joined(&all), is_short })
    }

    /// Whether two are the same whatever is captured, or never; none where that hangs on it.
    /// `doubled`: whether the first capture begins with several `/`, where that is known.
    pub(super) fn is(&self, other: &SymbolicUrl, doubled: Option<bool>) -> Option<bool> {
        let is_short = [self, other].map(|url| url.is_short && doubled != Some(false));
        if self.pieces == other.pieces {
            return match (is_short[0] == is_short[1], doubled) {
                (true, _) => Some(true),
                (false, known) => known.map(|_| false),
            };
        }
        let (mut a, mut b) = (&self.pieces[..], &other.pieces[..]);
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
}

fn below<'a>(path: &'a str, base: &str) -> &'a str {
    path.strip_prefix(base).unwrap_or(path)
}

/// What a target's path writes.
fn put(target: &Target, captures: &[(String, Vec<Symbol>)]) -> Option<Vec<Symbol>> {
    let mut out = Vec::new();
    for piece in target.path().pieces() {
        match piece {
            Piece::Text(text) => out.push(Symbol::Text(text.to_owned())),
            Piece::Expression(_, name) => {
                out.extend(captures.iter().find(|(known, _)| known == name)?.1.iter().cloned())
            }
        }
    }
    Some(joined(&out))
}
