//! What a zone has beside what the hosts of a site need of it.

use super::row::{Action, RecordValue, Row};
use super::zone::{Change, Changes, Name, NewRecord, Record, RecordData, RecordType, Zone};
use ravel::address::Host;
use ravel::rules::{Apex, Domain, Site, VerificationRecord, VerificationValue};

/// What a domain's zone has beside what the site's hosts need of it.
#[derive(Debug, Clone)]
pub struct Plan<'z> {
    pub(super) site: &'z Site,
    pub(super) domain: &'z Domain,
    pub(super) zone: &'z Zone,
    pub(super) hosts: Vec<PlannedHost>,
    rows: Vec<Row>,
    changes: Changes,
}

/// A host of the site in the domain.
#[derive(Debug, Clone)]
pub(super) struct PlannedHost {
    /// As the rules name it; a preview host may begin with `*.`.
    pub(super) host: String,
    pub(super) name: Name,
    /// Whether the zone can show what it gets, and change it.
    pub(super) seen: bool,
}

/// A host as a name of the DNS.
pub(super) fn name_of(host: &str) -> Name {
    // Hosts are shorter than names can be, and their labels too.
    host.parse().unwrap_or_else(|_| Name(Default::default()))
}

/// What the hosting gives for a bare domain, of one type.
pub(super) fn addresses(domain: &Domain, kind: RecordType) -> Vec<RecordData> {
    let data = domain.addresses().iter().map(|address| RecordData::address(*address));
    data.filter(|data| data.record_type() == kind).collect()
}

/// What a record that proves ownership says.
pub(super) fn verification(record: &VerificationRecord) -> RecordData {
    match record.value() {
        VerificationValue::Alias(target) => RecordData::alias_of(name_of(target.as_str())),
        VerificationValue::Text(text) => RecordData::text(text),
        // There is none that is not read.
        _ => RecordData::text(""),
    }
}

/// Types that may stand beside a CNAME (RFC 4034, section 2.5 and 4).
pub(super) fn beside_alias(kind: RecordType) -> bool {
    matches!(kind, RecordType::CNAME | RecordType::RRSIG | RecordType::NSEC)
}

fn is_address(kind: RecordType) -> bool {
    matches!(kind, RecordType::A | RecordType::AAAA)
}

