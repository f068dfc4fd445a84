//! Writes a zone again, with only what changes changed.

use std::collections::BTreeMap;

use super::line::ReaderState;
use super::scan::{Scanner, Words};
use super::{Change, Changes, Entry, Expansion, Name, NewRecord, Notation, RecordType, Zone};

impl Zone {
    /// The zone with these changes.
    pub fn changed(&self, changes: &Changes) -> Zone {
        self.again(&self.with(changes))
    }

    /// The same zone with another serial.
    pub(crate) fn with_serial(&self, serial: u32) -> Zone {
        self.again(&Writer::new(self, &Changes::default(), serial).write())
    }

    /// Reads a text of this zone, with the files that it includes as they were.
    fn again(&self, text: &str) -> Zone {
        let read = |name: &str| {
            self.included.get(name).map(|text| text.as_bytes().to_vec()).ok_or("it is not known")
        };
        Zone::parse_with(&self.origin.to_string(), text, &self.folder, read)
            .expect("what is written can be read")
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
        Writer::new(self, changes, self.serial().wrapping_add(1)).write()
    }
}

/// Writes a zone, with a reader's sight of what is written so far.
struct Writer<'z> {
    zone: &'z Zone,
    changes: &'z Changes,
    /// New records by the number of the record that they stand behind.
    behind: BTreeMap<u32, Vec<&'z NewRecord>>,
    sight: ReaderState,
    serial: u32,
    out: String,
    /// How far the old text is written.
    at: usize,
}

