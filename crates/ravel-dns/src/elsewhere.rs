//! Records that lead visitors elsewhere, and what is wrong with a zone as a whole.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use super::plan::{Plan, PlannedHost, name_of};
use super::zone::{Change, Name, Record, RecordData, RecordType};
use ravel::finding::Finding;
use ravel::rules::{Code, Site};

/// Aliases that are followed.
const MAX_ALIASES: usize = 64;

/// The keys of addresses in a service record (RFC 9460, section 7.3).
const IPV4_HINT: u16 = 4;
const IPV6_HINT: u16 = 6;

/// What an HTTPS or SVCB record says (RFC 9460, section 2.2).
struct ServiceRecord {
    priority: u16,
    target: Name,
    hints: Vec<IpAddr>,
}

impl ServiceRecord {
    fn of(data: &RecordData) -> Option<ServiceRecord> {
        let wire = data.to_wire();
        let (priority, mut rest) = wire.split_at_checked(2)?;
        let mut labels = Vec::new();
        loop {
            let (len, after) = rest.split_first()?;
            let (label, after) = after.split_at_checked(usize::from(*len))?;
            rest = after;
            if label.is_empty() {
                break;
            }
            labels.push(label.to_vec());
        }
        let mut hints = Vec::new();
        while let Some((head, after)) = rest.split_at_checked(4) {
            let number = |at: usize| u16::from_be_bytes([head[at], head[at + 1]]);
            let (value, after) = after.split_at_checked(usize::from(number(2)))?;
            rest = after;
            match number(0) {
                IPV4_HINT => hints.extend(
                    value
                        .chunks_exact(4)
                        .map(|ip| IpAddr::V4(Ipv4Addr::new(ip[0], ip[1], ip[2], ip[3]))),
                ),
                IPV6_HINT => hints.extend(value.chunks_exact(16).filter_map(|ip| {
                    Some(IpAddr::V6(Ipv6Addr::from(<[u8; 16]>::try_from(ip).ok()?)))
                })),
                _ => {}
            }
        }
        let target = Name::from_labels(labels.iter().map(Vec::as_slice))?;
        let priority = u16::from_be_bytes([priority[0], priority[1]]);
        Some(ServiceRecord { priority, target, hints })
    }
}

impl<'z> Plan<'z> {
    /// What of an HTTPS or SVCB record leads to another place than the site's.
    pub(super) fn leads_away(&self, name: &Name, data: &RecordData) -> Option<String> {
        let service = ServiceRecord::of(data)?;
        let here = service.target == Name::root() && service.priority > 0;
        if !here && service.target != *name && Some(&service.target) != self.target().as_ref() {
            return Some(format!("leads to `{}`", service.target));
        }
        let needed: Vec<IpAddr> = self.domain.addresses().to_vec();
        let other = service.hints.iter().find(|ip| !needed.contains(ip))?;
        Some(format!("says the address {other}"))
    }

    /// Aliases that lead back to themselves, names that are answered from elsewhere, and records by
    /// which browsers go elsewhere.
    pub(super) fn leads_elsewhere(&self, out: &mut Vec<Finding>) {
        self.alias_loops(out);
        for host in &self.hosts {
            let above =
                self.above(host).find_map(|above| self.zone.set(&above, RecordType::DNAME).next());
            out.extend(above.map(|record| {
                let what = format!("`{}` is below `{}`, which has a DNAME", host.host, record.name);
                self.on(Code::DnameAbove, record, what)
                    .with_note("resolvers answer for it from another domain (RFC 6672); its own records are not seen")
                    .with_help("remove the DNAME, or move the host")
            }));
            for kind in [RecordType::HTTPS, RecordType::SVCB] {
                for record in self.zone.set(&host.name, kind) {
                    let away =
                        record.data.as_ref().and_then(|data| self.leads_away(&host.name, data));
                    out.extend(away.map(|away| {
                        let what = format!("the {kind} record of `{}` {away}", host.host);
                        self.on(Code::ServiceElsewhere, record, what)
                            .with_note("browsers that ask for it go there, whatever the addresses say (RFC 9460)")
                            .with_help("remove it, or let it lead to the site")
                    }));
                }
            }
        }
    }

