//! Paths in pieces: text, and captures that stand for themselves.

use ravel::template::{Pattern, Piece};

/// A piece of what a template writes: text, or a capture of the expectation's pattern by its
/// number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Symbol {
    Text(String),
    Capture(usize),
}

/// A pattern's path as pieces.
pub(super) fn pieces(pattern: &Pattern) -> Vec<Symbol> {
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

/// The same with neighbouring texts as one.
pub(super) fn joined(pieces: &[Symbol]) -> Vec<Symbol> {
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
