//! Who reaches what while a domain changes, in virtual time.
//!
//! Resolvers keep what they fetched for its TTL, and each fetched at a moment of its own. What a
//! version of the zone said can still be seen from its start until its end plus the TTL it gave:
//! that is all there is to it, for every single question. A host's answer may need several
//! questions (an alias, then addresses), each kept for itself.

mod host;
mod issue;
mod prepare;
mod servers;
mod step;
mod visible;

use super::caa::CaaSet;
use super::plan::{Plan, PlannedHost, name_of, verification as data_of};
use super::zone::{RecordType, Zone};
use super::{Certificate, Moment};
pub use host::{Destinations, Gap, HostTimeline, Span};
use issue::issued;
pub use issue::{Issuance, Window};
use prepare::{
    adds_verification, kept_for, long_lives, prepared, verification_wait, with_low_lives,
};
use ravel::rules::Issue;
pub use servers::NameServerMove;
pub use step::{Step, StepKind};
use visible::{end_of, spans};

/// The TTL that records get before a change, in seconds.
const LOW: u32 = 300;

/// What happens when a zone changes.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone)]
pub struct Timeline {
    pub(crate) moment: Moment,
    pub(crate) steps: Vec<Step>,
    #[cfg_attr(feature = "serde", serde(skip))]
    pub(crate) zones: Vec<(Moment, Zone)>,
    pub(crate) hosts: Vec<HostTimeline>,
    pub(crate) unseen: Vec<String>,
    pub(crate) verification: Option<Window>,
    /// Whether no time without HTTPS would be left, could the certificate be issued before.
    pub(crate) needs_no_gap: bool,
    pub(crate) certificate: Issuance,
    pub(crate) name_servers: Option<NameServerMove>,
}

/// A zone from a moment on.
struct Version<'z> {
    /// In seconds from the switch.
    from: i64,
    zone: &'z Zone,
    /// How long some name servers give it after the next has come, and are asked, in seconds.
    lingers: i64,
}

impl<'z> Version<'z> {
    fn new(from: i64, zone: &'z Zone) -> Version<'z> {
        Version { from, zone, lingers: 0 }
    }
}

/// What besides the versions decides what resolvers get: between when CAA records that forbid a
/// certificate no longer do, and until when the keys at the parent are not those of the zone; in
/// seconds from the switch.
#[derive(Clone, Copy, Default)]
struct Around {
    allowed: Option<(i64, i64)>,
    other_keys: Option<i64>,
}

/// The start of the first version: longer before than any TTL.
const EVER: i64 = i64::MIN / 2;

impl Timeline {
    /// Everything is changed at one moment.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// # let at: ravel_dns::Moment = "2027-03-01T06:00:00Z".parse()?;
    /// assert_eq!(ravel_dns::Timeline::at_once(&plan, None, at).settled(), Some(at.plus(3_600)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn at_once(plan: &Plan<'_>, certificate: Option<&Certificate>, moment: Moment) -> Timeline {
        let after = plan.zone.changed(plan.changes());
        let mut versions = [Version::new(EVER, plan.zone), Version::new(0, &after)];
        let (name_servers, mut around) = (NameServerMove::of(plan), Around::default());
        if let Some(servers) = &name_servers {
            versions[0].lingers = servers.asked_for(false);
            around.other_keys = servers.is_signed().then_some(servers.parent_ttl().into());
        }
        let mut course = Timeline::over(plan, certificate, moment, &versions, around);
        course.zones = vec![(moment, after)];
        course.steps = vec![Step { at: moment, kind: StepKind::Switch }];
        if plan.signature().is_some() && name_servers.is_none() {
            course.steps.push(Step { at: moment, kind: StepKind::Sign });
        }
        if let Some(servers) = name_servers {
            let delegate = StepKind::Delegate(servers.to().to_vec());
            course.steps.push(Step { at: moment, kind: delegate });
            if servers.is_signed() {
                course.steps.push(Step { at: moment, kind: StepKind::RemoveKeys });
            }
            let end = moment.plus(servers.asked_for(false));
            course.steps.push(Step { at: end, kind: StepKind::Stop(servers.from().to_vec()) });
            course.name_servers = Some(servers);
        }
        if let Issuance::In(window) = course.certificate {
            course.steps.push(Step { at: window.worst, kind: StepKind::Issue });
        }
        course.steps.sort_by_key(|step| step.at);
        course
    }

