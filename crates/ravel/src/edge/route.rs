//! The hops of a request one by one, without header fields and explanations: what the audit asks of
//! very many addresses.

use http::Method;

use super::decide::MAX_URL_BYTES;
use super::decision::{DecidedBy, Hop};
use super::header::Permanence;
use super::one_hop::MAX_REDIRECTS_JOINED;
use super::walk::MAX_HOPS;
use super::{Context, Edge, NoTrace, Outcome};
use crate::address::{Address, Request};
use crate::program::RuleId;

/// A request followed hop by hop, as under `hops each`.
#[derive(Debug, Clone)]
pub struct Route {
    pub(crate) hops: Vec<RouteHop>,
    pub(crate) end: RouteEnd,
}

/// A redirect that is followed.
#[derive(Debug, Clone)]
pub struct RouteHop {
    pub(crate) to: Address,
    pub(crate) rule: Option<RuleId>,
    pub(crate) permanent: bool,
}

impl RouteHop {
    /// Where it leads.
    pub fn to(&self) -> &Address {
        &self.to
    }

    /// The rule that redirects; none for a canonical redirect.
    pub fn rule(&self) -> Option<RuleId> {
        self.rule
    }

    /// Whether browsers keep it.
    pub fn permanent(&self) -> bool {
        self.permanent
    }
}

/// Where a route ends.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum RouteEnd {
    /// On the site.
    Answer {
        /// What is answered there.
        outcome: Outcome,
        /// The number of the file that is shown.
        file: Option<u32>,
        /// The rule that decided.
        by: Option<RuleId>,
    },
    /// At an address that is not the site's.
    Away,
    /// A URL came back, or there are too many hops.
    Loop,
    /// At a URL whose next one would be longer than is answered.
    TooLong,
}

impl Edge {
    /// Follows a request; what its address is, must be well formed.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x} -> /b\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let route = edge.route(&ravel::Request::get("https://h.example/a/1")?);
    /// assert_eq!(route.hops().len(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn route(&self, request: &Request) -> Route {
        // An answer joins so many; browsers follow so many.
        let most = if self.site().one_hop { MAX_REDIRECTS_JOINED } else { MAX_HOPS };
        let mut route = Route { hops: Vec::new(), end: RouteEnd::Away };
        let Ok(first) = request.address() else {
            route.end = RouteEnd::Answer { outcome: Outcome::Refused, file: None, by: None };
            return route;
        };
        loop {
            let current = route.hops.last().map_or(first, |hop| &hop.to);
            match self.hop_or_end(request.method(), request, current) {
                Err(end) => {
                    route.end = end;
                    return route;
                }
                Ok(hop) => {
                    let same =
                        |known: &Address| known.without_fragment() == hop.to.without_fragment();
                    let came_back = same(first) || route.hops.iter().any(|known| same(&known.to));
                    if !route.hops.is_empty() && hop.to.len_without_fragment() > MAX_URL_BYTES {
                        route.end = RouteEnd::TooLong;
                        return route;
                    }
                    route.hops.push(hop);
                    if came_back || route.hops.len() > most {
                        route.end = RouteEnd::Loop;
                        return route;
                    }
                }
            }
        }
    }

    fn hop_or_end(
        &self,
        method: &Method,
        request: &Request,
        address: &Address,
    ) -> Result<RouteHop, RouteEnd> {
        let visit = self.hosts.locate(method, request.headers(), address).ok_or(RouteEnd::Away)?;
        let mut silent = NoTrace;
        let mut context = Context::new(&mut silent);
        if let Some(first) = self.https_first(&visit, &mut context)
            && let Some(to) = first.location
        {
            return Ok(RouteHop { to, rule: None, permanent: true });
        }
        let answer =
            |outcome, file, by: DecidedBy| Err(RouteEnd::Answer { outcome, file, by: by.rule });
        match self.hop(&visit, &mut context) {
            Hop::Redirect { to, by, permanence, .. } => {
                Ok(RouteHop { to, rule: by.rule, permanent: permanence != Permanence::Temporary })
            }
            Hop::Gone(by) => answer(Outcome::Gone, None, by),
            Hop::Elsewhere(by) => answer(Outcome::Elsewhere, None, by),
            Hop::None(named) => {
                let decision = self.file_decision(&visit, named, &mut context);
                answer(decision.outcome, decision.file, decision.by)
            }
        }
    }
}

impl Route {
    /// The rule that decides the first answer.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.route(&request).decided_by(), edge.answer(&request).rule());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn decided_by(&self) -> Option<RuleId> {
        match (self.hops.first(), &self.end) {
            (Some(hop), _) => hop.rule,
            (None, RouteEnd::Answer { by, .. }) => *by,
            (None, _) => None,
        }
    }

    /// Whether it does not end, or only where a URL has become too long.
    pub fn never_ends(&self) -> bool {
        matches!(self.end, RouteEnd::Loop | RouteEnd::TooLong)
    }

    /// Whether it ends where nothing is; what is outside the base path belongs to somebody else.
    pub fn ends_missing(&self) -> bool {
        matches!(self.end, RouteEnd::Answer { outcome: Outcome::Missing, .. })
    }

    /// The redirects, in order.
    pub fn hops(&self) -> &[RouteHop] {
        &self.hops
    }

    /// Where they lead.
    pub fn end(&self) -> &RouteEnd {
        &self.end
    }
}