    /// The names above a host, within the zone.
    fn above(&self, host: &PlannedHost) -> impl Iterator<Item = Name> {
        let origin = self.zone.origin().clone();
        let first = Some(host.name.above()).filter(|_| host.name != origin);
        std::iter::successors(first, |name| Some(name.above()))
            .take_while(move |name| origin.holds(name))
    }

    fn alias_loops(&self, out: &mut Vec<Finding>) {
        let mut told: BTreeSet<Name> = BTreeSet::new();
        for record in self.zone.records().filter(|record| record.kind == RecordType::CNAME) {
            let mut way: Vec<&Record> = vec![record];
            while let Some(next) = way.last().and_then(|last| last.data.as_ref()?.alias()) {
                let Some(found) = self.zone.set(&next, RecordType::CNAME).next() else { break };
                if found.name == record.name {
                    if !told.contains(&record.name) {
                        told.extend(way.iter().map(|record| record.name.clone()));
                        let names: Vec<String> =
                            way.iter().map(|record| format!("`{}`", record.name)).collect();
                        let what = format!("{} lead to each other", names.join(" and "));
                        let what = if way.len() == 1 {
                            format!("{} leads to itself", names[0])
                        } else {
                            what
                        };
                        out.push(
                            self.on(Code::CnameLoop, record, what)
                                .with_note("resolvers give up, and visitors get nothing")
                                .with_help("let one of them lead to the host, or remove them"),
                        );
                    }
                    break;
                }
                if way.len() >= MAX_ALIASES || way.iter().any(|seen| seen.name == found.name) {
                    break;
                }
                way.push(found);
            }
        }
    }

    /// Records of other zones are in the file, and nobody gets them.
    fn outside(&self, out: &mut Vec<Finding>) {
        let outside = self.zone.records().filter(|record| !self.zone.origin().holds(&record.name));
        for record in outside {
            let what = format!("`{}` is not in the zone `{}`", record.name, self.zone.origin());
            out.push(
                self.on(Code::OutsideZone, record, what)
                    .with_note("name servers pass such a record over, or refuse the zone")
                    .with_help("remove it, or write the name without its final dot if it is one of this zone"),
            );
        }
    }

    /// Whether it has name servers, one TTL for each set, and signatures.
    pub(super) fn as_a_whole(&self, out: &mut Vec<Finding>) {
        self.outside(out);
        let soa = self.zone.soa();
        if self.zone.set(self.zone.origin(), RecordType::NS).next().is_none() {
            let what = format!("the zone `{}` has no NS record", self.zone.origin());
            out.push(
                self.on(Code::NoNameServers, soa, what)
                    .with_note("name servers refuse it, or the file is only a part of the zone")
                    .with_help("write an NS record for each of its name servers"),
            );
        }
        let mut sets: BTreeMap<(&Name, RecordType), &Record> = BTreeMap::new();
        let mut told = BTreeSet::new();
        for record in self.zone.records().filter(|record| record.kind != RecordType::RRSIG) {
            let first = *sets.entry((&record.name, record.kind)).or_insert(record);
            if first.ttl != record.ttl && told.insert((&record.name, record.kind)) {
                let what = format!(
                    "the {} records of `{}` have the TTLs {} and {} (line {})",
                    record.kind, record.name, first.ttl, record.ttl, record.line
                );
                out.push(
                    self.on(Code::TtlsDiffer, first, what)
                        .with_note("name servers take one of them for all (RFC 2181, section 5.2)")
                        .with_help("write the same TTL"),
                );
            }
        }
        if let Some(record) = self.signature().filter(|_| !self.changes().is_empty()) {
            out.push(
                self.on(
                    Code::SignedZone,
                    record,
                    "the zone is signed, and records of it change".to_owned(),
                )
                .with_note("what is written has no signatures; resolvers that validate refuse it")
                .with_help("sign the zone again after writing it, before it is published"),
            );
        }
    }

