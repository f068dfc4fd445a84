//! Writes a zone again, with only what changes changed.

use std::collections::BTreeMap;

use super::read::ReaderState;
use super::scan::{Scanner, Words};
use super::{Name, RecordType, Zone};

/// What becomes of a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// It goes, with its line.
    Remove,
    /// It says something else, or lives for another time; what is none stays.
    Set {
        /// The new life, in seconds.
        ttl: Option<u32>,
        /// The new data, in the notation of master files, with whole names.
        data: Option<String>,
    },
}

/// A record that is added.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewRecord {
    pub(crate) name: Name,
    pub(crate) ttl: u32,
    pub(crate) kind: RecordType,
    pub(crate) data: String,
}

impl NewRecord {
    /// Whose it is.
    pub fn name(&self) -> &Name {
        &self.name
    }

    /// Its TTL, in seconds.
    pub fn ttl(&self) -> u32 {
        self.ttl
    }

    /// Its type.
    pub fn kind(&self) -> RecordType {
        self.kind
    }

    /// What it says, in the notation of master files, with whole names.
    pub fn data(&self) -> &str {
        &self.data
    }
}

/// What becomes of a zone.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Changes {
    pub(crate) changed: BTreeMap<u32, Change>,
    pub(crate) added: Vec<NewRecord>,
}

impl NewRecord {
    /// A record of a name, with its TTL in seconds, its type and its data in the notation of master
    /// files, with whole names.
    ///
    /// ```
    /// use ravel_dns::zone::{NewRecord, RecordType};
    ///
    /// let record = NewRecord::new("h.example".parse()?, 300, RecordType::A, "192.0.2.44");
    /// assert_eq!(record.data(), "192.0.2.44");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(name: Name, ttl: u32, kind: RecordType, data: impl Into<String>) -> NewRecord {
        NewRecord { name, ttl, kind, data: data.into() }
    }
}

impl Changes {
    /// Lets something become of a record, by its number in [`Zone::records`].
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// use ravel_dns::zone::{Change, Changes};
    ///
    /// let mut changes = Changes::default();
    /// changes.change(2, Change::Remove);
    /// assert!(!zone.with(&changes).contains("www"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn change(&mut self, number: u32, change: Change) {
        self.changed.insert(number, change);
    }

    /// Adds a record.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// use ravel_dns::zone::{Changes, NewRecord, RecordType};
    ///
    /// let mut changes = Changes::default();
    /// changes.add(NewRecord::new("m.h.example".parse()?, 300, RecordType::A, "192.0.2.9"));
    /// assert_eq!(zone.changed(&changes).records().len(), zone.records().len() + 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn add(&mut self, record: NewRecord) {
        self.added.push(record);
    }

    /// Whether nothing changes.
    pub fn is_empty(&self) -> bool {
        self.changed.is_empty() && self.added.is_empty()
    }

    /// By the numbers of records in [`Zone::records`].
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// assert_eq!(zone.changed(plan.changes()).serial(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn changed(&self) -> &BTreeMap<u32, Change> {
        &self.changed
    }

    /// New records, in order.
    pub fn added(&self) -> &[NewRecord] {
        &self.added
    }
}

impl Zone {
    /// The zone with these changes.
    pub fn changed(&self, changes: &Changes) -> Zone {
        let domain = self.origin.to_string();
        Zone::parse(&domain, &self.with(changes)).expect("what is written can be read")
    }

    /// The same zone with another serial.
    pub(crate) fn with_serial(&self, serial: u32) -> Zone {
        let at = &self.entries[self.soa as usize].serial;
        let (before, after) = (&self.text[..at.start as usize], &self.text[at.end as usize..]);
        let domain = self.origin.to_string();
        Zone::parse(&domain, &format!("{before}{serial}{after}")).expect("a serial can be read")
    }

    /// The text of the zone with these changes and the serial raised by one (RFC 1982, section 3);
    /// all else stays as it stands. Without changes it is the same text.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// assert!(zone.with(plan.changes()).contains("192.0.2.44"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn with(&self, changes: &Changes) -> String {
        if changes.is_empty() {
            return self.text.to_string();
        }
        Writer::new(self, changes).write()
    }
}

/// Writes a zone, with a reader's sight of what is written so far.
struct Writer<'z> {
    zone: &'z Zone,
    changes: &'z Changes,
    /// New records by the number of the record that they stand behind.
    behind: BTreeMap<u32, Vec<&'z NewRecord>>,
    sight: ReaderState,
    out: String,
    /// How far the old text is written.
    at: usize,
}

