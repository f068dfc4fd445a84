//! What a pattern captures of a path that is made of captures of another pattern.

use ravel::template::{Expression, Pattern};

use super::pieces::{Symbol, joined, pieces};

/// The form of a capture; a value of the query is within a segment, and not empty, too.
fn form(forms: &[Expression], number: usize) -> Expression {
    forms.get(number).copied().unwrap_or(Expression::Segment)
}

/// What a pattern captures of a path that is made of captures of another pattern; none where that can
/// be done in more than one way.
pub(super) fn captures_in(
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
        (Symbol::Capture(a), Symbol::Capture(b)) => names[*a].0 == form(&forms, *b),
        _ => false,
    };
    let is_alone = names.len() == 1 || *path == pieces(asked);
    let captured: Vec<Vec<Symbol>> =
        if is_alone && own.len() == path.len() && own.iter().zip(path).all(is_same) {
            let captures = path.iter().filter(|piece| matches!(piece, Symbol::Capture(_)));
            captures.map(|piece| vec![piece.clone()]).collect()
        } else {
            let kinds: Vec<Expression> = names.iter().map(|(form, _)| *form).collect();
            aligned(&own, &kinds, path, &forms)?
        };
    Some(names.iter().map(|(_, name)| (*name).to_owned()).zip(captured).collect())
}

/// What the captures of a pattern take of a path, from the left, where each ends at the end of a
/// segment, or takes all the rest; `kinds` and `forms` are those of the captures of both.
fn aligned(
    own: &[Symbol],
    kinds: &[Expression],
    path: &[Symbol],
    forms: &[Expression],
) -> Option<Vec<Vec<Symbol>>> {
    let mut rest = path.to_vec();
    let mut captured = Vec::new();
    for (at, piece) in own.iter().enumerate() {
        let after = &own[at + 1..];
        match piece {
            Symbol::Text(text) => {
                // Up to where a segment ends, unless a capture goes on there.
                let is_ended = match after {
                    [] => true,
                    [Symbol::Capture(next), ..] => kinds[*next] == Expression::Segments,
                    _ => false,
                };
                rest = behind_text(text, is_ended, rest, forms)?;
            }
            Symbol::Capture(number) if kinds[*number] != Expression::Segment => {
                let is_narrow = |piece: &Symbol| matches!(piece, Symbol::Capture(_));
                // Where `{+x}` begins hangs on what a narrow one before it takes.
                let is_open = kinds[*number] == Expression::Any
                    && own[..at].iter().any(is_narrow)
                    && !matches!(&own[at - 1], Symbol::Text(text) if text.starts_with('/'));
                if is_open || !after.is_empty() {
                    return None;
                }
                captured.push(std::mem::take(&mut rest));
            }
            Symbol::Capture(_) => {
                let (mut segment, others) = first_segment(&rest, forms)?;
                let tail = match after {
                    [] => "",
                    [Symbol::Text(text), ..] if text.contains('/') => text.split('/').next()?,
                    [Symbol::Text(text)] => text,
                    [Symbol::Capture(next)] if kinds[*next] == Expression::Segments => "",
                    [Symbol::Text(text), Symbol::Capture(next)]
                        if kinds[*next] == Expression::Segments =>
                    {
                        text
                    }
                    _ => return None,
                };
                if !tail.is_empty() {
                    let Some(Symbol::Text(last)) = segment.last_mut() else { return None };
                    last.truncate(last.strip_suffix(tail)?.len());
                }
                captured.push(joined(&segment));
                rest = joined(&[&[Symbol::Text(tail.to_owned())], &others[..]].concat());
            }
        }
    }
    rest.is_empty().then_some(captured)
}

/// What follows a text, with which a path begins. Captures within a segment of it come to what is
/// written of the segment; the last one is whole if the text ends where a segment does.
fn behind_text(
    mut text: &str,
    is_ended: bool,
    mut path: Vec<Symbol>,
    forms: &[Expression],
) -> Option<Vec<Symbol>> {
    loop {
        if let Some(Symbol::Text(whole)) = path.first_mut()
            && whole.starts_with(text)
        {
            drop(whole.drain(..text.len()));
            return Some(joined(&path));
        }
        let (segment, is_whole) = match text.strip_prefix('/')?.find('/') {
            Some(end) => (end + 1, true),
            None => (text.len(), is_ended),
        };
        match path.first_mut() {
            Some(Symbol::Text(slash)) if is_whole && slash.starts_with('/') => {
                drop(slash.drain(..1));
            }
            _ => return None,
        }
        (_, path) = first_segment(&joined(&path), forms)?;
        text = &text[segment..];
        if text.is_empty() {
            return Some(path);
        }
    }
}

/// A path's pieces up to the next `/` or its end, and the others; none where that hangs on what is
/// captured.
fn first_segment(path: &[Symbol], forms: &[Expression]) -> Option<(Vec<Symbol>, Vec<Symbol>)> {
    let mut segment = Vec::new();
    for (at, piece) in path.iter().enumerate() {
        match piece {
            Symbol::Text(text) => match text.split_once('/') {
                Some((before, _)) => {
                    segment.push(Symbol::Text(before.to_owned()));
                    let behind = Symbol::Text(text[before.len()..].to_owned());
                    return Some((segment, [&[behind], &path[at + 1..]].concat()));
                }
                None => segment.push(piece.clone()),
            },
            Symbol::Capture(number) if form(forms, *number) == Expression::Segment => {
                segment.push(piece.clone())
            }
            // Nothing, or a `/` and more.
            Symbol::Capture(number) if form(forms, *number) == Expression::Segments => {
                let is_ended = match path.get(at + 1) {
                    None => true,
                    Some(Symbol::Text(text)) => text.starts_with('/'),
                    Some(Symbol::Capture(_)) => false,
                };
                return is_ended.then(|| (segment, path[at..].to_vec()));
            }
            Symbol::Capture(_) => return None,
        }
    }
    Some((segment, Vec::new()))
}