    /// The steps are taken in the order that leaves as little of a gap as can be, with the switch
    /// at this moment.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// # let at: ravel_dns::Moment = "2027-03-01T06:00:00Z".parse()?;
    /// let timeline = ravel_dns::Timeline::in_order(&plan, None, at);
    /// assert_eq!(timeline.settled(), Some(at.plus(300)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn in_order(
        plan: &Plan<'_>,
        certificate: Option<&Certificate>,
        moment: Moment,
    ) -> Timeline {
        let lowered = long_lives(plan);
        let (proves, issuing) = (adds_verification(plan), plan.domain.issue_in());
        let name_servers = NameServerMove::of(plan);
        let old_ttl = lowered.iter().map(|set| kept_for(plan, set)).max().unwrap_or(0);
        let proving = if proves { verification_wait(plan).saturating_add(issuing) } else { 0 };
        let forbidding = plan.caa().iter().filter(|caa| caa.forbids()).map(CaaSet::ttl).max();
        let allowing = forbidding.map_or(0, |ttl| ttl.saturating_add(issuing));
        let keys = name_servers.as_ref().filter(|servers| servers.is_signed());
        let forgetting = keys.map_or(0, NameServerMove::parent_ttl);
        let start = -i64::from(old_ttl.max(proving).max(allowing).max(forgetting));
        let allowed = forbidding.map(|ttl| (start, start + i64::from(ttl)));
        let before = plan.zone.changed(&prepared(plan, &lowered));
        let switched = plan.zone.changed(&with_low_lives(plan, &lowered));
        let mut versions = vec![Version::new(EVER, plan.zone)];
        if start < 0 {
            versions.push(Version::new(start, &before));
        }
        versions.push(Version::new(0, &switched));
        let around = Around { allowed, other_keys: None };
        let asked = name_servers.as_ref().map_or(0, |servers| servers.asked_for(true));
        let arrived = Timeline::over(plan, certificate, moment, &versions, around)
            .settled()
            .map_or(0, |at| at.since(moment))
            .max(asked);
        let after = plan.zone.changed(plan.changes());
        versions.push(Version::new(arrived, &after));
        let mut course = Timeline::over(plan, certificate, moment, &versions, around);
        let at = |seconds| moment.plus(seconds);
        course.zones = versions
            .iter()
            .skip(1)
            .map(|version| (at(version.from), version.zone.clone()))
            .collect();
        let mut steps = Vec::new();
        let mut push = |seconds, kind| steps.push(Step { at: at(seconds), kind });
        if let Some(servers) = &name_servers {
            push(start, StepKind::Copy(servers.to().to_vec()));
        }
        if !lowered.is_empty() {
            push(start, StepKind::Lower(lowered, LOW));
        }
        if proves {
            push(start, StepKind::Prove);
        }
        if allowed.is_some() {
            push(start, StepKind::Allow);
        }
        if forgetting > 0 {
            push(start, StepKind::RemoveKeys);
        }
        if plan.signature().is_some() {
            // Without keys at the parent nobody looks at signatures.
            let is_looked_at = |from: &i64| keys.is_none() || *from < 0;
            let moments = versions.iter().skip(1).map(|version| version.from);
            moments.filter(is_looked_at).for_each(|from| push(from, StepKind::Sign));
        }
        push(0, StepKind::Switch);
        if let Some(servers) = &name_servers {
            push(0, StepKind::Delegate(servers.to().to_vec()));
            push(asked, StepKind::Stop(servers.from().to_vec()));
        }
        if let Issuance::In(window) = course.certificate {
            push(window.worst.since(moment) - i64::from(issuing), StepKind::Issue);
        }
        if after.text() != switched.text() {
            push(arrived, StepKind::Raise);
        }
        if forgetting > 0 {
            push(arrived, StepKind::AddKeys);
        }
        steps.sort_by_key(|step| step.at);
        course.steps = steps;
        course.name_servers = name_servers;
        course.needs_no_gap = course.has_gap()
            && plan.domain.issue() == Issue::Records
            && !plan.domain.verification().is_empty()
            && {
                let domain = plan.domain.clone().with_issue(Issue::Verification);
                let earlier = plan.clone().of_domain(&domain);
                !Timeline::in_order(&earlier, certificate, moment).has_gap()
            };
        course
    }

    fn has_gap(&self) -> bool {
        self.hosts.iter().any(|host| host.gap.is_some())
    }

    /// Whether no time without HTTPS would be left if the certificate could be issued once the
    /// verification records are visible: asked of the timeline in order.
    pub fn needs_no_gap(&self) -> bool {
        self.needs_no_gap
    }

    /// From when on everybody reaches the new site; none where nothing changes or the zone never
    /// gives it.
    pub fn settled(&self) -> Option<Moment> {
        self.hosts.iter().filter_map(|host| host.all_new()).max()
    }

    /// The first and the last moment at which something changes for somebody.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// # let at: ravel_dns::Moment = "2027-03-01T06:00:00Z".parse()?;
    /// let (from, until) = ravel_dns::Timeline::at_once(&plan, None, at).extent();
    /// assert!(from <= at && at <= until);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn extent(&self) -> (Moment, Moment) {
        let spans =
            self.hosts.iter().flat_map(|host| host.spans.iter().filter_map(|span| span.from));
        let windows = self.verification.iter().chain(match &self.certificate {
            Issuance::In(window) => Some(window),
            _ => None,
        });
        let mut all: Vec<Moment> = spans.chain(self.steps.iter().map(|step| step.at)).collect();
        all.extend(windows.flat_map(|window| [window.best, window.worst]));
        all.push(self.moment);
        all.sort();
        (all[0], all[all.len() - 1])
    }

    /// What happens when these versions follow each other.
    fn over(
        plan: &Plan<'_>,
        certificate: Option<&Certificate>,
        moment: Moment,
        versions: &[Version<'_>],
        around: Around,
    ) -> Timeline {
        let at = |seconds| moment.plus(seconds);
        // Ownership is proved by all of them together.
        let windows = plan.domain.verification().iter().filter_map(|record| {
            let (name, data) = (name_of(record.name().as_str()), data_of(record));
            let kind = data.record_type();
            let has = |zone: &Zone| {
                zone.set(&name, kind).any(|record| match kind {
                    RecordType::TXT => record.said() == data.said(),
                    _ => record.data.as_ref() == Some(&data),
                })
            };
            let first =
                versions.iter().position(|version| has(version.zone)).filter(|first| *first > 0)?;
            let best = versions[first].from;
            let worst = (0..first)
                .map(|old| end_of(versions, old, &name, kind))
                .max()
                .unwrap_or(best)
                .max(best);
            Some((best, worst))
        });
        let verification = windows
            .reduce(|one, other| (one.0.max(other.0), one.1.max(other.1)))
            .map(|(best, worst)| Window { best: at(best), worst: at(worst) });
        let begin = versions
            .iter()
            .map(|version| version.from)
            .find(|from| *from > EVER)
            .map_or(moment, at);
        let allowed =
            around.allowed.map(|(best, worst)| Window { best: at(best), worst: at(worst) });
        let lingers = versions.iter().map(|version| version.lingers).max().unwrap_or(0);
        let certificate =
            issued(plan, certificate, (moment, lingers), begin, verification, allowed);
        let course = |host: &PlannedHost| {
            let spans = spans(plan, versions, around.other_keys, &host.name, moment);
            HostTimeline::new(host.host.clone(), spans, certificate)
        };
        Timeline {
            moment,
            steps: Vec::new(),
            zones: Vec::new(),
            hosts: plan.hosts.iter().filter(|host| host.seen).map(course).collect(),
            unseen: plan
                .hosts
                .iter()
                .filter(|host| !host.seen)
                .map(|host| host.host.clone())
                .collect(),
            verification,
            needs_no_gap: false,
            certificate,
            name_servers: None,
        }
    }

    /// The moment at which all name servers give the site's new records.
    pub fn moment(&self) -> Moment {
        self.moment
    }

    /// What to do, in order of time.
    pub fn steps(&self) -> &[Step] {
        &self.steps
    }

    /// The move to other name servers, if the zone is to have others.
    pub fn name_servers(&self) -> Option<&NameServerMove> {
        self.name_servers.as_ref()
    }

    /// The zones that are to stand, each from a moment on; before the first it is the zone as it
    /// is.
    pub fn zones(&self) -> &[(Moment, Zone)] {
        &self.zones
    }

    /// What visitors see, host by host.
    pub fn hosts(&self) -> &[HostTimeline] {
        &self.hosts
    }

    /// Hosts of which the zone cannot show what they get.
    pub fn unseen(&self) -> &[String] {
        &self.unseen
    }

    /// When ownership can be proved; none where the rules state no verification, the verification cannot be
    /// added, or it is there already.
    pub fn verification(&self) -> Option<Window> {
        self.verification
    }

    /// When the certificate can be issued.
    pub fn certificate(&self) -> Issuance {
        self.certificate
    }
}
