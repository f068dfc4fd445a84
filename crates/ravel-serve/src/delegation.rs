//! A domain's own name servers, found from a resolver or from the root down.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use hickory_proto::op::{DnsResponse, ResponseCode};
use hickory_proto::rr::Record;
use ravel_dns::zone::{Name, RecordData, RecordType};

use crate::ask::{data_of, lookup};

/// Delegations that are followed from the root down, and names that are looked up for one another.
const MAX_STEPS: usize = 16;
const MAX_DEPTH: usize = 4;

/// Where a domain's name servers are looked for.
#[derive(Debug, Clone)]
pub struct Finder {
    resolver: Option<SocketAddr>,
    roots: Vec<IpAddr>,
    port: u16,
}

/// What the parent says of a domain, and who answers for it.
#[derive(Debug, Clone)]
pub struct Delegation {
    domain: Name,
    parent: SocketAddr,
    ttl: u32,
    servers: Vec<FoundServer>,
    ds: Vec<RecordData>,
}

/// A name server that the parent names.
#[derive(Debug, Clone)]
pub struct FoundServer {
    name: Name,
    glue: Vec<IpAddr>,
    addresses: Vec<SocketAddr>,
}

/// What does not fit between the parent and the domain's own servers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DelegationFault {
    message: String,
    is_fatal: bool,
}

impl Finder {
    /// From a resolver, or, where addresses of root servers are given, from the root down. Name
    /// servers are asked on this port.
    ///
    /// ```
    /// let finder = ravel_serve::Finder::new(Some("192.0.2.53:53".parse()?), Vec::new(), 53);
    /// # Ok::<(), std::net::AddrParseError>(())
    /// ```
    pub fn new(resolver: Option<SocketAddr>, roots: Vec<IpAddr>, port: u16) -> Finder {
        Finder { resolver, roots, port }
    }

    /// Finds who answers for a domain.
    ///
    /// # Errors
    /// Where the way there ends, and why.
    pub async fn find(&self, domain: &Name) -> Result<Delegation, String> {
        let (mut zone, mut servers) = self.start(domain).await?;
        for _ in 0..MAX_STEPS {
            let (server, response) = self.first(&servers, domain, RecordType::NS).await?;
            let referral = referral(&response, &zone, domain)
                .or_else(|| own(&response, domain))
                .ok_or_else(|| match response.metadata.response_code {
                    ResponseCode::NXDomain => {
                        format!("{server}, a server of `{zone}`, knows no name `{domain}`")
                    }
                    _ => format!("{server}, a server of `{zone}`, does not delegate `{domain}`"),
                })?;
            if referral.zone != *domain {
                servers = self.addresses_of(&referral, &response, 0).await;
                zone = referral.zone;
                continue;
            }
            let ds = lookup(server, domain, RecordType::DS, false).await;
            let mut found = Vec::new();
            for name in &referral.servers {
                let addresses = self.places(name, &response, 0).await;
                let glue = glue(&response, name);
                found.push(FoundServer { name: name.clone(), glue, addresses });
            }
            return Ok(Delegation {
                domain: domain.clone(),
                parent: server,
                ttl: referral.ttl,
                servers: found,
                ds: ds.map(|ds| data(&ds.answers, domain, RecordType::DS)).unwrap_or_default(),
            });
        }
        Err(format!("more than {MAX_STEPS} delegations lead to `{domain}`"))
    }

    /// The zone that is known to begin with, and its servers: the root's, or those of the next zone
    /// above that a resolver knows.
    async fn start(&self, domain: &Name) -> Result<(Name, Vec<SocketAddr>), String> {
        if !self.roots.is_empty() {
            return Ok((Name::root(), self.at_port(self.roots.iter().copied())));
        }
        let Some(resolver) = self.resolver else {
            return Err("no resolver is known".to_owned());
        };
        let mut above = domain.clone();
        while above != Name::root() {
            above = above.above();
            let response = lookup(resolver, &above, RecordType::NS, true)
                .await
                .map_err(|why| format!("the resolver {resolver} does not answer: {why}"))?;
            let servers = data(&response.answers, &above, RecordType::NS);
            let mut addresses = Vec::new();
            for name in servers.iter().filter_map(RecordData::target) {
                addresses.extend(self.at_port(self.resolve(&name, 0).await));
            }
            if !addresses.is_empty() {
                return Ok((above, addresses));
            }
        }
        Err(format!("the resolver {resolver} knows no zone above `{domain}`"))
    }

