//! Reads `domain` blocks.

use std::net::IpAddr;

use super::site::{SeenSettings, duration, host, one_of, value};
use super::{Cursor, Outcome, Reader};
use crate::address::Host;
use crate::language::grammar::DomainSetting;
use crate::language::{LineText, Problem, ProblemKind, Statement, Word};
use crate::rules::{Apex, Domain, Issue, NamedFile, VerificationRecord, VerificationValue};

/// The longest TTL that a record can have (RFC 2181, section 8).
const MAX_TTL: u64 = (1 << 31) - 1;

impl Reader<'_> {
    pub(super) fn domain(
        &mut self,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
    ) -> Outcome<()> {
        let word = value(&mut cursor, "the name of a domain")?;
        let place = cursor.place(word.columns.clone());
        let name = host(&word, &cursor)?;
        cursor.end()?;
        let mut domain = Domain {
            line: statement.head.line,
            name,
            host: None,
            addresses: Vec::new(),
            verification: Vec::new(),
            zone: None,
            apex: Apex::Address,
            nameservers: Vec::new(),
            parent_ttl: None,
            certificate: None,
            issue: Issue::Records,
            issue_in: Domain::ISSUE_IN,
            ttl: None,
        };
        let mut seen = SeenSettings::default();
        let mut readable = true;
        for &line in &statement.body {
            if let Err(problem) = self.domain_setting(&mut domain, line, &mut seen) {
                self.problems.push(problem);
                readable = false;
            }
        }
        let found = domain.name.to_string();
        if self.domains.iter().any(|other| other.name == domain.name) {
            return Err(Problem::new(place, ProblemKind::DomainTwice { found }));
        }
        if readable && let Some(kind) = self.lacking(&domain) {
            return Err(Problem::new(place, kind));
        }
        self.domains.push(domain);
        Ok(())
    }

    /// What a domain does not say and must.
    fn lacking(&self, domain: &Domain) -> Option<ProblemKind> {
        let site = &self.site;
        if !site.is_known() {
            return None;
        }
        let hosts: Vec<String> = site.hosts().filter(|host| domain.holds(host)).collect();
        let lacks =
            |host: &String, setting| Some(ProblemKind::DomainLacks { host: host.clone(), setting });
        if hosts.is_empty() {
            return Some(ProblemKind::DomainWithoutHost { found: domain.name.to_string() });
        }
        let apex = hosts.iter().find(|host| **host == domain.name.as_str());
        if let Some(apex) = apex
            && domain.addresses.is_empty()
            && domain.apex == Apex::Address
        {
            return lacks(apex, "address");
        }
        let below = hosts.iter().find(|host| **host != domain.name.as_str());
        match below.or(apex.filter(|_| domain.apex == Apex::Alias)) {
            Some(host) if domain.host.is_none() => lacks(host, "host"),
            _ if domain.issue == Issue::Verification && domain.verification.is_empty() => {
                lacks(&hosts[0], "verification")
            }
            _ => None,
        }
    }

    fn domain_setting(
        &self,
        domain: &mut Domain,
        line: LineText<'_>,
        seen: &mut SeenSettings,
    ) -> Outcome<()> {
        let mut cursor = Cursor::new(line);
        match seen.next(&mut cursor, DomainSetting::find, DomainSetting::FORMS)? {
            DomainSetting::Host => {
                let word = value(&mut cursor, "the name that the hosting gives the site")?;
                domain.host = Some(host(&word, &cursor)?);
            }
            DomainSetting::Address => domain.addresses.extend(addresses(&mut cursor)?),
            DomainSetting::Verification => {
                domain.verification.push(verification(&mut cursor, &domain.name)?);
                // Each service wants one of its own.
                seen.forget("verification");
            }
            DomainSetting::Zone => {
                domain.zone = Some(self.named_file(&mut cursor, line, "the name of a zone file")?)
            }
            DomainSetting::Apex => {
                domain.apex = one_of(
                    &mut cursor,
                    "`address` or `alias`",
                    &[("address", Apex::Address), ("alias", Apex::Alias)],
                )?;
            }
            DomainSetting::Nameservers => {
                for word in cursor.list("the name of a name server")? {
                    domain.nameservers.push(host(&word, &cursor)?);
                }
            }
            DomainSetting::ParentTtl => domain.parent_ttl = Some(ttl(&mut cursor)?),
            DomainSetting::Certificate => {
                domain.certificate =
                    Some(self.named_file(&mut cursor, line, "the name of a PEM file")?)
            }
            DomainSetting::Issue => {
                domain.issue = issue(&mut cursor)?;
                if cursor.take("in") {
                    domain.issue_in = ttl(&mut cursor)?;
                }
            }
            DomainSetting::Ttl => domain.ttl = Some(ttl(&mut cursor)?),
        }
        cursor.end()
    }

    /// A file that is not read here; its name is relative to the file that is being read.
    fn named_file(
        &self,
        cursor: &mut Cursor<'_>,
        line: LineText<'_>,
        wanted: &'static str,
    ) -> Outcome<NamedFile> {
        let word = value(cursor, wanted)?;
        let path = self.file_name(&word, &cursor.place(word.columns.clone()))?;
        Ok(NamedFile { path: path.into(), line: line.line })
    }
}

