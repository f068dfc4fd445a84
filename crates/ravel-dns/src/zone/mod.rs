//! A zone as its master file writes it (RFC 1035, section 5).
//!
//! ```text
//!   text ──scan──▶ words of an entry ──line──▶ a record, with its place in the text
//!                       └──expand──▶ those that `$INCLUDE` and `$GENERATE` stand for ──▶ Zone (read)
//!                                                                                        │
//!                       lookup (RFC 1034) ◀──────────────────────────────────────────────┼──▶ write: the text again,
//!                                                                                             with only what changes changed
//! ```
//!
//! The text is kept, so that comments, order and notation outlive a change. `$INCLUDE` and `$GENERATE`
//! stand for records that are read, and are written as they stand until one of these changes.

mod change;
mod data;
mod error;
mod expand;
mod fields;
mod kind;
mod line;
mod lookup;
mod name;
mod read;
mod scan;
mod write;

pub use change::{Change, Changes, NewRecord};
pub use data::RecordData;
pub use error::{ZoneError, ZoneErrorKind};
pub use kind::{RecordType, RecordTypeError};
pub use lookup::Lookup;
pub use name::{Name, NameError};

use std::collections::BTreeMap;
use std::ops::Range;

use rustc_hash::FxHashMap;

/// A zone, with the text it was read from.
#[derive(Debug, Clone)]
pub struct Zone {
    text: Box<str>,
    origin: Name,
    entries: Vec<Entry>,
    /// The entries of each name; names that only have others below them have none.
    names: FxHashMap<Name, Vec<u32>>,
    /// Which entry is the SOA.
    soa: u32,
    /// The directives that stand for records.
    expansions: Vec<Expansion>,
    /// The texts of included files, by the names that they are read by.
    included: BTreeMap<Box<str>, Box<str>>,
    /// The folder that the names of included files are seen from, with a `/` at its end if it is one.
    folder: Box<str>,
}

/// A directive that stands for records.
#[derive(Debug, Clone)]
struct Expansion {
    /// From the start of its first line to the end of its last, with the line's end.
    whole: Range<u32>,
    /// Its records.
    entries: Range<u32>,
    /// What `$TTL` is behind it: a file that is included may say another.
    default_ttl: Option<u32>,
}

/// A record of a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    pub(crate) name: Name,
    pub(crate) ttl: u32,
    pub(crate) kind: RecordType,
    pub(crate) data: Option<RecordData>,
    pub(crate) line: u32,
}

/// A record, and how it is written.
#[derive(Debug, Clone)]
struct Entry {
    record: Record,
    notation: Notation,
}

/// How a record is written.
#[derive(Debug, Clone)]
enum Notation {
    /// In the text.
    Here(Spans),
    /// By a directive. Data of which the notation is not known here is kept as it stands, with what its
    /// names are relative to.
    Expanded(Option<(Name, Box<str>)>),
}

/// A record's place in the text, in bytes.
#[derive(Debug, Clone)]
struct Spans {
    /// From the start of its first line to the end of its last, with the line's end.
    whole: Range<u32>,
    /// The name, where it is written.
    owner: Option<Range<u32>>,
    /// The TTL, where it is written.
    ttl: Option<Range<u32>>,
    /// Where class, life or type begin.
    rest: u32,
    /// The data, from its first word to its last.
    data: Range<u32>,
    /// The serial, in an SOA.
    serial: Range<u32>,
}

impl Record {
    /// The minimum that an SOA states, in seconds; none for other records.
    fn minimum(&self) -> Option<u32> {
        minimum(self.data.as_ref())
    }

    /// Whose it is; always whole.
    pub fn name(&self) -> &Name {
        &self.name
    }

    /// How long it may be kept, in seconds.
    pub fn ttl(&self) -> u32 {
        self.ttl
    }

    /// Its type.
    pub fn kind(&self) -> RecordType {
        self.kind
    }

    /// What it says; none for types whose notation is not known here, which are kept as they stand.
    pub fn data(&self) -> Option<&RecordData> {
        self.data.as_ref()
    }

    /// The bytes that a TXT record says, its texts put together.
    pub(crate) fn said(&self) -> Vec<u8> {
        self.data.as_ref().map(RecordData::said).unwrap_or_default()
    }

    /// The line on which it begins, from 1.
    pub fn line(&self) -> u32 {
        self.line
    }
}

/// The minimum that the data of an SOA states.
fn minimum(data: Option<&RecordData>) -> Option<u32> {
    data?.soa().map(|(_, minimum)| minimum)
}

impl Zone {
    /// Takes in a record that was read.
    fn take(&mut self, entry: Entry) -> Result<(), ZoneError> {
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

    /// The name of the zone.
    pub fn origin(&self) -> &Name {
        &self.origin
    }

    /// The text that it was read from.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The records, in the order of the text.
    pub fn records(&self) -> impl ExactSizeIterator<Item = &Record> {
        self.entries.iter().map(|entry| &entry.record)
    }

    /// The serial of the zone's SOA.
    pub fn serial(&self) -> u32 {
        self.soa().data.as_ref().and_then(RecordData::soa).map_or(0, |(serial, _)| serial)
    }

    /// The SOA record.
    pub fn soa(&self) -> &Record {
        &self.entries[self.soa as usize].record
    }

    /// How long resolvers may keep that something is not there, in seconds (RFC 2308, section 5).
    pub fn negative_ttl(&self) -> u32 {
        self.soa().minimum().map_or(0, |minimum| minimum.min(self.soa().ttl))
    }

    /// The records of a name, in the order of the text.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// assert_eq!(zone.of(&"h.example".parse()?).count(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of<'z>(&'z self, name: &Name) -> impl Iterator<Item = &'z Record> {
        self.numbered(name).map(|(_, record)| record)
    }

    /// The records of a name, with their numbers in [`Zone::records`].
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// assert_eq!(zone.numbered(&"www.h.example".parse()?).next().unwrap().0, 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn numbered<'z>(&'z self, name: &Name) -> impl Iterator<Item = (u32, &'z Record)> {
        self.numbers_of(name).map(|number| (number, &self.entries[number as usize].record))
    }

    /// The records of a name and type.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// assert_eq!(zone.set(&"h.example".parse()?, ravel_dns::zone::RecordType::A).count(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn set<'z>(&'z self, name: &Name, kind: RecordType) -> impl Iterator<Item = &'z Record> {
        self.of(name).filter(move |record| record.kind == kind)
    }

    fn numbers_of(&self, name: &Name) -> impl Iterator<Item = u32> {
        self.names.get(name).map_or(&[][..], Vec::as_slice).iter().copied()
    }
}