    /// The first server that answers.
    async fn first(
        &self,
        servers: &[SocketAddr],
        name: &Name,
        kind: RecordType,
    ) -> Result<(SocketAddr, DnsResponse), String> {
        let mut last = format!("no address of a server for `{name}` is known");
        for server in servers.iter().take(MAX_STEPS) {
            match lookup(*server, name, kind, false).await {
                Ok(response) => return Ok((*server, response)),
                Err(why) => last = format!("{server} does not answer: {why}"),
            }
        }
        Err(last)
    }

    /// Where the servers of a referral are asked.
    async fn addresses_of(
        &self,
        referral: &Referral,
        response: &DnsResponse,
        depth: usize,
    ) -> Vec<SocketAddr> {
        let mut addresses = Vec::new();
        for name in &referral.servers {
            addresses.extend(self.places(name, response, depth).await);
        }
        addresses
    }

    /// Where a name server is asked: at its glue, or as it is looked up.
    async fn places(&self, name: &Name, response: &DnsResponse, depth: usize) -> Vec<SocketAddr> {
        let mut known = glue(response, name);
        if known.is_empty() {
            known = Box::pin(self.resolve(name, depth)).await;
        }
        self.at_port(known)
    }

    fn at_port(&self, addresses: impl IntoIterator<Item = IpAddr>) -> Vec<SocketAddr> {
        addresses.into_iter().map(|ip| SocketAddr::new(ip, self.port)).collect()
    }

    /// The addresses of a name server, by the resolver, or from the root down.
    async fn resolve(&self, name: &Name, depth: usize) -> Vec<IpAddr> {
        let mut found = Vec::new();
        for kind in [RecordType::A, RecordType::AAAA] {
            let response = match (self.resolver, self.roots.is_empty()) {
                (Some(resolver), _) => lookup(resolver, name, kind, true).await.ok(),
                (None, true) => None,
                (None, false) => Box::pin(self.descend(name, kind, depth + 1)).await,
            };
            let answers = response.map(|response| response.answers.clone()).unwrap_or_default();
            let of_kind = answers.iter().filter_map(data_of).filter_map(|data| data.ip());
            found.extend(of_kind);
        }
        found
    }

    /// Asks from the root down.
    async fn descend(&self, name: &Name, kind: RecordType, depth: usize) -> Option<DnsResponse> {
        if depth > MAX_DEPTH {
            return None;
        }
        let (mut zone, mut servers) = self.start(name).await.ok()?;
        for _ in 0..MAX_STEPS {
            let (_, response) = self.first(&servers, name, kind).await.ok()?;
            let Some(next) = referral(&response, &zone, name) else { return Some(response) };
            servers = self.addresses_of(&next, &response, depth).await;
            zone = next.zone;
        }
        None
    }
}

/// Where an answer leads on to.
struct Referral {
    zone: Name,
    servers: Vec<Name>,
    ttl: u32,
}

/// The zone below this one, on the way to a name, that an answer delegates.
fn referral(response: &DnsResponse, zone: &Name, name: &Name) -> Option<Referral> {
    named(&response.authorities, |owner| zone.holds(owner) && owner != zone && owner.holds(name))
}

/// The NS records of a domain whose own server was asked: it serves the parent, too.
fn own(response: &DnsResponse, domain: &Name) -> Option<Referral> {
    named(&response.answers, |owner| owner == domain)
}

fn named(records: &[Record], is_meant: impl Fn(&Name) -> bool) -> Option<Referral> {
    let mut servers = Vec::new();
    let mut first: Option<(Name, u32)> = None;
    for record in records {
        let Some(owner) = owner(record).filter(|owner| is_meant(owner)) else { continue };
        let Some(data) = data_of(record).filter(|data| data.record_type() == RecordType::NS) else {
            continue;
        };
        first.get_or_insert((owner, record.ttl));
        servers.extend(data.target());
    }
    first.map(|(zone, ttl)| Referral { zone, servers, ttl })
}

fn owner(record: &Record) -> Option<Name> {
    Name::from_labels(record.name.iter())
}

/// What records of a name and type say.
fn data(records: &[Record], name: &Name, kind: RecordType) -> Vec<RecordData> {
    let of_name = records.iter().filter(|record| owner(record).as_ref() == Some(name));
    of_name.filter_map(data_of).filter(|data| data.record_type() == kind).collect()
}

fn glue(response: &DnsResponse, name: &Name) -> Vec<IpAddr> {
    let kinds = [RecordType::A, RecordType::AAAA];
    let of_kind = kinds.into_iter().flat_map(|kind| data(&response.additionals, name, kind));
    of_kind.filter_map(|data| data.ip()).collect()
}

