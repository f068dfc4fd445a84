//! Who reaches what while a domain changes, in virtual time.
//!
//! Resolvers keep what they fetched for its TTL, and each fetched at a moment of its own. What a
//! version of the zone said can still be seen from its start until its end plus the TTL it gave:
//! that is all there is to it, for every single question. A host's answer may need several
//! questions (an alias, then addresses), each kept for itself.

mod host;
mod prepare;
mod visible;

use super::caa::CaaSet;
use super::plan::{Plan, PlannedHost, name_of, said, verification as data_of};
use super::zone::{RecordType, Zone};
use super::{Certificate, Moment};
pub use host::{Destinations, Gap, HostTimeline, Span};
use prepare::{adds_verification, long_lives, prepared, proves, verification_wait, with_low_lives};
use ravel::rules::Issue;
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
}

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    pub(crate) at: Moment,
    pub(crate) kind: StepKind,
}

impl Step {
    /// When: at the latest before a switch, at the earliest after it.
    pub fn at(&self) -> Moment {
        self.at
    }

    /// What.
    pub fn kind(&self) -> &StepKind {
        &self.kind
    }
}

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StepKind {
    /// Give these records a short TTL: whose, which type, and the TTL they have.
    Lower(Vec<(String, RecordType, u32)>, u32),
    /// Add the record that proves ownership.
    Prove,
    /// Let CAA records name the authority that is to issue; which one, only the hosting knows.
    Allow,
    /// Have the certificate issued.
    Issue,
    /// Write the new records.
    Switch,
    /// Give the new records the TTL that is wanted.
    Raise,
}

/// When something begins to be so: for the first, and for all.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    pub(crate) best: Moment,
    pub(crate) worst: Moment,
}

impl Window {
    /// The best case.
    pub fn best(&self) -> Moment {
        self.best
    }

    /// The worst case.
    pub fn worst(&self) -> Moment {
        self.worst
    }
}

/// When a certificate can be issued.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Issuance {
    /// It is there: the chain that the rules name is for every host, and valid.
    There,
    /// In this window.
    In(Window),
    /// Not at all: CAA records forbid it.
    Forbidden,
}

/// A zone from a moment on.
struct Version<'z> {
    /// In seconds from the switch.
    from: i64,
    zone: &'z Zone,
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
        let versions = [Version { from: EVER, zone: plan.zone }, Version { from: 0, zone: &after }];
        let mut course = Timeline::over(plan, certificate, moment, &versions, None);
        course.zones = vec![(moment, after)];
        course.steps = vec![Step { at: moment, kind: StepKind::Switch }];
        if let Issuance::In(window) = course.certificate {
            course.steps.push(Step { at: window.worst, kind: StepKind::Issue });
        }
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
        let old_ttl = lowered.iter().map(|(_, _, ttl)| *ttl).max().unwrap_or(0);
        let proving = if proves { verification_wait(plan).saturating_add(issuing) } else { 0 };
        let forbidding = plan.caa().iter().filter(|caa| caa.forbids()).map(CaaSet::ttl).max();
        let allowing = forbidding.map_or(0, |ttl| ttl.saturating_add(issuing));
        let start = -i64::from(old_ttl.max(proving).max(allowing));
        let allowed = forbidding.map(|ttl| (start, start + i64::from(ttl)));
        let before = plan.zone.changed(&prepared(plan, &lowered));
        let switched = plan.zone.changed(&with_low_lives(plan, &lowered));
        let mut versions = vec![Version { from: EVER, zone: plan.zone }];
        if start < 0 {
            versions.push(Version { from: start, zone: &before });
        }
        versions.push(Version { from: 0, zone: &switched });
        let arrived = Timeline::over(plan, certificate, moment, &versions, allowed)
            .settled()
            .map_or(0, |at| at.since(moment));
        let after = plan.zone.changed(plan.changes());
        versions.push(Version { from: arrived, zone: &after });
        let mut course = Timeline::over(plan, certificate, moment, &versions, allowed);
        let at = |seconds| moment.plus(seconds);
        course.zones = versions
            .iter()
            .skip(1)
            .map(|version| (at(version.from), version.zone.clone()))
            .collect();
        let mut steps = Vec::new();
        if !lowered.is_empty() {
            steps.push(Step { at: at(start), kind: StepKind::Lower(lowered, LOW) });
        }
        if proves {
            steps.push(Step { at: at(start), kind: StepKind::Prove });
        }
        if allowed.is_some() {
            steps.push(Step { at: at(start), kind: StepKind::Allow });
        }
        steps.push(Step { at: moment, kind: StepKind::Switch });
        if let Issuance::In(window) = course.certificate {
            let begin = window.worst.plus(-i64::from(issuing));
            steps.push(Step { at: begin, kind: StepKind::Issue });
        }
        if after.text() != switched.text() {
            steps.push(Step { at: at(arrived), kind: StepKind::Raise });
        }
        steps.sort_by_key(|step| step.at);
        course.steps = steps;
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

    /// What happens when these versions follow each other; `allowed` says between when CAA records
    /// that forbid a certificate no longer do, in seconds from the switch.
    fn over(
        plan: &Plan<'_>,
        certificate: Option<&Certificate>,
        moment: Moment,
        versions: &[Version<'_>],
        allowed: Option<(i64, i64)>,
    ) -> Timeline {
        let at = |seconds| moment.plus(seconds);
        // Ownership is proved by all of them together.
        let windows = plan.domain.verification().iter().filter_map(|record| {
            let (name, data) = (name_of(record.name().as_str()), data_of(record));
            let kind = data.record_type();
            let has = |zone: &Zone| {
                zone.set(&name, kind).any(|record| match kind {
                    RecordType::TXT => said(record) == data.said(),
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
        let allowed = allowed.map(|(best, worst)| Window { best: at(best), worst: at(worst) });
        let certificate = issued(plan, certificate, moment, begin, verification, allowed);
        let course = |host: &PlannedHost| {
            let spans = spans(plan, versions, &host.name, moment);
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

fn issued(
    plan: &Plan<'_>,
    certificate: Option<&Certificate>,
    moment: Moment,
    begin: Moment,
    verification: Option<Window>,
    allowed: Option<Window>,
) -> Issuance {
    let there = certificate.is_some_and(|certificate| {
        let (from, until) = certificate.validity();
        from <= moment
            && moment < until
            && plan.hosts.iter().all(|host| certificate.names(&host.host))
    });
    if there {
        return Issuance::There;
    }
    if allowed.is_none() && plan.caa().iter().any(CaaSet::forbids) {
        return Issuance::Forbidden;
    }
    let switch = Window { best: moment, worst: moment };
    let by_records = plan.domain.issue() == Issue::Records || !proves(plan);
    let earliest = if by_records { switch } else { Window { best: begin, worst: begin } };
    // All that is waited for must have come.
    let awaited = [verification, allowed].into_iter().flatten();
    let later = |one: Window, other: Window| Window {
        best: one.best.max(other.best),
        worst: one.worst.max(other.worst),
    };
    let begins = awaited.fold(earliest, later);
    let worst = begins.worst.plus(i64::from(plan.domain.issue_in()));
    Issuance::In(Window { best: begins.best, worst })
}