impl<'z> Writer<'z> {
    fn new(zone: &'z Zone, changes: &'z Changes, serial: u32) -> Writer<'z> {
        let mut behind: BTreeMap<u32, Vec<&NewRecord>> = BTreeMap::new();
        let last = zone.entries.len() as u32 - 1;
        for record in &changes.added {
            let place = zone.numbers_of(&record.name).last().unwrap_or(last);
            behind.entry(place).or_default().push(record);
        }
        let out = String::with_capacity(zone.text.len() + 80 * changes.added.len() + 80);
        let sight = ReaderState::new(&zone.origin);
        Writer { zone, changes, behind, sight, serial, out, at: 0 }
    }

    fn write(mut self) -> String {
        let text = &*self.zone.text;
        // Directives are met in their order between the records.
        let mut scanner = Scanner::new(text);
        let mut words = Words::default();
        let (mut number, mut expansions) = (0, self.zone.expansions.iter());
        while let Ok(true) = scanner.next(&mut words) {
            if words.expands()
                && let Some(expansion) = expansions.next()
            {
                self.expansion(expansion);
                number = expansion.entries.end;
                continue;
            }
            if words.is_directive() {
                self.copy_to(words.whole.end);
                // It was understood when the zone was read.
                let _ = self.sight.direct(&words);
                continue;
            }
            self.record(number);
            self.new_records(number);
            number += 1;
        }
        self.copy_to(text.len());
        self.out
    }

    /// A directive that stands for records: as it is, or the records where one of them changes.
    fn expansion(&mut self, expansion: &Expansion) {
        let stays =
            |number: &u32| *number != self.zone.soa && !self.changes.changed.contains_key(number);
        let entries = || expansion.entries.clone();
        let owner = self.sight.owner.clone();
        if entries().all(|number| stays(&number)) {
            self.copy_to(expansion.whole.end as usize);
            for number in entries() {
                let record = &self.zone.entries[number as usize].record;
                self.sight.pass(record, Some(record.ttl));
            }
            self.sight.default_ttl = expansion.default_ttl;
            // A directive leaves the name that later lines leave out as it was.
            self.sight.owner = owner;
        } else {
            self.copy_to(expansion.whole.start as usize);
            let whole = expansion.whole.start as usize..expansion.whole.end as usize;
            let said = self.zone.text[whole].trim_end();
            self.line(
                &format!("; Written out, since some of it changes: {said}").replace('\n', "\n; "),
            );
            self.at = expansion.whole.end as usize;
            let origin = self.sight.origin.clone();
            entries().for_each(|number| self.written_out(number));
            self.turn_to(&origin);
        }
        entries().for_each(|number| self.new_records(number));
    }

    /// A record of a directive, as a line.
    fn written_out(&mut self, number: u32) {
        let entry = &self.zone.entries[number as usize];
        let (ttl, data) = match self.changes.changed.get(&number) {
            Some(Change::Remove) => return,
            Some(Change::Set { ttl, data }) => (ttl.unwrap_or(entry.record.ttl), data.clone()),
            None => (entry.record.ttl, None),
        };
        let kept = match &entry.notation {
            Notation::Expanded(Some((origin, text))) if data.is_none() => {
                self.turn_to(origin);
                Some(text.to_string())
            }
            _ => None,
        };
        let own = || match (&entry.record.data, number == self.zone.soa) {
            (Some(data), true) => {
                // Its serial is the third word.
                let text = data.to_string();
                let mut words: Vec<&str> = text.split(' ').collect();
                let serial = self.serial.to_string();
                words[2] = &serial;
                words.join(" ")
            }
            (Some(data), false) => data.to_string(),
            (None, _) => String::new(),
        };
        let data = data.or(kept).unwrap_or_else(own);
        let (name, kind) = (self.name(&entry.record.name), entry.record.kind);
        self.line(&format!("{name} {ttl} IN {kind} {data}"));
        self.sight.pass(&entry.record, Some(ttl));
    }

    /// Lets relative names be relative to another name.
    fn turn_to(&mut self, origin: &Name) {
        if self.sight.origin != *origin {
            self.line(&format!("$ORIGIN {}", origin.to_master()));
            self.sight.origin = origin.clone();
        }
    }

    fn line(&mut self, line: &str) {
        if !self.out.is_empty() && !self.out.ends_with('\n') {
            self.out.push('\n');
        }
        self.out.push_str(line);
        self.out.push_str(if self.zone.text.contains("\r\n") { "\r\n" } else { "\n" });
    }

    fn new_records(&mut self, number: u32) {
        for record in self.behind.remove(&number).unwrap_or_default() {
            self.new_record(record);
        }
    }

    fn copy_to(&mut self, end: usize) {
        self.out.push_str(&self.zone.text[self.at..end]);
        self.at = end;
    }

    fn record(&mut self, number: u32) {
        let Entry { record, notation: Notation::Here(entry) } = &self.zone.entries[number as usize]
        else {
            return;
        };
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
        let ttl = new_ttl.unwrap_or(record.ttl);
        if entry.owner.is_none() && self.sight.owner.as_ref() != Some(&record.name) {
            // The line that wrote the name is gone; this one begins with white space.
            let name = self.name(&record.name);
            self.out.push_str(&name);
        }
        self.copy_to(entry.rest as usize);
        let mut written = entry.ttl.is_some();
        match &entry.ttl {
            Some(at) if ttl != record.ttl => {
                self.copy_to(at.start as usize);
                self.out.push_str(&ttl.to_string());
                self.at = at.end as usize;
            }
            None if ttl
                != self.sight.ttl().or_else(|| record.minimum()).unwrap_or(ttl.wrapping_add(1)) =>
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
        if record.kind == RecordType::SOA {
            self.copy_to(entry.serial.start as usize);
            self.out.push_str(&self.serial.to_string());
            self.at = entry.serial.end as usize;
        }
        self.copy_to(entry.whole.end as usize);
        self.sight.pass(record, written.then_some(ttl));
    }

    fn new_record(&mut self, record: &NewRecord) {
        let name = self.name(&record.name);
        let ttl = if self.sight.ttl() == Some(record.ttl) {
            String::new()
        } else {
            format!("{} ", record.ttl)
        };
        self.line(&format!("{name} {ttl}IN {} {}", record.kind, record.data));
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