impl<'z> Writer<'z> {
    fn new(zone: &'z Zone, changes: &'z Changes) -> Writer<'z> {
        let mut behind: BTreeMap<u32, Vec<&NewRecord>> = BTreeMap::new();
        let last = zone.entries.len() as u32 - 1;
        for record in &changes.added {
            let place = zone.numbers_of(&record.name).last().unwrap_or(last);
            behind.entry(place).or_default().push(record);
        }
        let out = String::with_capacity(zone.text.len() + 80 * changes.added.len() + 80);
        Writer { zone, changes, behind, sight: ReaderState::new(&zone.origin), out, at: 0 }
    }

    fn write(mut self) -> String {
        let text = &*self.zone.text;
        // Directives are met in their order between the records.
        let mut scanner = Scanner::new(text);
        let mut words = Words::default();
        let mut number = 0;
        while let Ok(true) = scanner.next(&mut words) {
            if words.words[0].text.starts_with('$') && !words.indented {
                self.copy_to(words.whole.end);
                // It was understood when the zone was read.
                let _ = self.sight.direct(&words);
                continue;
            }
            self.record(number);
            for record in self.behind.remove(&number).unwrap_or_default() {
                self.new_record(record);
            }
            number += 1;
        }
        self.copy_to(text.len());
        self.out
    }

    fn copy_to(&mut self, end: usize) {
        self.out.push_str(&self.zone.text[self.at..end]);
        self.at = end;
    }

    fn record(&mut self, number: u32) {
        let entry = &self.zone.entries[number as usize];
        self.copy_to(entry.whole.start as usize);
        let change = self.changes.changed.get(&number);
        if change == Some(&Change::Remove) {
            self.at = entry.whole.end as usize;
            return;
        }
        let (new_ttl, new_data) = match change {
            Some(Change::Set { ttl, data }) => (*ttl, data.as_deref()),
            _ => (None, None),
        };
        let ttl = new_ttl.unwrap_or(entry.record.ttl);
        if entry.owner.is_none() && self.sight.owner.as_ref() != Some(&entry.record.name) {
            // The line that wrote the name is gone; this one begins with white space.
            let name = self.name(&entry.record.name);
            self.out.push_str(&name);
        }
        self.copy_to(entry.rest as usize);
        let mut written = entry.ttl.is_some();
        match &entry.ttl {
            Some(at) if ttl != entry.record.ttl => {
                self.copy_to(at.start as usize);
                self.out.push_str(&ttl.to_string());
                self.at = at.end as usize;
            }
            None if ttl
                != self
                    .sight
                    .ttl()
                    .or_else(|| entry.record.minimum())
                    .unwrap_or(ttl.wrapping_add(1)) =>
            {
                self.out.push_str(&format!("{ttl} "));
                written = true;
            }
            _ => {}
        }
        if let Some(data) = new_data {
            self.copy_to(entry.data.start as usize);
            self.out.push_str(data);
            self.at = entry.data.end as usize;
        }
        if entry.record.kind == RecordType::SOA {
            self.copy_to(entry.serial.start as usize);
            self.out.push_str(&self.zone.serial().wrapping_add(1).to_string());
            self.at = entry.serial.end as usize;
        }
        self.copy_to(entry.whole.end as usize);
        self.sight.pass(&entry.record, written.then_some(ttl));
    }

    fn new_record(&mut self, record: &NewRecord) {
        if !self.out.is_empty() && !self.out.ends_with('\n') {
            self.out.push('\n');
        }
        let name = self.name(&record.name);
        let end = if self.zone.text.contains("\r\n") { "\r\n" } else { "\n" };
        let ttl = if self.sight.ttl() == Some(record.ttl) {
            String::new()
        } else {
            format!("{} ", record.ttl)
        };
        self.out.push_str(&format!("{name} {ttl}IN {} {}{end}", record.kind, record.data));
        self.sight.owner = Some(record.name.clone());
        if !ttl.is_empty() {
            self.sight.last_ttl = Some(record.ttl);
        }
    }

    /// A name as it is written here: relative where the origin is the zone's.
    fn name(&self, name: &Name) -> String {
        let origin = &self.zone.origin;
        if self.sight.origin != *origin {
            return name.to_master();
        }
        if name == origin {
            return "@".to_owned();
        }
        let whole = name.to_master();
        let suffix = format!(".{}", origin.to_master());
        match whole
            .len()
            .checked_sub(suffix.len())
            .filter(|at| whole[*at..].eq_ignore_ascii_case(&suffix))
        {
            Some(at) => whole[..at].to_owned(),
            None => whole,
        }
    }
}
