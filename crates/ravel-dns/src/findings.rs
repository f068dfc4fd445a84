//! What is wrong with a zone and a certificate.

use std::collections::BTreeSet;

use hickory_proto::rr::RData;

use super::plan::{Plan, beside_alias, name_of};
use super::row::Action;
use super::zone::{Name, Record, RecordData, RecordType};
use ravel::finding::{Finding, FindingPlace};
use ravel::language::Line;
use ravel::rules::{Apex, Code, Domain};

/// A TTL longer than this, in seconds, is long for a record that is about to change.
const LONG: u32 = 86_400;

impl Plan<'_> {
    /// What is wrong with the zone, the first line first.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// assert!(plan.findings().iter().any(|finding| finding.code().name() == "pending-records"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn findings(&self) -> Vec<Finding> {
        let mut out = Vec::new();
        self.aliases_beside(&mut out);
        self.leads_elsewhere(&mut out);
        self.as_a_whole(&mut out);
        self.at_the_former_host(&mut out);
        self.promised(self.site, &mut out);
        self.left_over(&mut out);
        self.hidden_wildcards(&mut out);
        self.delegated(&mut out);
        self.authorities(&mut out);
        self.name_servers(&mut out);
        self.long_lives(&mut out);
        self.without_v4(&mut out);
        self.to_do(&mut out);
        out.sort();
        out
    }

    fn zone_line(&self) -> (Line, Box<str>) {
        match self.domain.zone() {
            Some(zone) => (zone.line(), zone.path().into()),
            None => (self.domain.line(), self.zone.origin().to_string().into()),
        }
    }

    pub(super) fn on(&self, code: Code, record: &Record, what: String) -> Finding {
        let (by, name) = self.zone_line();
        Finding::at(code, FindingPlace::Named { by, name, number: Some(record.line) }, what)
    }

    /// Sites' names first; then every other name, since a zone with such a name is refused as a
    /// whole.
    fn aliases_beside(&self, out: &mut Vec<Finding>) {
        let mut seen: BTreeSet<&Name> = BTreeSet::new();
        for record in self.zone.records().filter(|record| record.kind == RecordType::CNAME) {
            let name = &record.name;
            let is_other = |other: &&Record| {
                let is_second = other.kind == RecordType::CNAME && other.line != record.line;
                is_second || !beside_alias(other.kind)
            };
            let other = self.zone.of(name).find(is_other);
            let Some(other) = other.filter(|_| seen.insert(name)) else { continue };
            let finding = if name == self.zone.origin() {
                let instead = match self.domain.addresses().is_empty() {
                    true => "write address records, or use an alias that the DNS host resolves"
                        .to_owned(),
                    false => format!("write address records for {}", addresses(self.domain)),
                };
                self.on(Code::CnameAtApex, record, format!("`{}`, the apex of the zone, has a CNAME", name))
                    .with_note(
                        "it conflicts with the zone's NS, SOA and MX records (RFC 1034, section 3.6.2); name servers refuse the zone",
                    )
                    .with_help(instead)
            } else {
                let what = match other.kind {
                    RecordType::CNAME => {
                        format!("`{name}` has a second CNAME (line {})", other.line)
                    }
                    kind => {
                        format!(
                            "`{name}` has a CNAME and a record of type {kind} (line {})",
                            other.line
                        )
                    }
                };
                self.on(Code::CnameConflict, record, what)
                    .with_note("a name with a CNAME has no other records (RFC 1034, section 3.6.2); name servers refuse the zone")
                    .with_help("keep one of them")
            };
            out.push(finding);
        }
    }

    fn left_over(&self, out: &mut Vec<Finding>) {
        for host in &self.hosts {
            let alias = host.name == *self.zone.origin() && self.domain.apex() == Apex::Alias;
            let needed: Vec<RecordData> = [RecordType::A, RecordType::AAAA]
                .into_iter()
                .flat_map(|kind| self.addresses(kind))
                .collect();
            let there = || {
                self.zone
                    .of(&host.name)
                    .filter(|record| matches!(record.kind, RecordType::A | RecordType::AAAA))
            };
            let is_new =
                |record: &&Record| record.data.as_ref().is_some_and(|data| needed.contains(data));
            if !alias && !there().any(|record| is_new(&record)) {
                continue;
            }
            for record in there().filter(|record| !is_new(record)) {
                let address = record.data.as_ref().map(ToString::to_string).unwrap_or_default();
                let beside = if alias { "an alias is wanted" } else { "the new addresses are" };
                out.push(
                    self.on(
                        Code::StaleAddress,
                        record,
                        format!("`{}` still has the address {address} where {beside}", host.host),
                    )
                    .with_note(match record.kind {
                        RecordType::AAAA => "visitors with IPv6 reach the former host",
                        _ => "some visitors reach the former host",
                    })
                    .with_help("remove it"),
                );
            }
        }
    }

    fn hidden_wildcards(&self, out: &mut Vec<Finding>) {
        for host in self.hosts.iter().filter(|host| host.host.starts_with("*.")) {
            let base = host.name.above();
            let depth = base.0.iter().len();
            let named: BTreeSet<Name> = self.hosts.iter().map(|host| host.name.clone()).collect();
            let below = self.zone.records().filter(|record| {
                let labels = record.name.0.iter().len();
                labels == depth + 1
                    && base.holds(&record.name)
                    && record.name != host.name
                    && !named.contains(&record.name)
            });
            let mut seen = BTreeSet::new();
            for record in below.filter(|record| seen.insert(&record.name)) {
                let target = self.target();
                let leads_there =
                    target.is_some() && record.data.as_ref().and_then(RecordData::alias) == target;
                if !leads_there {
                    out.push(
                        self.on(
                            Code::WildcardBlocked,
                            record,
                            format!(
                                "`{}` has a record of its own, so the wildcard `{}` does not match it",
                                &record.name, host.host
                            ),
                        )
                        .with_note("that preview does not reach the site")
                        .with_help("remove it, or give the preview another name"),
                    );
                }
            }
        }
    }

    fn delegated(&self, out: &mut Vec<Finding>) {
        for host in &self.hosts {
            let Some(cut) = self.zone.cut_above(&host.name) else { continue };
            let Some(record) = self.zone.set(&cut, RecordType::NS).next() else { continue };
            out.push(
                self.on(
                    Code::HostDelegated,
                    record,
                    format!(
                        "`{}` is in `{}`, which is delegated to other name servers",
                        host.host, &cut
                    ),
                )
                .with_note("resolvers do not see the records of this zone for the host")
                .with_help(format!(
                    "write its records in the zone `{}`, and a `domain` statement for it",
                    &cut
                )),
            );
        }
    }

    fn authorities(&self, out: &mut Vec<Finding>) {
        for set in self.caa() {
            let hosts = set.hosts.join(", ");
            if let Some((record, tag)) = set.unknown_critical() {
                out.push(
                    self.on(
                        Code::CaaForbids,
                        record,
                        format!("the critical CAA tag `{tag}` is unknown, so no CA may issue for {hosts}"),
                    )
                    .with_note("no certificate can be issued (RFC 8659, section 4.5); browsers refuse the site")
                    .with_help("write flags 0, or remove it"),
                );
                continue;
            }
            let Some(allowed) = set.allowed() else { continue };
            let record = set.records[0];
            if allowed.is_empty() {
                out.push(
                    self.on(
                        Code::CaaForbids,
                        record,
                        format!("CAA forbids every certificate authority to issue for {hosts}"),
                    )
                    .with_note("no certificate can be issued (RFC 8659); browsers refuse the site")
                    .with_help("write `0 issue \"CA\"` with the name of the certificate authority that the hosting uses, or remove it"),
                );
            } else {
                let names =
                    allowed.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ");
                out.push(
                    self.on(
                        Code::CaaRestricts,
                        record,
                        format!("CAA allows only {names} to issue a certificate for {hosts}"),
                    )
                    .with_note(
                        "a hosting that uses another certificate authority gets no certificate",
                    )
                    .with_help(
                        "ask the hosting which one it uses; if it is allowed here, accept this",
                    ),
                );
            }
        }
    }

    fn name_servers(&self, out: &mut Vec<Finding>) {
        if self.domain.nameservers().is_empty() {
            return;
        }
        let wanted: BTreeSet<Name> =
            self.domain.nameservers().iter().map(|host| name_of(host.as_str())).collect();
        let records: Vec<&Record> = self.zone.set(self.zone.origin(), RecordType::NS).collect();
        let there: BTreeSet<Name> = records
            .iter()
            .filter_map(|record| match &record.data.as_ref()?.0 {
                RData::NS(name) => Some(Name(name.0.clone())),
                _ => None,
            })
            .collect();
        if there == wanted {
            return;
        }
        let list = |names: &BTreeSet<Name>, others: &BTreeSet<Name>| {
            names
                .difference(others)
                .map(|name| format!("`{}`", name))
                .collect::<Vec<_>>()
                .join(", ")
        };
        let (lacks, more) = (list(&wanted, &there), list(&there, &wanted));
        let what = match (lacks.is_empty(), more.is_empty()) {
            (false, false) => format!("the zone has the name servers {more}, and not {lacks}"),
            (false, true) => format!("the zone lacks the name servers {lacks}"),
            _ => {
                format!("the zone has the name servers {more}, which the delegation does not have")
            }
        };
        let record = records.first().copied().unwrap_or(self.zone.soa());
        out.push(
            self.on(Code::NameserverMismatch, record, what)
                .with_note("answers depend on which name server a resolver asks; some may not serve the zone")
                .with_help("use the same set at the registry, in the zone and in `nameservers`; `ravel domain plan` shows how to move"),
        );
    }

    fn without_v4(&self, out: &mut Vec<Finding>) {
        let needs = self.hosts.iter().any(|host| host.name == *self.zone.origin());
        let has = |kind| !self.addresses(kind).is_empty();
        if needs
            && self.domain.apex() == Apex::Address
            && has(RecordType::AAAA)
            && !has(RecordType::A)
        {
            let what = format!("`{}` gets IPv6 addresses alone", self.zone.origin());
            out.push(
                Finding::on(Code::Ipv6Only, self.domain.line(), what)
                    .with_note("visitors without IPv6 do not reach it")
                    .with_help("add an IPv4 address of the hosting with `address`, or accept this"),
            );
        }
    }

    fn long_lives(&self, out: &mut Vec<Finding>) {
        let records: Vec<&Record> = self.zone.records().collect();
        let mut seen = BTreeSet::new();
        for number in self.changes().changed.keys() {
            let record = records[*number as usize];
            if record.ttl > LONG && seen.insert((&record.name, record.kind)) {
                let days = record.ttl.div_ceil(86_400);
                let what = format!(
                    "{} of `{}` has a TTL of {days} days, and is about to change",
                    record.kind, &record.name
                );
                out.push(
                    self.on(Code::LongTtl, record, what)
                        .with_note(format!("for {days} days after the change, some visitors get the old answer"))
                        .with_help(format!(
                            "set its TTL to 300 now, and change it {days} days later: see `ravel domain plan`"
                        )),
                );
            }
        }
    }

    fn to_do(&self, out: &mut Vec<Finding>) {
        let count = |action| self.rows().iter().filter(|row| row.action == action).count();
        let counts = [
            (Action::Add, "to add"),
            (Action::Change, "to change"),
            (Action::Remove, "to remove"),
            (Action::Blocked, "blocked"),
        ]
        .map(|(action, word)| (count(action), word));
        let text = counts
            .iter()
            .filter(|(count, _)| *count > 0)
            .map(|(count, word)| format!("{count} {word}"))
            .collect::<Vec<_>>();
        if !text.is_empty() {
            let (by, name) = self.zone_line();
            let place = FindingPlace::Named { by, name, number: None };
            out.push(
                Finding::at(
                    Code::PendingRecords,
                    place,
                    format!("the zone lacks what the site needs: {}", text.join(", ")),
                )
                .with_note("not every host reaches the site")
                .with_help(
                    "`ravel domain show` lists them; `ravel domain write FILE` writes the zone",
                ),
            );
        }
    }
}

fn addresses(domain: &Domain) -> String {
    domain.addresses().iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}
