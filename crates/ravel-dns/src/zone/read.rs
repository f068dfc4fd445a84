//! Reads master files (RFC 1035, section 5).

use std::collections::BTreeMap;
use std::ops::Range;

use hickory_proto::serialize::txt::parse_ttl;
use rustc_hash::FxHashMap;

use super::expand::Reading;
use super::scan::{Word, Words};
use super::{
    Entry, Name, Notation, Record, RecordType, Spans, Zone, ZoneError, ZoneErrorKind, data, minimum,
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
                let origin = argument.and_then(|word| data::absolute(word.text, &self.origin));
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

impl Zone {
    /// Reads a zone file; `domain` is its first origin, and the name that its SOA must have. What it
    /// includes is not read: see [`Zone::parse_with`].
    ///
    /// ```
    /// let error = ravel_dns::Zone::parse("h.example", "@ 1h A 192.0.2.44\n").unwrap_err();
    /// assert!(error.to_string().contains("no SOA record"));
    /// ```
    ///
    /// # Errors
    /// The first line that cannot be understood.
    pub fn parse(domain: &str, text: &str) -> Result<Zone, ZoneError> {
        Zone::parse_with(domain, text, "", |_| Err::<Vec<u8>, _>("nothing reads files here"))
    }

    /// Reads a zone file, and with `read` the files that it includes, by their names as seen from
    /// `folder`.
    ///
    /// ```
    /// let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n$INCLUDE hosts.zone\n$GENERATE 1-3 berth$ A 192.0.2.$\n";
    /// let read = |name: &str| match name {
    ///     "dns/hosts.zone" => Ok(b"www 1h A 192.0.2.44\n".to_vec()),
    ///     _ => Err("no such file"),
    /// };
    /// let zone = ravel_dns::Zone::parse_with("h.example", text, "dns", read)?;
    /// assert_eq!(zone.of(&"berth2.h.example".parse()?).count(), 1);
    /// assert_eq!(zone.records().len(), 5);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// The first line that cannot be understood.
    pub fn parse_with<E: std::fmt::Display>(
        domain: &str,
        text: &str,
        folder: &str,
        mut read: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Zone, ZoneError> {
        let fail = |line, kind| ZoneError { line, kind };
        if u32::try_from(text.len()).is_err() {
            return Err(fail(1, ZoneErrorKind::TooLarge));
        }
        let body = text.strip_prefix('\u{feff}').unwrap_or(text);
        let wanted = || ZoneErrorKind::Expected {
            wanted: "the name of a domain",
            found: Some(domain.to_owned()),
        };
        let origin: Name = domain.parse().map_err(|_| fail(1, wanted()))?;
        let zone = Zone {
            text: body.into(),
            origin: origin.clone(),
            entries: Vec::new(),
            names: FxHashMap::default(),
            soa: u32::MAX,
            expansions: Vec::new(),
            included: BTreeMap::new(),
            folder: match folder {
                "" => "".into(),
                folder => format!("{}/", folder.trim_end_matches('/')).into(),
            },
        };
        let mut read = |name: &str| read(name).map_err(|error| error.to_string());
        let mut reading = Reading::new(zone, &mut read);
        reading.text(body, None)?;
        let zone = reading.zone;
        if zone.soa == u32::MAX {
            let line = u32::try_from(1 + body.matches('\n').count()).unwrap_or(u32::MAX);
            return Err(fail(line, ZoneErrorKind::NoSoa));
        }
        Ok(zone)
    }

    pub(super) fn take(&mut self, entry: Entry) -> Result<(), ZoneError> {
        let fail = |kind| Err(ZoneError { line: entry.record.line, kind });
        let number = self.entries.len() as u32;
        let name = &entry.record.name;
        if entry.record.kind == RecordType::SOA {
            if self.soa != u32::MAX {
                return fail(ZoneErrorKind::SecondSoa);
            }
            if *name != self.origin {
                return fail(ZoneErrorKind::OtherZone {
                    wanted: self.origin.to_string(),
                    found: name.to_string(),
                });
            }
            self.soa = number;
        }
        match self.names.get_mut(name) {
            Some(numbers) => numbers.push(number),
            None => {
                // Names between this one and the zone's are there, too, with no records (RFC 4592,
                // section 2.2.2).
                let mut above = name.above();
                while self.origin.holds(&above) && !self.names.contains_key(&above) {
                    let next = above.above();
                    self.names.insert(above, Vec::new());
                    above = next;
                }
                self.names.insert(name.clone(), vec![number]);
            }
        }
        self.entries.push(entry);
        Ok(())
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
            let name = data::absolute(word.text, &sight.origin).filter(|_| !word.quoted);
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
