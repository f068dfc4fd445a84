//! Text to pieces. All ranges in errors are of the whole pattern, so each function takes the offset
//! of its part.

use std::borrow::Cow;
use std::ops::Range;

use super::error::{self, TemplateError, TemplateErrorKind as Kind};
use super::piece::{Expression, Template, TemplateBuilder};
use crate::address::{UrlError, encode, is_fragment_byte, is_path_byte, is_query_byte, normalize};

type Result<T> = std::result::Result<T, TemplateError>;

/// Where text stands, which decides how it is spelled.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum TextPlace {
    Path,
    Query,
    Fragment,
}

/// The first byte of `wanted` outside braces.
pub(super) fn find_outside(text: &str, wanted: &[u8]) -> Option<usize> {
    let mut depth = 0_u32;
    text.bytes().position(|byte| {
        match byte {
            b'{' => depth += 1,
            b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        depth == 0 && wanted.contains(&byte)
    })
}

/// Whether a text begins as a path of a pattern does.
pub(super) fn begins_as_path(text: &str) -> bool {
    text.starts_with('/') || text.starts_with("{/") || text.starts_with("{+")
}

/// A path that stands for itself: no expression, nothing to respell, nothing that could be meant
/// otherwise. Most rules of a large site are such, and need no further look.
pub(super) fn plain_path<const INLINE: usize>(text: &str) -> Option<Template<INLINE>> {
    let mut previous = 0;
    let plain = text.bytes().all(|byte| {
        let dot_segment = byte == b'.' && previous == b'/';
        previous = byte;
        byte == b'/' || (is_path_byte(byte) && !dot_segment && !matches!(byte, b'*' | b':' | b'$'))
    });
    (plain && text.starts_with('/')).then(|| TemplateBuilder::literal(text))
}

/// Reads the part of a pattern or target that begins at `offset`.
pub(super) fn template<const INLINE: usize>(
    text: &str,
    offset: usize,
    within: TextPlace,
) -> Result<Template<INLINE>> {
    let mut builder = TemplateBuilder::default();
    let mut expressions = 0;
    let mut at = 0;
    while at < text.len() {
        match text[at..].find(['{', '}']) {
            Some(0) => {
                let (form, name, len) = expression(&text[at..], offset + at)?;
                if form == Expression::Segments && within == TextPlace::Path {
                    segments_stand_alone(text, offset, at..at + len, name)?;
                }
                builder.push_expression(form, name);
                expressions += 1;
                at += len;
            }
            next => {
                let end = next.map_or(text.len(), |next| at + next);
                let piece = &text[at..end];
                match within {
                    TextPlace::Path => {
                        foreign(text, offset, at..end)?;
                        builder.push_text(&respell(piece, offset + at)?);
                    }
                    TextPlace::Query => {
                        foreign_values(piece, offset + at)?;
                        builder.push_text(&encoded(piece, is_query_byte));
                    }
                    TextPlace::Fragment => builder.push_text(&encoded(piece, is_fragment_byte)),
                }
                at = end;
            }
        }
    }
    let template: Template<INLINE> = builder.finish();
    if within != TextPlace::Path {
        return Ok(template);
    }
    if expressions == 0 {
        let path = normalize(template.as_str()).map_err(|why| character(text, offset, why))?;
        return Ok(TemplateBuilder::literal(&path));
    }
    no_dots(&template, offset..offset + text.len())?;
    Ok(template)
}

fn encoded(text: &str, keep: fn(u8) -> bool) -> String {
    let mut encoded = String::with_capacity(text.len());
    encode(text.as_bytes(), keep, &mut encoded);
    encoded
}

fn character(text: &str, offset: usize, why: UrlError) -> TemplateError {
    let kind = if why == UrlError::PathStart { error::start(text) } else { Kind::Character(why) };
    let at = match why {
        UrlError::Backslash => text.find('\\'),
        UrlError::Control => text.find(|c: char| c.is_ascii_control()),
        UrlError::Escape => text.find('%'),
        _ => None,
    };
    let range = match at {
        Some(at) => offset + at..offset + at + 1,
        None => offset..offset + text.len(),
    };
    TemplateError::new(kind, range)
}

/// Spells a piece as normalizing a whole path would, dot segments aside.
fn respell(piece: &str, offset: usize) -> Result<Cow<'_, str>> {
    if piece.bytes().all(|byte| byte == b'/' || is_path_byte(byte)) {
        return Ok(Cow::Borrowed(piece));
    }
    // A leading text keeps `normalize` from resolving anything: no segment of it is `.` or `..`
    // once `x` is glued to each.
    let guarded: Vec<String> = piece.split('/').map(|segment| format!("x{segment}x")).collect();
    let spelled = normalize(&format!("/{}", guarded.join("/")))
        .map_err(|why| character(piece, offset, why))?
        .into_owned();
    let segments: Vec<&str> =
        spelled[1..].split('/').map(|segment| &segment[1..segment.len() - 1]).collect();
    Ok(Cow::Owned(segments.join("/")))
}