impl<'z> Plan<'z> {
    /// What the hosts of a site in a domain need of its zone.
    ///
    /// ```
    /// use ravel_dns::{Action, Plan, Zone};
    ///
    /// let rules = ravel::Rules::parse(
    ///     "site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n",
    /// )?;
    /// let zone = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// let zone = Zone::parse("h.example", zone)?;
    /// let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// assert!(plan.rows().iter().any(|row| row.action().is_to_do()));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(site: &'z Site, domain: &'z Domain, zone: &'z Zone) -> Plan<'z> {
        let mut plan = Plan {
            site,
            domain,
            zone,
            hosts: Vec::new(),
            rows: Vec::new(),
            changes: Changes::default(),
        };
        for host in site.hosts().filter(|host| domain.holds(host)) {
            plan.host(host);
        }
        for record in domain.verification() {
            plan.verification(record);
        }
        if !domain.nameservers().is_empty() {
            let servers = domain.nameservers().iter().map(|host| name_of(host.as_str()));
            let needed: Vec<RecordData> = servers.map(RecordData::name_server).collect();
            plan.set(domain.name().as_str(), zone.origin(), RecordType::NS, &needed);
        }
        plan
    }

    /// The same for a domain with other settings that change no record.
    pub(super) fn of_domain<'d>(self, domain: &'d Domain) -> Plan<'d>
    where
        'z: 'd,
    {
        Plan { domain, ..self }
    }

    /// One row a record, the hosts in the order of the rules.
    pub fn rows(&self) -> &[Row] {
        &self.rows
    }

    /// What becomes of the zone.
    pub fn changes(&self) -> &Changes {
        &self.changes
    }

    /// The domain.
    pub fn domain(&self) -> &'z Domain {
        self.domain
    }

    /// The zone as it is.
    pub fn zone(&self) -> &'z Zone {
        self.zone
    }

    /// What is needed of addresses.
    pub(super) fn addresses(&self, kind: RecordType) -> Vec<RecordData> {
        addresses(self.domain, kind)
    }

    /// The name that a CNAME must lead to.
    pub(super) fn target(&self) -> Option<Name> {
        self.domain.host().map(|host| name_of(host.as_str()))
    }

    fn host(&mut self, host: String) {
        let name = name_of(&host);
        let is_apex = name == *self.zone.origin();
        let mut seen = true;
        if let Some(cut) = self.zone.cut_above(&name) {
            let note = format!("`{}` is delegated to name servers of its own", cut);
            self.blocked(&host, RecordType::CNAME, note);
            seen = false;
        } else if is_apex && self.domain.apex() == Apex::Alias {
            self.left_at_alias(&host, &name);
            seen = false;
        } else if is_apex {
            self.needs_addresses(&host, &name, None);
        } else {
            seen = self.needs_alias(&host, &name);
        }
        if self.zone.cut_above(&name).is_none() {
            self.service_records(&host, &name);
        }
        self.hosts.push(PlannedHost { host, name, seen });
    }

    /// Of HTTPS and SVCB records only those stay that lead to the site.
    fn service_records(&mut self, host: &str, name: &Name) {
        for kind in [RecordType::HTTPS, RecordType::SVCB] {
            let there = self.zone.set(name, kind).filter_map(|record| record.data.clone());
            let (away, here): (Vec<_>, Vec<_>) =
                there.partition(|data| self.leads_away(name, data).is_some());
            if !away.is_empty() {
                self.set(host, name, kind, &here);
            }
        }
    }

    fn needs_addresses(&mut self, host: &str, name: &Name, note: Option<&str>) {
        let start = self.rows.len();
        for kind in [RecordType::A, RecordType::AAAA] {
            let needed = self.addresses(kind);
            self.set(host, name, kind, &needed);
        }
        self.set(host, name, RecordType::CNAME, &[]);
        for row in &mut self.rows[start..] {
            row.note = note.map(str::to_owned);
        }
    }

    /// A CNAME, or addresses where other records keep it away; false where neither can be.
    fn needs_alias(&mut self, host: &str, name: &Name) -> bool {
        let goes = |record: &&Record| {
            let is_service = matches!(record.kind, RecordType::HTTPS | RecordType::SVCB);
            is_service
                && record.data.as_ref().is_some_and(|data| self.leads_away(name, data).is_some())
        };
        let others = self.zone.of(name).filter(|record| !goes(record)).map(|record| record.kind);
        let other = others.into_iter().find(|kind| !beside_alias(*kind) && !is_address(*kind));
        if let Some(kind) = other {
            if self.domain.addresses().is_empty() {
                self.blocked(
                    host,
                    RecordType::CNAME,
                    format!("no CNAME can stand beside its {} record", kind),
                );
                return false;
            }
            let note = format!("addresses, since no CNAME can stand beside its {kind} record");
            self.needs_addresses(host, name, Some(&note));
            return true;
        }
        let Some(target) = self.target() else { return false };
        let start = self.rows.len();
        self.set(host, name, RecordType::CNAME, &[RecordData::alias_of(target)]);
        for kind in [RecordType::A, RecordType::AAAA] {
            self.set(host, name, kind, &[]);
        }
        if self.zone.of(name).next().is_none()
            && let super::zone::Lookup::Records(records) = self.zone.lookup(name, RecordType::A)
            && let Some(row) = self.rows.get_mut(start)
        {
            let shown = &records[0].name;
            row.note = Some(format!("until then `{shown}` answers for it"));
        }
        true
    }

    /// Under `apex alias` the zone shows only what a former host has left.
    fn left_at_alias(&mut self, host: &str, name: &Name) {
        let target = self.domain.host().map(Host::to_string).unwrap_or_default();
        let needed = RecordValue { data: format!("an alias of {target}"), ttl: None };
        let note = "it is set at the DNS host; a zone file does not show it".to_owned();
        self.rows.push(Row {
            host: host.to_owned(),
            kind: RecordType::A,
            there: None,
            needed: Some(needed),
            action: Action::Unseen,
            note: Some(note),
            verifies: false,
        });
        for kind in [RecordType::A, RecordType::AAAA] {
            let there: Vec<&Record> = self.zone.set(name, kind).collect();
            let allowed = self.addresses(kind);
            let still: Vec<RecordData> = allowed
                .into_iter()
                .filter(|data| there.iter().any(|record| record.data.as_ref() == Some(data)))
                .collect();
            self.set(host, name, kind, &still);
        }
        self.set(host, name, RecordType::CNAME, &[]);
    }

    fn blocked(&mut self, host: &str, kind: RecordType, note: String) {
        let needed =
            self.target().map(|target| RecordValue { data: target.to_master(), ttl: None });
        self.rows.push(Row {
            host: host.to_owned(),
            kind,
            there: None,
            needed,
            action: Action::Blocked,
            note: Some(note),
            verifies: false,
        });
    }

    fn verification(&mut self, record: &VerificationRecord) {
        let (host, name) = (record.name().to_string(), name_of(record.name().as_str()));
        let data = verification(record);
        let start = self.rows.len();
        let stands = self.zone.of(&name).map(|record| record.kind);
        let in_the_way: Vec<RecordType> = stands
            .filter(|kind| match record.value() {
                VerificationValue::Alias(_) => !beside_alias(*kind),
                _ => *kind == RecordType::CNAME,
            })
            .collect();
        if !self.zone.origin().holds(&name) {
            self.verification_blocked(&host, &data, "the name is outside this zone".to_owned());
        } else if let Some(kind) = in_the_way.first() {
            let note = match record.value() {
                VerificationValue::Alias(_) => {
                    format!("no CNAME can stand beside its {kind} record")
                }
                _ => "a CNAME stands at this name, and nothing can stand beside it".to_owned(),
            };
            self.verification_blocked(&host, &data, note);
        } else if data.record_type() == RecordType::CNAME {
            self.set(&host, &name, RecordType::CNAME, &[data]);
        } else {
            self.verification_text(host, name, &data);
        }
        for row in &mut self.rows[start..] {
            row.verifies = true;
            if record.is_whole() && row.note.is_none() {
                row.note = Some("the name is taken as a whole: it ends in the domain".to_owned());
            }
        }
    }

    fn verification_blocked(&mut self, host: &str, data: &RecordData, note: String) {
        self.rows.push(Row {
            host: host.to_owned(),
            kind: data.record_type(),
            there: None,
            needed: Some(RecordValue { data: data.to_string(), ttl: None }),
            action: Action::Blocked,
            note: Some(note),
            verifies: true,
        });
    }

    /// A text beside those that are there.
    fn verification_text(&mut self, host: String, name: Name, data: &RecordData) {
        let texts: Vec<&Record> = self.zone.set(&name, RecordType::TXT).collect();
        let there = texts.iter().find(|record| record.said() == data.said());
        let ttl =
            self.domain.ttl().or(texts.first().map(|record| record.ttl)).unwrap_or(Domain::TTL);
        self.rows.push(Row {
            host,
            kind: RecordType::TXT,
            there: there.map(|record| RecordValue::of(record)),
            needed: Some(RecordValue {
                data: data.to_string(),
                ttl: Some(there.map_or(ttl, |record| record.ttl)),
            }),
            action: if there.is_some() { Action::Keep } else { Action::Add },
            note: None,
            verifies: true,
        });
        if there.is_none() {
            self.changes.add(NewRecord::new(name, ttl, RecordType::TXT, data.to_string()));
        }
    }

    /// Whether a record of this name and type proves ownership.
    pub(super) fn verifies(&self, name: &Name, kind: RecordType) -> bool {
        let mut records = self.domain.verification().iter();
        records.any(|record| {
            name_of(record.name().as_str()) == *name && verification(record).record_type() == kind
        })
    }

    /// Plans the records of a name and type, so that they become these. Their TTL changes only
    /// where it must: where the rules state one, and so that all of them have the same (RFC 2181,
    /// section 5.2).
    fn set(&mut self, host: &str, name: &Name, kind: RecordType, needed: &[RecordData]) {
        let mut missing: Vec<&RecordData> = needed.iter().collect();
        let (mut kept, mut extra) = (Vec::new(), Vec::new());
        for (number, record) in self.zone.numbered(name).filter(|(_, record)| record.kind == kind) {
            match missing.iter().position(|data| record.data.as_ref() == Some(*data)) {
                Some(at) => {
                    missing.remove(at);
                    kept.push((number, record));
                }
                None => extra.push((number, record)),
            }
        }
        let as_it_is = || kept.first().or(extra.first()).map(|(_, record)| record.ttl);
        let ttl = match kind {
            // What the rules say is about the records of the site.
            RecordType::NS => as_it_is(),
            _ => self.domain.ttl().or(kept.first().map(|(_, record)| record.ttl)),
        }
        .unwrap_or(Domain::TTL);
        let row = |there: Option<&Record>, needed: Option<(&RecordData, u32)>, action| Row {
            host: host.to_owned(),
            kind,
            there: there.map(RecordValue::of),
            needed: needed
                .map(|(data, ttl)| RecordValue { data: data.to_string(), ttl: Some(ttl) }),
            action,
            note: None,
            verifies: false,
        };
        for (number, record) in kept {
            let Some(data) = &record.data else { continue };
            let action = if record.ttl == ttl { Action::Keep } else { Action::Change };
            if action == Action::Change {
                self.changes.change(number, Change::Set { ttl: Some(ttl), data: None });
            }
            self.rows.push(row(Some(record), Some((data, ttl)), action));
        }
        let pairs = missing.len().min(extra.len());
        let rest = extra.split_off(pairs);
        for ((number, record), data) in extra.into_iter().zip(&missing) {
            self.changes
                .change(number, Change::Set { ttl: Some(ttl), data: Some(data.to_string()) });
            self.rows.push(row(Some(record), Some((data, ttl)), Action::Change));
        }
        for data in &missing[pairs..] {
            self.changes.add(NewRecord::new(name.clone(), ttl, kind, data.to_string()));
            self.rows.push(row(None, Some((data, ttl)), Action::Add));
        }
        for (number, record) in rest {
            self.changes.change(number, Change::Remove);
            self.rows.push(row(Some(record), None, Action::Remove));
        }
    }
}
