//! What name servers must answer.

use super::ZoneStep;
use super::plan::{addresses, name_of, verification};
use super::zone::{Name, RecordData, RecordType};
use ravel::rules::{Apex, Domain, Site};

/// What name servers must answer about a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Requirement {
    pub(crate) host: String,
    pub(crate) name: Name,
    pub(crate) kind: RecordType,
    pub(crate) data: Vec<RecordData>,
    pub(crate) others: bool,
    /// Addresses, where the name has other records, beside which no CNAME can stand.
    pub(crate) instead: Vec<RecordData>,
    /// The longest that it may be kept, in seconds.
    pub(crate) ttl: Option<u32>,
}

/// Types of which one record is enough to keep a CNAME away: those that sites have at such names.
pub(crate) const IN_THE_WAY: [RecordType; 4] =
    [RecordType::MX, RecordType::TXT, RecordType::CAA, RecordType::SRV];

/// The label that stands for any, where a wildcard is asked.
const SOME_LABEL: &str = "ravel-asks";

impl Requirement {
    /// What name servers must answer about the hosts of a site in a domain.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// let requirements = ravel_dns::Requirement::of(rules.site(), &rules.domains()[0]);
    /// assert_eq!(requirements[0].data()[0].to_string(), "192.0.2.44");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(site: &Site, domain: &Domain) -> Vec<Requirement> {
        let mut wanted = Vec::new();
        for host in site.hosts().filter(|host| domain.holds(host)) {
            let asked =
                host.strip_prefix("*.").map_or(host.clone(), |rest| format!("{SOME_LABEL}.{rest}"));
            let one = |kind, data| Requirement {
                host: host.clone(),
                name: name_of(&asked),
                kind,
                data,
                others: false,
                instead: Vec::new(),
                ttl: None,
            };
            if host != domain.name().as_str() {
                let target = domain.host().map(|host| RecordData::alias_of(name_of(host.as_str())));
                let all = [RecordType::A, RecordType::AAAA].map(|kind| addresses(domain, kind));
                let alias = one(RecordType::CNAME, target.into_iter().collect());
                wanted.push(Requirement { instead: all.concat(), ..alias });
            } else if domain.apex() == Apex::Address {
                wanted.extend(
                    [RecordType::A, RecordType::AAAA]
                        .map(|kind| one(kind, addresses(domain, kind))),
                );
            }
        }
        let at = |name: &str, kind, data, others| Requirement {
            host: name.to_owned(),
            name: name_of(name),
            kind,
            data,
            others,
            instead: Vec::new(),
            ttl: None,
        };
        wanted.extend(domain.verification().iter().map(|record| {
            let data = verification(record);
            let others = data.record_type() == RecordType::TXT;
            at(record.name().as_str(), data.record_type(), vec![data], others)
        }));
        if !domain.nameservers().is_empty() {
            let servers = domain
                .nameservers()
                .iter()
                .map(|host| RecordData::name_server(name_of(host.as_str())))
                .collect();
            wanted.push(at(domain.name().as_str(), RecordType::NS, servers, false));
        }
        wanted
    }

    /// What name servers must answer once the zone of a step is published: each name and type of
    /// which it changes records.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// # let timeline = ravel_dns::Timeline::in_order(&plan, None, "2027-03-01T06:00:00Z".parse()?);
    /// let first = &ravel_dns::ZoneStep::of(&timeline, &zone)[0];
    /// let lowered = &ravel_dns::Requirement::of_step(first)[0];
    /// assert_eq!((lowered.data()[0].to_string(), lowered.ttl()), ("203.0.113.80".to_owned(), Some(300)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of_step(step: &ZoneStep) -> Vec<Requirement> {
        let mut wanted: Vec<Requirement> = Vec::new();
        let records = step.added().iter().chain(step.removed());
        for record in records.filter(|record| record.kind() != RecordType::SOA) {
            let host = record.name().to_string();
            if wanted.iter().any(|known| known.host == host && known.kind == record.kind()) {
                continue;
            }
            let set = || step.zone().set(record.name(), record.kind());
            let data: Vec<RecordData> = set().filter_map(|one| one.data().cloned()).collect();
            let others = data.is_empty() && set().next().is_some();
            let asked =
                host.strip_prefix("*.").map_or(host.clone(), |rest| format!("{SOME_LABEL}.{rest}"));
            wanted.push(Requirement {
                name: name_of(&asked),
                kind: record.kind(),
                ttl: set().map(|one| one.ttl()).max(),
                host,
                data,
                // What is in a notation that is not known here is not compared.
                others,
                instead: Vec::new(),
            });
        }
        wanted
    }

    /// Whether these answers are what is wanted.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// let requirement = &ravel_dns::Requirement::of(rules.site(), &rules.domains()[0])[0];
    /// assert!(requirement.is_met_by(requirement.data()) && !requirement.is_met_by([]));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_met_by<'d>(&self, answers: impl IntoIterator<Item = &'d RecordData>) -> bool {
        let answers: Vec<&RecordData> = answers.into_iter().collect();
        let of = |kind| answers.iter().copied().filter(move |data| data.record_type() == kind);
        let is_alias = self.is_alias();
        if is_alias
            && of(RecordType::CNAME).next().is_none()
            && answers.iter().any(|data| IN_THE_WAY.contains(&data.record_type()))
        {
            let there: Vec<&RecordData> =
                [RecordType::A, RecordType::AAAA].into_iter().flat_map(of).collect();
            let has_all = self.instead.iter().all(|data| there.contains(&data));
            let has_more = there.iter().any(|data| !self.instead.contains(data));
            return !self.instead.is_empty() && has_all && !has_more;
        }
        // Beside a CNAME that is needed stand no addresses.
        let is_alone = !is_alias || answers.iter().all(|data| data.record_type() == self.kind);
        let has = |wanted: &RecordData| of(self.kind).any(|data| says_the_same(data, wanted));
        let is_wanted =
            |data: &RecordData| self.data.iter().any(|wanted| says_the_same(data, wanted));
        is_alone && self.data.iter().all(has) && (self.others || of(self.kind).all(is_wanted))
    }

    /// What else is asked where there is no CNAME: whether others keep it away, and addresses.
    pub fn asked_instead(&self) -> impl Iterator<Item = RecordType> {
        let kinds = [RecordType::A, RecordType::AAAA].into_iter().chain(IN_THE_WAY);
        kinds.filter(|_| self.is_alias())
    }

    /// Whether a CNAME is wanted, beside which nothing else can stand.
    fn is_alias(&self) -> bool {
        self.kind == RecordType::CNAME && !self.data.is_empty()
    }

    /// The longest that it may be kept, in seconds; none where that does not matter.
    pub fn ttl(&self) -> Option<u32> {
        self.ttl
    }

    /// As the rules name it.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// What to ask for; a wildcard is asked for a name that it covers.
    pub fn name(&self) -> &Name {
        &self.name
    }

    /// The type that is needed.
    pub fn kind(&self) -> RecordType {
        self.kind
    }

    /// What must be said; nothing where there must be no such records.
    pub fn data(&self) -> &[RecordData] {
        &self.data
    }

    /// Whether other records of the type may stand beside these.
    pub fn others(&self) -> bool {
        self.others
    }
}

/// Whether two records say the same: a text may be cut into several (RFC 1035, section 3.3.14).
fn says_the_same(one: &RecordData, other: &RecordData) -> bool {
    one == other
        || (one.record_type() == RecordType::TXT
            && other.record_type() == RecordType::TXT
            && one.said() == other.said())
}
