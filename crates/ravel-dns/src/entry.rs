//! What to enter at a DNS host.

use super::plan::{addresses, name_of, verification};
use super::zone::{Name, RecordData, RecordType};
use ravel::rules::{Apex, Domain, Site};

/// A record as it is entered at a DNS host, where nothing is known of the zone.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    relative: String,
    name: Name,
    /// None for an alias of the DNS host's own making, which is no record.
    #[cfg_attr(feature = "serde", serde(rename = "type"))]
    kind: Option<RecordType>,
    /// As a form wants it.
    value: String,
    #[cfg_attr(feature = "serde", serde(skip))]
    data: RecordData,
    ttl: u32,
    note: Option<String>,
}

impl Entry {
    /// What to enter for the hosts of a site in a domain, in the order to do it: what proves
    /// ownership first, since a certificate can wait for it.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://www.h.example/\n  alias h.example\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  verification _owner \"p-1\"\n")?;
    /// let entries = ravel_dns::Entry::of(rules.site(), &rules.domains()[0]);
    /// let names: Vec<&str> = entries.iter().map(|entry| entry.relative()).collect();
    /// assert_eq!(names, ["_owner", "www", "@"]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(site: &Site, domain: &Domain) -> Vec<Entry> {
        let entry = |host: &str, data: &RecordData, note: Option<&str>| Entry {
            relative: relative(host, domain),
            name: name_of(host),
            kind: Some(data.record_type()),
            value: match data.record_type() {
                RecordType::TXT => String::from_utf8_lossy(&data.said()).into_owned(),
                _ => data.to_string(),
            },
            data: data.clone(),
            ttl: domain.ttl().unwrap_or(Domain::TTL),
            note: note.map(str::to_owned),
        };
        let proofs = domain.verification().iter().map(|record| {
            let note = record.is_whole().then_some("the name is taken as a whole");
            entry(record.name().as_str(), &verification(record), note)
        });
        let mut entries: Vec<Entry> = proofs.collect();
        for host in site.hosts().filter(|host| domain.holds(host)) {
            let target = domain.host().map(|host| RecordData::alias_of(name_of(host.as_str())));
            if host != domain.name().as_str() {
                entries.extend(target.map(|target| entry(&host, &target, None)));
            } else if domain.apex() == Apex::Alias {
                let note = "an alias of the DNS host's own making, under its name for it";
                entries.extend(
                    target.map(|target| Entry { kind: None, ..entry(&host, &target, Some(note)) }),
                );
            } else {
                for kind in [RecordType::A, RecordType::AAAA] {
                    entries.extend(
                        addresses(domain, kind).iter().map(|data| entry(&host, data, None)),
                    );
                }
            }
        }
        entries
    }

    /// Its name from the domain, as most forms want it: `@` is the domain itself.
    pub fn relative(&self) -> &str {
        &self.relative
    }

    /// Its whole name.
    pub fn name(&self) -> &Name {
        &self.name
    }

    /// Its type; none for an alias of the DNS host's own making, which is no record.
    pub fn kind(&self) -> Option<RecordType> {
        self.kind
    }

    /// What it says, as forms want it: a text without quotes.
    pub fn value(&self) -> &str {
        &self.value
    }

    /// Its TTL, in seconds.
    pub fn ttl(&self) -> u32 {
        self.ttl
    }

    /// What else is to know.
    pub fn note(&self) -> Option<&str> {
        self.note.as_deref()
    }
}

impl std::fmt::Display for Entry {
    /// A line of a zone file.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.kind {
            Some(kind) => {
                write!(f, "{}\t{}\tIN\t{kind}\t{}", self.name.to_master(), self.ttl, self.data)
            }
            None => write!(f, "; {}\talias of {}", self.name.to_master(), self.data),
        }
    }
}

fn relative(host: &str, domain: &Domain) -> String {
    match host.strip_suffix(domain.name().as_str()) {
        Some("") => "@".to_owned(),
        Some(rest) => rest.trim_end_matches('.').to_owned(),
        None => format!("{host}."),
    }
}
