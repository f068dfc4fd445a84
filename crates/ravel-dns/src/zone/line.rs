//! Reads one entry of a master file: a record or a directive (RFC 1035, section 5.1).

use std::ops::Range;

use hickory_proto::serialize::txt::parse_ttl;

use super::name::absolute;
use super::scan::{Word, Words};
use super::{
    Entry, Name, Notation, Record, RecordType, Spans, ZoneError, ZoneErrorKind, data, minimum,
};

/// What earlier lines say about later ones; the writer keeps the same, to know what a reader will
/// understand.
#[derive(Debug, Clone)]
pub(super) struct ReaderState {
    pub(super) origin: Name,
    /// From `$TTL` (RFC 2308, section 4).
    pub(super) default_ttl: Option<u32>,
    /// The last that was written (RFC 1035, section 5.1).
    pub(super) last_ttl: Option<u32>,
    /// The TTL of records for which nothing says any: the SOA's minimum.
    pub(super) minimum: Option<u32>,
    pub(super) owner: Option<Name>,
}

impl ReaderState {
    pub(super) fn new(origin: &Name) -> ReaderState {
        ReaderState {
            origin: origin.clone(),
            default_ttl: None,
            last_ttl: None,
            minimum: None,
            owner: None,
        }
    }

    /// The TTL of a record that does not write its own.
    pub(super) fn ttl(&self) -> Option<u32> {
        self.default_ttl.or(self.last_ttl).or(self.minimum)
    }

    /// Takes in a record, with the TTL it writes, if it does.
    pub(super) fn pass(&mut self, record: &Record, written_ttl: Option<u32>) {
        self.owner = Some(record.name.clone());
        self.last_ttl = written_ttl.or(self.last_ttl);
        self.minimum = record.minimum().or(self.minimum);
    }

    /// Takes in a directive.
    pub(super) fn direct(&mut self, words: &Words<'_>) -> Result<(), ZoneError> {
        let name = words.words[0].text.to_ascii_uppercase();
        let argument = words.words.get(1);
        match &*name {
            "$ORIGIN" => {
                let origin = argument.and_then(|word| absolute(word.text, &self.origin));
                self.origin =
                    origin.ok_or_else(|| expected("the name of an origin", argument, words))?;
            }
            "$TTL" => {
                let ttl = argument.and_then(|word| parse_ttl(word.text).ok());
                self.default_ttl =
                    Some(ttl.ok_or_else(|| expected("a TTL in seconds", argument, words))?);
            }
            _ => {
                return Err(ZoneError {
                    line: words.line,
                    kind: ZoneErrorKind::Directive(words.words[0].text.to_owned()),
                });
            }
        }
        match words.words.get(2) {
            Some(word) => Err(expected("the end of the line", Some(word), words)),
            None => Ok(()),
        }
    }
}

pub(super) fn expected(
    wanted: &'static str,
    found: Option<&Word<'_>>,
    words: &Words<'_>,
) -> ZoneError {
    let last = words.words.last().map_or(words.line, |word| word.line);
    let line = found.map_or(last, |word| word.line);
    ZoneError {
        line,
        kind: ZoneErrorKind::Expected { wanted, found: found.map(|word| word.text.to_owned()) },
    }
}

pub(super) fn span(range: &Range<usize>) -> Range<u32> {
    range.start as u32..range.end as u32
}

/// Takes the class and the TTL, which are in either order (RFC 1035, section 5.1); gives the TTL with
/// its place.
fn ttl_and_class(
    rest: &mut &[Word<'_>],
    words: &Words<'_>,
) -> Result<Option<(u32, Range<u32>)>, ZoneError> {
    let (mut ttl, mut class) = (None, false);
    while let Some((word, after)) = rest.split_first() {
        if ttl.is_none() && word.text.starts_with(|first: char| first.is_ascii_digit()) {
            let seconds = parse_ttl(word.text)
                .map_err(|_| expected("a TTL in seconds", Some(word), words))?;
            ttl = Some((seconds, span(&word.at)));
        } else if !class && is_class(word.text) {
            if !word.text.eq_ignore_ascii_case("IN") && !word.text.eq_ignore_ascii_case("CLASS1") {
                let kind = ZoneErrorKind::Class(word.text.to_owned());
                return Err(ZoneError { line: words.line, kind });
            }
            class = true;
        } else {
            break;
        }
        *rest = after;
    }
    Ok(ttl)
}

pub(super) fn entry(words: &Words<'_>, sight: &ReaderState) -> Result<Entry, ZoneError> {
    let fail = |kind| ZoneError { line: words.line, kind };
    let mut rest = words.words.as_slice();
    let (name, owner) = match words.indented {
        true => (sight.owner.clone().ok_or_else(|| fail(ZoneErrorKind::NoName))?, None),
        false => {
            let word = &rest[0];
            rest = &rest[1..];
            let name = absolute(word.text, &sight.origin).filter(|_| !word.quoted);
            (name.ok_or_else(|| expected("a name", Some(word), words))?, Some(span(&word.at)))
        }
    };
    let start = rest
        .first()
        .ok_or_else(|| expected("a type such as `A` or `CNAME`", None, words))?
        .at
        .start as u32;
    let ttl = ttl_and_class(&mut rest, words)?;
    let (word, data_words) = match rest.split_first() {
        Some(split) => split,
        None => return Err(expected("a type such as `A` or `CNAME`", None, words)),
    };
    let kind = word.text.parse::<RecordType>().ok().filter(|_| !word.quoted);
    let kind = kind.ok_or_else(|| expected("a type such as `A` or `CNAME`", Some(word), words))?;
    let data = data::read(kind, data_words, &sight.origin)
        .map_err(|(wanted, at)| expected(wanted, at.and_then(|at| data_words.get(at)), words))?;
    let seconds = ttl
        .as_ref()
        .map(|(seconds, _)| *seconds)
        .or_else(|| sight.ttl())
        .or_else(|| minimum(data.as_ref()));
    let seconds = seconds.ok_or_else(|| {
        expected("a TTL in seconds (here, or in `$TTL` above)", Some(word), words)
    })?;
    let data_at = data_words.first().map_or(word.at.end..word.at.end, |first| {
        first.at.start..data_words.last().map_or(first.at.end, |last| last.at.end)
    });
    let serial = match kind {
        RecordType::SOA => data_words.get(2).map_or(0..0, |word| span(&word.at)),
        _ => 0..0,
    };
    let spans = Spans {
        whole: span(&words.whole),
        owner,
        ttl: ttl.map(|(_, at)| at),
        rest: start,
        data: span(&data_at),
        serial,
    };
    Ok(Entry {
        record: Record { name, ttl: seconds, kind, data, line: words.line },
        notation: Notation::Here(spans),
    })
}

fn is_class(word: &str) -> bool {
    let upper = word.to_ascii_uppercase();
    matches!(&*upper, "IN" | "CH" | "HS" | "CS")
        || upper.strip_prefix("CLASS").is_some_and(|code| code.parse::<u16>().is_ok())
}
