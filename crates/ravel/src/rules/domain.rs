use std::net::IpAddr;

use crate::address::Host;
use crate::language::Line;

/// What the DNS and the certificate of a domain must say.
#[derive(Debug, Clone)]
pub struct Domain {
    /// Where it is stated.
    pub line: Line,
    /// The domain: the name of its zone.
    pub name: Host,
    /// The name that the hosting gives the site, where a CNAME must point.
    pub host: Option<Host>,
    /// The addresses that the hosting gives for a bare domain.
    pub addresses: Vec<IpAddr>,
    /// The TXT record that proves ownership.
    pub proof: Option<Proof>,
    /// The zone as it is today.
    pub zone: Option<NamedFile>,
    /// What the bare domain gets.
    pub apex: Apex,
    /// The zone's name servers as the registry must name them; none where nothing is said.
    pub nameservers: Vec<Host>,
    /// The certificate chain that will be served.
    pub certificate: Option<NamedFile>,
    /// When a certificate can be issued.
    pub issue: Issue,
    /// The life wanted on the records, in seconds; none where nothing is said.
    pub ttl: Option<u32>,
}

/// The TXT record that proves ownership of a domain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// Its whole name.
    pub name: Host,
    /// Its text.
    pub text: Box<str>,
}

/// A file that a line of the rules names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedFile {
    /// Its path from the rules file's folder, with `/` between folders.
    pub path: Box<str>,
    /// The line that names it.
    pub line: Line,
}

/// What a bare domain gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Apex {
    /// Address records.
    Address,
    /// An alias of the DNS host's own making, which no zone file shows.
    Alias,
}

/// When a certificate can be issued.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Issue {
    /// As soon as the proof is visible.
    Proof,
    /// Once every authoritative server gives the new records.
    Records,
}

impl Domain {
    /// The life of new records where the rules say nothing, in seconds.
    pub const TTL: u32 = 3_600;

    /// Whether a host, which may begin with `*.`, is the domain or inside it.
    pub fn holds(&self, host: &str) -> bool {
        host.strip_suffix(self.name.as_str())
            .is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
    }
}
