//! What visitors of one host see over time.

use super::Issuance;
use crate::Moment;

/// What visitors of a host see.
#[derive(Debug, Clone)]
pub struct HostTimeline {
    pub(crate) host: String,
    pub(crate) spans: Vec<Span>,
    pub(crate) https: Option<Moment>,
    pub(crate) gap: Option<Gap>,
}

impl HostTimeline {
    pub(super) fn new(host: String, spans: Vec<Span>, certificate: Issuance) -> HostTimeline {
        let mut course = HostTimeline { host, spans, https: None, gap: None };
        let changes = course.spans.len() > 1;
        let all_new = course.all_new();
        let Some(first) = course.first_new() else { return course };
        course.https = match certificate {
            Issuance::There => Some(all_new.unwrap_or(first)),
            Issuance::In(window) => Some(all_new.unwrap_or(first).max(window.worst)),
            Issuance::Forbidden => None,
        };
        course.gap = match certificate {
            _ if !changes => None,
            Issuance::There => None,
            Issuance::In(window) => {
                (window.worst > first).then_some(Gap { from: first, until: Some(window.worst) })
            }
            Issuance::Forbidden => Some(Gap { from: first, until: None }),
        };
        course
    }

    /// When the first visitors reach the new site; the start of time where they always do.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// # let at: ravel_dns::Moment = "2027-03-01T06:00:00Z".parse()?;
    /// let timeline = ravel_dns::Timeline::at_once(&plan, None, at);
    /// assert_eq!(timeline.hosts()[0].first_new(), Some(at));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn first_new(&self) -> Option<Moment> {
        let span = self.spans.iter().find(|span| span.ends.new)?;
        span.from.or(span.until).or(Some(Moment::from_unix(0)))
    }

    /// When the last visitors are gone from the old one; none where there are none or they stay.
    pub fn last_old(&self) -> Option<Moment> {
        self.spans.iter().rfind(|span| span.ends.old)?.until
    }

    /// When the last resolver forgets that the name was missing.
    pub fn last_missing(&self) -> Option<Moment> {
        self.spans.iter().rfind(|span| span.ends.missing)?.until
    }

    /// From when on everybody reaches the new site; none where they always do or never.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// # let plan = ravel_dns::Plan::new(rules.site(), &rules.domains()[0], &zone);
    /// # let at: ravel_dns::Moment = "2027-03-01T06:00:00Z".parse()?;
    /// let timeline = ravel_dns::Timeline::at_once(&plan, None, at);
    /// assert_eq!(timeline.hosts()[0].all_new(), Some(at.plus(3_600)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn all_new(&self) -> Option<Moment> {
        let last = self.spans.last()?;
        last.from.filter(|_| last.ends == Destinations { new: true, ..Destinations::default() })
    }

    /// The host.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// What can be reached, from the oldest time to the newest, without holes. Neighbours differ.
    pub fn spans(&self) -> &[Span] {
        &self.spans
    }

    /// From when on HTTPS works for everyone; none where no certificate can be issued.
    pub fn https(&self) -> Option<Moment> {
        self.https
    }

    /// While some reach the new site, and it has no certificate yet.
    pub fn gap(&self) -> Option<Gap> {
        self.gap
    }
}

/// A stretch of time.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    pub(crate) from: Option<Moment>,
    pub(crate) until: Option<Moment>,
    #[cfg_attr(feature = "serde", serde(flatten))]
    pub(crate) ends: Destinations,
}

impl Span {
    /// Its start; none for the past.
    pub fn from(&self) -> Option<Moment> {
        self.from
    }

    /// Its end, which is no part of it; none for the future.
    pub fn until(&self) -> Option<Moment> {
        self.until
    }

    /// What visitors can reach in it.
    pub fn ends(&self) -> Destinations {
        self.ends
    }
}

/// Where visitors can end.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Destinations {
    pub(crate) old: bool,
    pub(crate) new: bool,
    pub(crate) missing: bool,
}

impl Destinations {
    /// Whether visitors can end elsewhere, at the new site, and nowhere.
    ///
    /// ```
    /// let either = ravel_dns::Destinations::new(true, true, false);
    /// assert!(either.is_old() && either.is_new() && !either.is_missing());
    /// ```
    pub const fn new(old: bool, new: bool, missing: bool) -> Destinations {
        Destinations { old, new, missing }
    }

    /// Takes in where others can end.
    ///
    /// ```
    /// use ravel_dns::Destinations;
    ///
    /// let mut all = Destinations::new(true, false, false);
    /// all.add(Destinations::new(false, true, false));
    /// assert!(all.is_new());
    /// ```
    pub fn add(&mut self, other: Destinations) {
        self.old |= other.old;
        self.new |= other.new;
        self.missing |= other.missing;
    }

    /// Somewhere else than at the new site.
    pub fn is_old(&self) -> bool {
        self.old
    }

    /// At the new site.
    pub fn is_new(&self) -> bool {
        self.new
    }

    /// Nowhere: the name is not found.
    pub fn is_missing(&self) -> bool {
        self.missing
    }
}

/// A time without HTTPS.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gap {
    pub(crate) from: Moment,
    pub(crate) until: Option<Moment>,
}

impl Gap {
    /// When the first visitors reach the new site.
    pub fn from(&self) -> Moment {
        self.from
    }

    /// When the certificate is issued at the latest; none if it cannot be.
    pub fn until(&self) -> Option<Moment> {
        self.until
    }
}
