//! What becomes of a zone.

use std::collections::BTreeMap;

use super::{Name, RecordType};

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
    /// Lets something become of a record, by its number in [`Zone::records`](super::Zone::records).
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

    /// By the numbers of records in [`Zone::records`](super::Zone::records).
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