fn addresses(cursor: &mut Cursor<'_>) -> Outcome<Vec<IpAddr>> {
    let words = cursor.list("an IP address")?;
    let read = words.into_iter().map(|word| match word.text.parse() {
        Ok(address) => Ok(address),
        Err(_) => {
            let wanted = "an IP address such as `192.0.2.44` or `2001:db8::1`";
            Err(cursor.unexpected(word, wanted))
        }
    });
    read.collect()
}

fn issue(cursor: &mut Cursor<'_>) -> Outcome<Issue> {
    if cursor.rest().trim() == "proof" {
        let name = "issue verification".to_owned();
        let kind = ProblemKind::Renamed { found: "issue proof".to_owned(), name };
        return Err(Problem::new(cursor.here(), kind));
    }
    let values = [("verification", Issue::Verification), ("records", Issue::Records)];
    one_of(cursor, "`verification` or `records`", &values)
}

fn ttl(cursor: &mut Cursor<'_>) -> Outcome<u32> {
    let word = value(cursor, "a duration such as `1h`")?;
    match duration(&word.text).filter(|seconds| *seconds <= MAX_TTL) {
        Some(seconds) => Ok(seconds as u32),
        None => {
            let kind = ProblemKind::Duration { found: word.text.into_owned() };
            Err(Problem::new(cursor.place(word.columns), kind))
        }
    }
}

/// The name of a record, and its text or the name that it leads to.
fn verification(cursor: &mut Cursor<'_>, domain: &Host) -> Outcome<VerificationRecord> {
    let word = value(cursor, "the name of the record")?;
    let (name, is_whole) = relative(&word, cursor, domain)?;
    let value = match !cursor.rest().starts_with('"') && cursor.take("cname") {
        true => VerificationValue::Alias(host(
            &value(cursor, "the name that the CNAME leads to")?,
            cursor,
        )?),
        false => {
            let wanted = "the text of a TXT record, in quotes, or `cname NAME`";
            VerificationValue::Text(value(cursor, wanted)?.text.into())
        }
    };
    Ok(VerificationRecord { name, value, is_whole })
}

/// A name of the zone: relative to the domain, unless it ends with a dot or with the domain; `@` is
/// the domain itself. Says whether it was written whole without a dot.
fn relative(word: &Word<'_>, cursor: &Cursor<'_>, domain: &Host) -> Outcome<(Host, bool)> {
    let mut is_whole = false;
    let whole = match &*word.text {
        "@" => domain.to_string(),
        name if name.ends_with('.') => name.to_owned(),
        name if name == domain.as_str() || name.ends_with(&format!(".{domain}")) => {
            is_whole = true;
            name.to_owned()
        }
        name => format!("{name}.{domain}"),
    };
    let word = Word { text: whole.into(), ..word.clone() };
    Ok((host(&word, cursor)?, is_whole))
}
