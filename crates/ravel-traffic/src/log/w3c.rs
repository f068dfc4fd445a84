//! W3C Extended Log File Format (W3C Working Draft WD-logfile-960323).

use std::borrow::Cow;

use super::common::status;
use super::day::iso;
use super::{DayReader, LogLine, LoggedRequest, Parsed};

/// The fields of the lines, by the directive `#Fields:`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct W3cFields(Vec<Field>);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Field {
    Date,
    Method,
    /// The whole URI.
    Uri,
    Stem,
    Query,
    Status,
    Host,
    Scheme,
    UserAgent,
    Referer,
    Other,
}

impl W3cFields {
    /// The fields that a line names, if it is that directive.
    pub(super) fn of(line: &[u8]) -> Option<W3cFields> {
        let names = std::str::from_utf8(line).ok()?.trim().strip_prefix("#Fields:")?;
        let field = |name: &str| match name.to_ascii_lowercase().as_str() {
            "date" => Field::Date,
            "cs-method" => Field::Method,
            "cs-uri" => Field::Uri,
            "cs-uri-stem" => Field::Stem,
            "cs-uri-query" => Field::Query,
            "sc-status" => Field::Status,
            "cs-host" | "cs(host)" => Field::Host,
            "cs-uri-scheme" => Field::Scheme,
            "cs(user-agent)" => Field::UserAgent,
            "cs(referer)" => Field::Referer,
            _ => Field::Other,
        };
        Some(W3cFields(names.split_ascii_whitespace().map(field).collect()))
    }

    pub(super) fn parse<'l>(&self, line: &'l [u8], _: &mut DayReader) -> Parsed<'l> {
        if line.starts_with(b"#") {
            return Parsed::Nothing;
        }
        let mut parsed: LogLine<'l> = LogLine::NOTHING;
        let (mut method, mut uri, mut query) = (&b"GET"[..], None, None);
        let mut fields = self.0.iter();
        for text in fields_of(line) {
            let Some(field) = fields.next() else {
                return Parsed::Unread("there are more fields than `#Fields:` names");
            };
            let known = Some(text).filter(|text| *text != b"-");
            match field {
                Field::Date => parsed.day = known.and_then(iso),
                Field::Method => method = known.unwrap_or(b"-"),
                Field::Uri | Field::Stem => uri = known,
                Field::Query => query = known,
                Field::Status => match status(text) {
                    Some(status) => parsed.status = status,
                    None => return Parsed::Unread("`sc-status` is not a status"),
                },
                Field::Host => parsed.host = known.map(Cow::Borrowed),
                Field::Scheme => parsed.scheme = known.map(Cow::Borrowed),
                Field::UserAgent => parsed.user_agent = known,
                Field::Referer => parsed.referer = known,
                Field::Other => {}
            }
        }
        if fields.next().is_some() {
            return Parsed::Unread("there are fewer fields than `#Fields:` names");
        }
        if !self.0.iter().any(|field| matches!(field, Field::Uri | Field::Stem)) {
            return Parsed::Unread("`#Fields:` names no `cs-uri-stem`, and no `cs-uri`");
        }
        if let Some(uri) = uri {
            let target = match query {
                Some(query) => Cow::Owned([uri, b"?", query].concat()),
                None => Cow::Borrowed(uri),
            };
            parsed.asked = LoggedRequest::Parts(Cow::Borrowed(method), target);
        }
        Parsed::Line(parsed)
    }
}

/// Fields are separated by white space; one in quotes may have some (section “Entries”).
fn fields_of(line: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut rest = line.trim_ascii();
    std::iter::from_fn(move || {
        if rest.is_empty() {
            return None;
        }
        let end = match rest.strip_prefix(b"\"").and_then(|inner| memchr::memchr(b'"', inner)) {
            Some(quote) => quote + 2,
            None => rest.iter().position(|b| b" \t".contains(b)).unwrap_or(rest.len()),
        };
        let field = &rest[..end];
        rest = rest[end..].trim_ascii_start();
        Some(field.strip_prefix(b"\"").and_then(|text| text.strip_suffix(b"\"")).unwrap_or(field))
    })
}