impl Delegation {
    /// A server of the parent that was asked.
    pub fn parent(&self) -> SocketAddr {
        self.parent
    }

    /// How long resolvers keep who answers for the domain, in seconds.
    pub fn ttl(&self) -> u32 {
        self.ttl
    }

    /// The servers that the parent names.
    pub fn servers(&self) -> &[FoundServer] {
        &self.servers
    }

    /// What does not fit: the names of the servers at the parent and at each of them, their
    /// addresses, and the keys that the parent says the zone is signed with.
    pub async fn faults(&self) -> Vec<DelegationFault> {
        let mut faults = Vec::new();
        let mut add = |message: String, is_fatal: bool| {
            let fault = DelegationFault { message, is_fatal };
            if !faults.contains(&fault) {
                faults.push(fault);
            }
        };
        let at_parent: BTreeSet<&Name> = self.servers.iter().map(|server| &server.name).collect();
        let mut tags: Option<BTreeSet<u16>> = None;
        for server in &self.servers {
            if server.addresses.is_empty() {
                add(format!("{}, which the parent names, has no address", server.name), true);
            }
            for address in &server.addresses {
                let Ok(response) = lookup(*address, &self.domain, RecordType::NS, false).await
                else {
                    continue;
                };
                let own = data(&response.answers, &self.domain, RecordType::NS);
                let own: BTreeSet<Name> = own.iter().filter_map(RecordData::target).collect();
                if own.is_empty() {
                    add(format!("{} does not answer for `{}`", server.name, self.domain), true);
                    continue;
                }
                for name in own.iter().filter(|name| !at_parent.contains(name)) {
                    add(
                        format!("{} names the server {name}, and the parent does not", server.name),
                        false,
                    );
                }
                for name in at_parent.iter().filter(|name| !own.contains(name)) {
                    add(
                        format!("the parent names the server {name}, and {} does not", server.name),
                        false,
                    );
                }
                if let Ok(keys) = lookup(*address, &self.domain, RecordType::DNSKEY, false).await {
                    let keys = data(&keys.answers, &self.domain, RecordType::DNSKEY);
                    let known = tags.get_or_insert_default();
                    known.extend(keys.iter().map(|key| key_tag(&key.to_wire())));
                }
                for named in self.servers.iter().filter(|named| !named.glue.is_empty()) {
                    let mut at_child = Vec::new();
                    for kind in [RecordType::A, RecordType::AAAA] {
                        if let Ok(said) = lookup(*address, &named.name, kind, false).await {
                            let said = data(&said.answers, &named.name, kind);
                            at_child.extend(said.iter().filter_map(RecordData::ip));
                        }
                    }
                    let differs = |ip: &&IpAddr| !at_child.contains(ip);
                    if let Some(ip) =
                        named.glue.iter().find(differs).filter(|_| !at_child.is_empty())
                    {
                        add(
                            format!(
                                "the parent says that {} is {ip}, and {} does not",
                                named.name, server.name
                            ),
                            false,
                        );
                    }
                }
            }
        }
        let wanted: BTreeSet<u16> = self
            .ds
            .iter()
            .filter_map(|ds| Some(u16::from_be_bytes(ds.to_wire().get(..2)?.try_into().ok()?)))
            .collect();
        if let Some(tags) = tags.filter(|tags| !wanted.is_empty() && tags.is_disjoint(&wanted)) {
            let has = match tags.is_empty() {
                true => "no key is there",
                false => "other keys are there",
            };
            let message = format!(
                "the parent says that the zone is signed, and {has}: resolvers that validate get nothing at all"
            );
            add(message, true);
        }
        faults
    }
}

/// The tag of a key (RFC 4034, appendix B).
fn key_tag(data: &[u8]) -> u16 {
    let sum: u32 = (0..)
        .zip(data)
        .map(|(at, byte)| if at % 2 == 0 { u32::from(*byte) << 8 } else { u32::from(*byte) })
        .sum();
    (sum + ((sum >> 16) & 0xffff)) as u16
}

impl FoundServer {
    /// Its name.
    pub fn name(&self) -> &Name {
        &self.name
    }

    /// Where it is asked.
    pub fn addresses(&self) -> &[SocketAddr] {
        &self.addresses
    }
}

impl DelegationFault {
    /// What does not fit.
    pub fn message(&self) -> &str {
        &self.message
    }

    /// Whether visitors may not reach the site for it.
    pub fn is_fatal(&self) -> bool {
        self.is_fatal
    }
}
