//! `domain`: what a domain must have so that visitors reach the site.

use std::net::IpAddr;

use crate::address::Host;
use crate::language::Line;

/// What the DNS and the certificate of a domain must say.
#[derive(Debug, Clone)]
pub struct Domain {
    pub(crate) line: Line,
    pub(crate) name: Host,
    pub(crate) host: Option<Host>,
    pub(crate) addresses: Vec<IpAddr>,
    pub(crate) verification: Vec<VerificationRecord>,
    pub(crate) zone: Option<NamedFile>,
    pub(crate) apex: Apex,
    pub(crate) nameservers: Vec<Host>,
    pub(crate) parent_ttl: Option<u32>,
    pub(crate) certificate: Option<NamedFile>,
    pub(crate) issue: Issue,
    pub(crate) issue_in: u32,
    pub(crate) ttl: Option<u32>,
}

/// A record that proves ownership of a domain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VerificationRecord {
    pub(crate) name: Host,
    pub(crate) value: VerificationValue,
    pub(crate) is_whole: bool,
}

/// What a record that proves ownership says.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum VerificationValue {
    /// The text of a TXT record.
    Text(Box<str>),
    /// The name that a CNAME leads to.
    Alias(Host),
}

impl VerificationRecord {
    /// Its whole name.
    pub fn name(&self) -> &Host {
        &self.name
    }

    /// What it says.
    pub fn value(&self) -> &VerificationValue {
        &self.value
    }

    /// Whether the name was written with the domain, though without the final dot that says so.
    pub fn is_whole(&self) -> bool {
        self.is_whole
    }
}

/// A file that a line of the rules names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedFile {
    pub(crate) path: Box<str>,
    pub(crate) line: Line,
}

impl NamedFile {
    /// A file that a line names, by its path, as the rules file is named.
    pub fn new(path: impl Into<Box<str>>, line: Line) -> NamedFile {
        NamedFile { path: path.into(), line }
    }

    /// Its path, as the rules file is named, with `/` between folders.
    pub fn path(&self) -> &str {
        &self.path
    }

    /// The line that names it.
    pub fn line(&self) -> Line {
        self.line
    }
}

/// What a bare domain gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Apex {
    /// Address records.
    Address,
    /// An alias of the DNS host's own making, which no zone file shows.
    Alias,
}

/// When a certificate can be issued.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Issue {
    /// As soon as the verification record is visible.
    Verification,
    /// Once every authoritative server gives the new records.
    Records,
}

impl Domain {
    /// With another zone file.
    #[must_use]
    pub fn with_zone(mut self, file: NamedFile) -> Domain {
        self.zone = Some(file);
        self
    }

    /// How long resolvers keep a zone's delegation where the rules say nothing, in seconds: what most
    /// registries state, and none states more.
    pub const PARENT_TTL: u32 = 172_800;

    /// How long issuing a certificate takes where the rules say nothing, in seconds.
    pub const ISSUE_IN: u32 = 3_600;

    /// The TTL of new records where the rules say nothing, in seconds.
    pub const TTL: u32 = 3_600;

    /// Whether a host, which may begin with `*.`, is the domain or inside it.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host e.host.example\n  address 192.0.2.44\n")?;
    /// assert!(rules.domains()[0].holds("www.h.example") && !rules.domains()[0].holds("other.example"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn holds(&self, host: &str) -> bool {
        host.strip_suffix(self.name.as_str())
            .is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
    }

    /// Where it is stated.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The domain: the name of its zone.
    pub fn name(&self) -> &Host {
        &self.name
    }

    /// The name that the hosting gives the site, where a CNAME must point.
    pub fn host(&self) -> Option<&Host> {
        self.host.as_ref()
    }

    /// The addresses that the hosting gives for a bare domain.
    pub fn addresses(&self) -> &[IpAddr] {
        &self.addresses
    }

    /// The records that prove ownership, in the order of the rules.
    ///
    /// ```
    /// use ravel::rules::VerificationValue;
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  address 192.0.2.44\n  verification _a cname x.host.example\n")?;
    /// let record = &rules.domains()[0].verification()[0];
    /// assert!(matches!(record.value(), VerificationValue::Alias(host) if host.as_str() == "x.host.example"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn verification(&self) -> &[VerificationRecord] {
        &self.verification
    }

    /// The zone as it is today.
    pub fn zone(&self) -> Option<&NamedFile> {
        self.zone.as_ref()
    }

    /// What the bare domain gets.
    pub fn apex(&self) -> Apex {
        self.apex
    }

    /// The zone's name servers as the registry must name them; none where nothing is said.
    pub fn nameservers(&self) -> &[Host] {
        &self.nameservers
    }

    /// How long resolvers keep the zone's delegation, in seconds; none where nothing is said.
    pub fn parent_ttl(&self) -> Option<u32> {
        self.parent_ttl
    }

    /// The certificate chain that will be served.
    pub fn certificate(&self) -> Option<&NamedFile> {
        self.certificate.as_ref()
    }

    /// When a certificate can be issued.
    pub fn issue(&self) -> Issue {
        self.issue
    }

    /// How long issuing a certificate takes at most, in seconds, from when it can begin.
    pub fn issue_in(&self) -> u32 {
        self.issue_in
    }

    /// With another moment from which a certificate can be issued.
    #[must_use]
    pub fn with_issue(mut self, issue: Issue) -> Domain {
        self.issue = issue;
        self
    }

    /// The TTL wanted on the records, in seconds; none where nothing is said.
    pub fn ttl(&self) -> Option<u32> {
        self.ttl
    }
}