    /// Names beside the site's that still lead where the site's hosts lead now, and will not.
    pub(super) fn at_the_former_host(&self, out: &mut Vec<Finding>) {
        let records: Vec<&Record> = self.zone.records().collect();
        let is_host = |name: &Name| self.hosts.iter().any(|host| host.name == *name);
        let leaves = self.changes().changed.iter().filter_map(|(number, change)| {
            let record = records[*number as usize];
            let stays = matches!(change, Change::Set { data: None, .. });
            record.data.as_ref().filter(|_| !stays && is_host(&record.name))
        });
        let former: Vec<&RecordData> = leaves.collect();
        for record in records.iter().filter(|record| !is_host(&record.name)) {
            let Some(data) = record.data.as_ref().filter(|data| former.contains(data)) else {
                continue;
            };
            let what = format!("`{}` still leads to {data}, which the site leaves", record.name);
            out.push(
                self.on(Code::FormerHost, record, what)
                    .with_note(
                        "it stays there when the site has moved, and fails when that host ends",
                    )
                    .with_help("move it, too, or accept this where it is meant to stay"),
            );
        }
    }

    /// Names of the zone below a host that promises HTTPS for all of them.
    pub(super) fn promised(&self, site: &Site, out: &mut Vec<Finding>) {
        let Some(hsts) = site.hsts().filter(|hsts| hsts.subdomains()) else { return };
        let served: Vec<Name> = site.hosts().map(|host| name_of(&host)).collect();
        let kinds = [RecordType::A, RecordType::AAAA, RecordType::CNAME];
        let aliases = site.aliases().iter().map(|alias| alias.host().as_str());
        let promises: Vec<Name> =
            std::iter::once(site.host().as_str()).chain(aliases).map(name_of).collect();
        if hsts.value().ends_with("preload") && !promises.contains(self.zone.origin()) {
            let what = format!(
                "`preload` is for a whole domain, and the site does not have `{}` among its hosts",
                self.zone.origin()
            );
            out.push(
                Finding::on(Code::HstsPreload, hsts.line(), what)
                    .with_note("preload lists ask for the header on the domain itself, over HTTPS, and take no name below it")
                    .with_help(format!("serve it as an alias (`alias {}`), or leave `preload` out", self.zone.origin())),
            );
        }
        let mut told = BTreeSet::new();
        let others = self.zone.records().filter(|record| {
            let is_named = !record.name.to_master().starts_with('_');
            let is_below =
                promises.iter().any(|host| host.holds(&record.name) && *host != record.name);
            let is_served = served.iter().any(|name| name.covers(&record.name));
            kinds.contains(&record.kind) && is_named && is_below && !is_served
        });
        let others: Vec<&Record> = others.filter(|record| told.insert(&record.name)).collect();
        let Some(first) = others.first() else { return };
        let names: Vec<String> =
            others.iter().take(3).map(|record| format!("`{}`", record.name)).collect();
        let more = match others.len() {
            0..=3 => String::new(),
            many => format!(" and {} more", many - 3),
        };
        let days = hsts.max_age() / 86_400;
        let what = format!(
            "browsers will refuse plain HTTP on {}{more} for {days} days",
            names.join(", ")
        );
        out.push(
            self.on(Code::HstsCoversOthers, first, what)
                .with_note("`hsts … subdomains` promises HTTPS for every name below the site's hosts (RFC 6797)")
                .with_help("see that they have HTTPS with a certificate, or leave `subdomains` out"),
        );
    }

    /// A record that only a signed zone has (RFC 4034, RFC 5155).
    pub fn signature(&self) -> Option<&'z Record> {
        const KINDS: [RecordType; 4] =
            [RecordType::DNSKEY, RecordType::RRSIG, RecordType::NSEC, RecordType::NSEC3];
        let is_own = |record: &&Record| {
            record.kind != RecordType::DNSKEY || record.name == *self.zone.origin()
        };
        self.zone.records().filter(is_own).find(|record| KINDS.contains(&record.kind))
    }
}