fn expression(text: &str, offset: usize) -> Result<(Expression, &str, usize)> {
    let fail = |kind, len: usize| Err(TemplateError::new(kind, offset..offset + len));
    let close = match text.find('}') {
        Some(close) if text.starts_with('{') && !text[1..close].contains('{') => close,
        _ => return fail(Kind::Brace, 1),
    };
    let whole = &text[..=close];
    let inner = &text[1..close];
    let (form, name) = if let Some(name) = inner.strip_prefix('+') {
        (Expression::Any, name)
    } else if let Some(name) = inner.strip_prefix('/') {
        match name.strip_suffix('*') {
            Some(name) => (Expression::Segments, name),
            None => return fail(Kind::Expression(whole.to_owned()), whole.len()),
        }
    } else if inner.ends_with('*') || inner.is_empty() {
        return fail(Kind::Expression(whole.to_owned()), whole.len());
    } else {
        (Expression::Segment, inner)
    };
    if !is_name(name) {
        return fail(Kind::Name(name.to_owned()), whole.len());
    }
    Ok((form, name, whole.len()))
}

pub(crate) fn is_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_lowercase())
        && name
            .bytes()
            .all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
}

fn segments_stand_alone(text: &str, offset: usize, at: Range<usize>, name: &str) -> Result<()> {
    let range = offset + at.start..offset + at.end;
    if text[..at.start].ends_with('/') {
        return Err(TemplateError::new(Kind::SlashBefore(name.to_owned()), range));
    }
    let after = &text[at.end..];
    if after.is_empty() || after.starts_with('/') || after.starts_with("{/") {
        return Ok(());
    }
    Err(TemplateError::new(Kind::SlashAfter(name.to_owned()), range))
}

/// How the whole value of a parameter is written here that is a capture elsewhere: `*`, `:name`,
/// `$1`.
pub(super) fn foreign_value(value: &str) -> Option<String> {
    match (value.strip_prefix(':'), value.strip_prefix('$')) {
        (Some(name), _) if is_name(name) => Some(format!("{{{name}}}")),
        (_, Some(digits)) if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) => {
            Some("{name}".to_owned())
        }
        _ => (value == "*").then(|| "{name}".to_owned()),
    }
}

fn foreign_values(query: &str, offset: usize) -> Result<()> {
    let mut at = offset;
    for part in query.split('&') {
        let value = part.split_once('=').map_or("", |(_, value)| value);
        if let Some(instead) = foreign_value(value) {
            let end = at + part.len();
            let kind = Kind::Foreign(value.to_owned(), instead);
            return Err(TemplateError::new(kind, end - value.len()..end));
        }
        at += part.len() + 1;
    }
    Ok(())
}

/// Finds pieces written as they are elsewhere: `:name`, `*`, `$1`.
fn foreign(text: &str, offset: usize, piece: Range<usize>) -> Result<()> {
    let bytes = text.as_bytes();
    for at in piece.clone() {
        let after = &bytes[at + 1..piece.end];
        let run = |accept: fn(u8) -> bool| after.iter().take_while(|&&byte| accept(byte)).count();
        let (from, to, instead) = match bytes[at] {
            b':' if at > 0 && bytes[at - 1] == b'/' => {
                let len = run(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
                let name = text[at + 1..at + 1 + len].to_ascii_lowercase();
                if !is_name(&name) {
                    continue;
                }
                (at, at + 1 + len, Expression::Segment.written(&name))
            }
            b'*' => {
                let stars = 1 + run(|byte| byte == b'*');
                let whole_segment = at > 0 && bytes[at - 1] == b'/' && at + stars == text.len();
                let form = if whole_segment { Expression::Segments } else { Expression::Any };
                (at - usize::from(whole_segment), at + stars, form.written("rest"))
            }
            b'$' => {
                let len = run(|byte| byte.is_ascii_digit());
                if len == 0 {
                    continue;
                }
                (at, at + 1 + len, "{name}".to_owned())
            }
            _ => continue,
        };
        return Err(TemplateError::new(
            Kind::Foreign(text[from..to].to_owned(), instead),
            offset + from..offset + to,
        ));
    }
    Ok(())
}

fn no_dots<const INLINE: usize>(template: &Template<INLINE>, range: Range<usize>) -> Result<()> {
    // What an expression could stand for counts as a character of its segment.
    let mut shape = String::with_capacity(template.as_str().len());
    for part in template.parts() {
        match *part {
            super::Part::Text { start, end } => shape.push_str(template.slice(start, end)),
            super::Part::Expression { form: Expression::Segments, .. } => shape.push_str("/x"),
            super::Part::Expression { .. } => shape.push('x'),
        }
    }
    match shape.split('/').any(|segment| matches!(segment, "." | "..")) {
        true => Err(TemplateError::new(Kind::Dots, range)),
        false => Ok(()),
    }
}
