//! What patterns capture and targets write, with captures that stand for themselves.

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
    let mut out: Vec<Symbol> = Vec::new();
    let mut push = |piece: &Symbol| match (out.last_mut(), piece) {
        (Some(Symbol::Text(before)), Symbol::Text(text)) => before.push_str(text),
        _ => out.push(piece.clone()),
    };
    for piece in target.path().pieces() {
        match piece {
            Piece::Text(text) => push(&Symbol::Text(text.to_owned())),
            Piece::Expression(_, name) => {
                captures.iter().find(|(known, _)| known == name)?.1.iter().for_each(&mut push)
            }
        }
    }
    Some((origin, out))
}
