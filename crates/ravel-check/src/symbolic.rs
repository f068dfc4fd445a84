//! What patterns capture and targets write, with captures that stand for themselves.

use ravel::Request;
use ravel::edge::{Edge, Route};
use ravel::program::Rule;
use ravel::template::{Expression, Pattern, Piece, Target};

/// A piece of what a template writes: text, or a capture of the expectation's pattern by its
/// number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Symbol {
    Text(String),
    Capture(usize),
}

/// For each capture of `of`, what it is made of where an address matches both patterns in one way
/// only: where `of` goes along with `by`, and ends in one expression that takes all the rest.
pub(super) fn symbolic(of: &Pattern, by: &Pattern) -> Option<Vec<(String, Vec<Symbol>)>> {
    if of.query().len() != by.query().len()
        || of.origin().is_some() != by.origin().is_some()
        || !of.query().is_empty()
    {
        return None;
    }
    if of.path().as_str() == by.path().as_str() || same_forms(of, by) {
        let names = of
            .path()
            .expressions()
            .enumerate()
            .map(|(number, (_, name))| (name.to_owned(), vec![Symbol::Capture(number)]));
        return Some(names.collect());
    }
    if of.path().is_literal() {
        return Some(Vec::new());
    }
    let last = of.path().pieces().last();
    let only = of.path().expressions().count() == 1;
    let (Some(Piece::Expression(Expression::Any | Expression::Segments, name)), true) =
        (last, only)
    else {
        return None;
    };
    let prefix = of.path().literal_prefix();
    let mut pieces = pieces(by);
    match pieces.first_mut() {
        Some(Symbol::Text(text)) if text.starts_with(prefix) => drop(text.drain(..prefix.len())),
        _ => return None,
    }
    pieces.retain(|piece| *piece != Symbol::Text(String::new()));
    Some(vec![(name.to_owned(), pieces)])
}

/// Whether two patterns are the same but for the names of their captures.
fn same_forms(a: &Pattern, b: &Pattern) -> bool {
    let forms =
        |pattern: &Pattern| pattern.path().expressions().map(|(form, _)| form).collect::<Vec<_>>();
    pieces(a) == pieces(b) && forms(a) == forms(b)
}

/// A pattern's path as pieces.
fn pieces(pattern: &Pattern) -> Vec<Symbol> {
    let mut number = 0;
    let piece = |piece: Piece<'_>| match piece {
        Piece::Text(text) => Symbol::Text(text.to_owned()),
        Piece::Expression(..) => {
            number += 1;
            Symbol::Capture(number - 1)
        }
    };
    pattern.path().pieces().map(piece).collect()
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
        let captures = symbolic(rule.pattern(), old.pattern())?;
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
    /// Where a route leads all requests that are asked; none where that hangs on what is captured.
    pub(super) fn of(
        edge: &Edge,
        asked: AskedPattern<'_>,
        request: &Request,
        route: &Route,
    ) -> Option<SymbolicUrl> {
        let address = request.address().ok()?;
        let origin = |address: &ravel::address::Address| {
            format!("{}://{}", address.scheme(), address.host())
        };
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
        let mut last = address;
        for hop in route.hops() {
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
                    let captures = captures_in(rule.pattern(), &path, asked.pattern)?;
                    let names = |name: &str| captures.iter().any(|(known, _)| known == name);
                    if !target.path().expressions().all(|(_, name)| names(name)) {
                        return None;
                    }
                    path = put(target, &captures)?;
                    let slashes = matches!(path.first(), Some(Symbol::Text(text)) if text == "/");
                    let first = path.get(usize::from(slashes));
                    is_short = matches!(first, Some(Symbol::Capture(_)));
                    is_whole = target.origin().is_some();
                }
            }
            last = hop.to();
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

/// What a pattern captures of a path that is made of captures of another pattern; none where that can
/// be done in more than one way.
fn captures_in(
    of: &Pattern,
    path: &[Symbol],
    asked: Option<&Pattern>,
) -> Option<Vec<(String, Vec<Symbol>)>> {
    if of.path().is_literal() {
        return Some(Vec::new());
    }
    let asked = asked?;
    let own = pieces(of);
    let forms: Vec<Expression> = asked.path().expressions().map(|(form, _)| form).collect();
    let names: Vec<(Expression, &str)> = of.path().expressions().collect();
    let is_same = |(mine, theirs): (&Symbol, &Symbol)| match (mine, theirs) {
        (Symbol::Text(a), Symbol::Text(b)) => a == b,
        (Symbol::Capture(a), Symbol::Capture(b)) => names[*a].0 == forms[*b],
        _ => false,
    };
    let is_alone = names.len() == 1 || *path == pieces(asked);
    if is_alone && own.len() == path.len() && own.iter().zip(path).all(is_same) {
        let captured = path.iter().filter(|piece| matches!(piece, Symbol::Capture(_)));
        let captures = names.iter().zip(captured);
        return Some(
            captures.map(|((_, name), piece)| ((*name).to_owned(), vec![piece.clone()])).collect(),
        );
    }
    let [(Expression::Any | Expression::Segments, name)] = names[..] else { return None };
    if !matches!(own.last(), Some(Symbol::Capture(_))) {
        return None;
    }
    let prefix = of.path().literal_prefix();
    let mut rest = path.to_vec();
    match rest.first_mut() {
        Some(Symbol::Text(text)) if text.starts_with(prefix) => drop(text.drain(..prefix.len())),
        Some(_) if prefix.is_empty() => {}
        _ => return None,
    }
    rest.retain(|piece| *piece != Symbol::Text(String::new()));
    Some(vec![(name.to_owned(), rest)])
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

/// The same with neighbouring texts as one.
fn joined(pieces: &[Symbol]) -> Vec<Symbol> {
    let mut out: Vec<Symbol> = Vec::new();
    for piece in pieces {
        match (out.last_mut(), piece) {
            (Some(Symbol::Text(before)), Symbol::Text(text)) => before.push_str(text),
            (_, Symbol::Text(text)) if text.is_empty() => {}
            _ => out.push(piece.clone()),
        }
    }
    out
}
