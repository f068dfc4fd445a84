//! What patterns capture and targets write, with captures that stand for themselves.

mod align;
mod pieces;
mod url;

use ravel::program::Rule;
use ravel::template::{Expression, Pattern, Piece, Target, TargetTemplate};

use align::captures_in;
use pieces::{joined, pieces};

pub(crate) use pieces::Symbol;
pub(crate) use url::SymbolicUrl;

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
    Some((origin, put(target.path(), captures)?))
}

/// Whether two rules that show files write the same, whatever is asked of both.
pub(super) fn show_the_same(old: &Rule, new: &Rule) -> bool {
    if (old.pattern(), old.shows()) == (new.pattern(), new.shows()) {
        return true;
    }
    let write = |rule: &Rule| {
        // Files are named in any case where paths match so.
        let captures = symbolic(rule.pattern(), old.pattern(), false)?;
        put(rule.shows()?.path(), &captures)
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

/// What a template writes.
fn put(template: &TargetTemplate, captures: &[(String, Vec<Symbol>)]) -> Option<Vec<Symbol>> {
    let mut out = Vec::new();
    for piece in template.pieces() {
        match piece {
            Piece::Text(text) => out.push(Symbol::Text(text.to_owned())),
            Piece::Expression(_, name) => {
                out.extend(captures.iter().find(|(known, _)| known == name)?.1.iter().cloned())
            }
        }
    }
    Some(joined(&out))
}
