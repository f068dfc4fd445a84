//! The hops of a request one by one, without header fields and explanations: what the audit asks of very many addresses.

use http::Method;

use super::decide::{By, Hop, MAX_REDIRECTS_JOINED, MAX_URL_BYTES};
use super::header::Permanence;
use super::walk::MAX_HOPS;
use super::{Context, Edge, Outcome, Silent};
use crate::address::{Address, Request};
use crate::program::RuleId;

/// A request followed hop by hop, as under `hops each`.
#[derive(Debug, Clone)]
pub(crate) struct Route {
    pub(crate) hops: Vec<RouteHop>,
    pub(crate) end: RouteEnd,
}

#[derive(Debug, Clone)]
pub(crate) struct RouteHop {
    pub(crate) to: Address,
    /// The rule that redirects; none for a canonical redirect.
    pub(crate) rule: Option<RuleId>,
    pub(crate) permanent: bool,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum RouteEnd {
    /// On the site: what is answered there, the file, and the rule that decided.
    Answer { outcome: Outcome, file: Option<u32>, by: Option<RuleId> },
    /// At an address that is not the site's.
    Away,
    /// A URL came back, or there are too many hops.
    Loop,
    /// At a URL whose next one would be longer than is answered.
    TooLong,
}

impl Edge {
    /// Follows a request; what its address is, must be well formed.
    pub(crate) fn route(&self, request: &Request) -> Route {
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
                    let same = |known: &Address| known.without_fragment() == hop.to.without_fragment();
                    let came_back = same(first) || route.hops.iter().any(|known| same(&known.to));
                    if !route.hops.is_empty() && hop.to.without_fragment().len() > MAX_URL_BYTES {
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

    fn hop_or_end(&self, method: &Method, request: &Request, address: &Address) -> Result<RouteHop, RouteEnd> {
        let visit = self.hosts.locate(method, request.headers(), address).ok_or(RouteEnd::Away)?;
        let mut silent = Silent;
        let mut context = Context::new(&mut silent);
        if let Some(first) = self.https_first(&visit, &mut context)
            && let Some(to) = first.location
        {
            return Ok(RouteHop { to, rule: None, permanent: true });
        }
        let answer = |outcome, file, by: By| Err(RouteEnd::Answer { outcome, file, by: by.rule() });
        match self.hop(&visit, &mut context) {
            Hop::Redirect { to, by, permanence, .. } => {
                Ok(RouteHop { to, rule: by.rule(), permanent: permanence != Permanence::Temporary })
            }
            Hop::Gone(rule) => answer(Outcome::Gone, None, By::Rule(rule)),
            Hop::Elsewhere(rule) => answer(Outcome::Elsewhere, None, By::Rule(rule)),
            Hop::None(named) => {
                let decision = self.file_decision(&visit, named, &mut context);
                answer(decision.outcome, decision.file, decision.by)
            }
        }
    }
}

impl Route {
    /// The rule that decides the first answer.
    pub(crate) fn decided_by(&self) -> Option<RuleId> {
        match (self.hops.first(), &self.end) {
            (Some(hop), _) => hop.rule,
            (None, RouteEnd::Answer { by, .. }) => *by,
            (None, _) => None,
        }
    }

    /// Whether it does not end, or only where a URL has become too long.
    pub(crate) fn never_ends(&self) -> bool {
        matches!(self.end, RouteEnd::Loop | RouteEnd::TooLong)
    }

    /// Whether it ends where nothing is; what is outside the base path belongs to somebody else.
    pub(crate) fn ends_missing(&self) -> bool {
        matches!(self.end, RouteEnd::Answer { outcome: Outcome::Missing, .. })
    }
}
