//! What a zone answers.

use super::{Name, Record, RecordData, RecordType, Zone};

/// What a zone answers when it is asked for a name and a type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lookup<'z> {
    /// The records, all of that name and type; those of a wildcard keep its name.
    Records(Vec<&'z Record>),
    /// Another name to ask, by this CNAME.
    Alias(&'z Record, Name),
    /// The name belongs to another zone, by these NS records.
    Delegated(Vec<&'z Record>),
    /// The name has no records of the type.
    NoData,
    /// There is no such name (or the name is not in the zone).
    NoName,
}

impl Zone {
    /// Answers a question (RFC 1034, section 4.3.2; wildcards by RFC 4592).
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// use ravel_dns::zone::{Lookup, RecordType};
    ///
    /// let found = zone.lookup(&"www.h.example".parse()?, RecordType::A);
    /// assert!(matches!(found, Lookup::Alias(_, name) if name == "h.example".parse()?));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn lookup<'z>(&'z self, name: &Name, kind: RecordType) -> Lookup<'z> {
        if !self.origin.holds(name) {
            return Lookup::NoName;
        }
        if let Some(cut) =
            self.cut_above(name).filter(|cut| kind != RecordType::DS || *cut != *name)
        {
            return Lookup::Delegated(self.set(&cut, RecordType::NS).collect());
        }
        if self.names.contains_key(name) {
            return self.answer_of(name, kind);
        }
        let mut above = name.above();
        while !self.names.contains_key(&above) {
            above = above.above();
        }
        match above.0.prepend_label("*").map(Name) {
            Ok(wildcard) if self.names.contains_key(&wildcard) => self.answer_of(&wildcard, kind),
            _ => Lookup::NoName,
        }
    }

    /// The highest name below the zone's, at or above this one, that is another zone's.
    pub(crate) fn cut_above(&self, name: &Name) -> Option<Name> {
        let depth = self.origin.0.num_labels();
        // A wildcard's label is not counted by the package.
        let labels = name.0.iter().len();
        (usize::from(depth) + 1..=labels)
            .map(|count| Name(name.0.trim_to(count)))
            .find(|above| self.set(above, RecordType::NS).next().is_some())
    }

    fn answer_of<'z>(&'z self, name: &Name, kind: RecordType) -> Lookup<'z> {
        if kind != RecordType::CNAME
            && let Some((record, target)) = self.alias_of(name)
        {
            return Lookup::Alias(record, target);
        }
        let records: Vec<&Record> = match kind {
            RecordType::ANY => self.of(name).collect(),
            kind => self.set(name, kind).collect(),
        };
        if records.is_empty() { Lookup::NoData } else { Lookup::Records(records) }
    }

    fn alias_of(&self, name: &Name) -> Option<(&Record, Name)> {
        self.set(name, RecordType::CNAME)
            .find_map(|record| Some((record, record.data.as_ref().and_then(RecordData::alias)?)))
    }
}
