//! Reads the parts of `expect` lines: outcomes, and what must hold of headers.

use http::header::LOCATION;

use super::{Cursor, Outcome, header_name, header_value};
use crate::language::grammar::OutcomeWord;
use crate::language::{Place, Problem, ProblemKind, Word};
use crate::program::WholeRegex;
use crate::rules::{Check, CheckTest, ExpectedOutcome, StatedOutcome};
use crate::template::Target;

pub(super) type ReadTarget<'c> = &'c dyn Fn(&Word<'_>, Place) -> Outcome<Target>;

/// How the addresses and the files of an expectation are read.
pub(super) struct Readers<'c, A, F> {
    pub(super) address: &'c dyn Fn(&Word<'_>, Place) -> Outcome<A>,
    pub(super) file: &'c dyn Fn(&Word<'_>, Place) -> Outcome<F>,
    /// How a header's value with captures is read, where there can be any.
    pub(super) capture: Option<ReadTarget<'c>>,
}

pub(super) fn goes_to<A, F>(
    cursor: &mut Cursor<'_>,
    read: &dyn Fn(&Word<'_>, Place) -> Outcome<A>,
) -> Outcome<ExpectedOutcome<A, F>> {
    let (address, status) = to_url(cursor, read)?;
    let mut hops = None;
    if cursor.take("in") {
        let word = cursor.word()?.ok_or_else(|| cursor.expected("a number of hops"))?;
        match word.text.parse::<usize>() {
            Ok(number) if number > 0 => hops = Some(number),
            _ => return Err(cursor.unexpected(word, "a number of hops, 1 or more")),
        }
        if !(cursor.take("hop") || cursor.take("hops")) {
            return Err(cursor.expected("`hop` or `hops`"));
        }
    }
    Ok(ExpectedOutcome::GoesTo { address, status, hops })
}

pub(super) fn redirects_to<A, F>(
    cursor: &mut Cursor<'_>,
    read: &dyn Fn(&Word<'_>, Place) -> Outcome<A>,
) -> Outcome<ExpectedOutcome<A, F>> {
    let (address, status) = to_url(cursor, read)?;
    Ok(ExpectedOutcome::RedirectsTo { address, status })
}

/// `to URL [as STATUS]`.
fn to_url<A>(
    cursor: &mut Cursor<'_>,
    read: &dyn Fn(&Word<'_>, Place) -> Outcome<A>,
) -> Outcome<(A, Option<u16>)> {
    if !cursor.take("to") {
        return Err(cursor.expected("`to` and a URL"));
    }
    let word = cursor.word()?.ok_or_else(|| cursor.expected("a URL"))?;
    let place = cursor.place(word.columns.clone());
    Ok((read(&word, place)?, as_status(cursor)?))
}

/// What follows `is`.
pub(super) fn is<A, F>(cursor: &mut Cursor<'_>) -> Outcome<ExpectedOutcome<A, F>> {
    let negated = cursor.take("not");
    let word = cursor.word()?.ok_or_else(|| cursor.expected(OutcomeWord::expected()))?;
    let is = match OutcomeWord::find(&word.text) {
        Some(OutcomeWord::Gone) => StatedOutcome::Gone,
        Some(OutcomeWord::Missing) => StatedOutcome::Missing,
        Some(OutcomeWord::Outside) => StatedOutcome::Outside,
        Some(OutcomeWord::Elsewhere) => StatedOutcome::Elsewhere,
        Some(OutcomeWord::Loop) if cursor.take("loop") => StatedOutcome::Loop,
        Some(OutcomeWord::Refused) => StatedOutcome::Refused,
        Some(OutcomeWord::Loop) | None => return Err(unknown_outcome(cursor, word)),
    };
    Ok(match negated {
        true => ExpectedOutcome::IsNot(is),
        false => ExpectedOutcome::Is(is, as_status(cursor)?),
    })
}

/// The problem of an outcome that is none, with the one that a status means.
fn unknown_outcome(cursor: &Cursor<'_>, word: Word<'_>) -> Problem {
    let found = word.text.into_owned();
    let nearest = match found.as_str() {
        "200" | "ok" | "served" => Some("serves FILE"),
        "301" | "302" | "303" | "307" | "308" | "redirect" => Some("redirects to URL"),
        "404" | "found" => Some("is missing"),
        "410" => Some("is gone"),
        "400" | "405" | "414" | "421" => Some("is refused"),
        "508" | "loop" => Some("is a loop"),
        other => OutcomeWord::nearest(other),
    };
    let allowed = OutcomeWord::expected().to_owned();
    Problem::new(
        cursor.place(word.columns),
        ProblemKind::UnknownOutcome { found, nearest, allowed },
    )
}

fn as_status(cursor: &mut Cursor<'_>) -> Outcome<Option<u16>> {
    if !cursor.take("as") {
        return Ok(None);
    }
    let word = cursor.word()?.ok_or_else(|| cursor.expected("a status"))?;
    let named = super::rule::status(&word.text).or_else(|| word.text.parse().ok());
    match named {
        Some(status @ 100..=599) => Ok(Some(status)),
        _ => Err(cursor.unexpected(word, "a status such as `301` or `permanent`")),
    }
}

/// The value of `has location:` where it has captures; what is in quotes is literal.
pub(super) fn location<A, F>(
    cursor: &mut Cursor<'_>,
    readers: &Readers<'_, A, F>,
) -> Outcome<Option<Target>> {
    let Some(read) = readers.capture else { return Ok(None) };
    let mut ahead = cursor.clone();
    let is_location = matches!(header_name(&mut ahead)?, (name, true) if name == LOCATION);
    let value = ahead.take_rest();
    let has_capture = super::headers::capture_in(&value.text);
    match has_capture {
        Some(_) if value.text.starts_with('"') => Ok(None),
        Some(_) if is_location => {
            *cursor = ahead;
            let place = cursor.place(value.columns.clone());
            read(&value, place).map(Some)
        }
        Some(found) => {
            Err(Problem::new(cursor.place(value.columns), ProblemKind::HeaderCapture { found }))
        }
        None => Ok(None),
    }
}

pub(super) fn has(cursor: &mut Cursor<'_>) -> Outcome<Check> {
    let (name, has_value) = header_name(cursor)?;
    let text = |cursor: &mut Cursor<'_>| -> Outcome<Box<str>> {
        let value = header_value(cursor)?;
        let value = value.to_str().unwrap_or_default();
        let quoted = value.strip_prefix('"').and_then(|rest| rest.strip_suffix('"'));
        Ok(quoted.filter(|_| name == LOCATION).unwrap_or(value).into())
    };
    let test = if has_value {
        CheckTest::HasValue(text(cursor)?)
    } else if cursor.take("containing") {
        CheckTest::HasContaining(text(cursor)?)
    } else if cursor.take("matching") {
        CheckTest::HasMatching(Box::new(regex(cursor)?))
    } else {
        CheckTest::Has
    };
    Ok(Check { name, test })
}

/// A regular expression between slashes, up to the end of the line.
fn regex(cursor: &mut Cursor<'_>) -> Outcome<WholeRegex> {
    let word = cursor.take_rest();
    let place = cursor.place(word.columns.clone());
    let inner = word.text.strip_prefix('/').and_then(|rest| rest.strip_suffix('/'));
    match inner.filter(|inner| !inner.is_empty()) {
        Some(inner) => WholeRegex::new(inner).map_err(|kind| Problem::new(place, kind)),
        None => {
            Err(cursor
                .unexpected(word, "a regular expression between slashes, as in `/max-age=.*/`"))
        }
    }
}
