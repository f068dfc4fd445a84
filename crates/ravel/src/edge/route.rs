//! The hops of a request one by one, without header fields and explanations: what the audit asks of very many addresses.

use http::Method;

use super::decide::{Hop, LONGEST, MOST_STEPS};
use super::header::Permanence;
use super::look::Looking;
use super::trace::Silent;
use super::walk::MOST_HOPS;
use super::{Edge, Outcome};
use crate::address::{Address, Request};
use crate::language::Line;

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
    pub(crate) rule: Option<Line>,
    pub(crate) permanent: bool,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum RouteEnd {
    /// On the site: what is answered there, the file, and the line that decided.
    Answer { outcome: Outcome, file: Option<u32>, by: Option<Line> },
    /// At an address that is not the site's.
    Away,
    /// An address came back, or there are too many hops.
    Circle,
}

impl Edge {
    /// Follows a request; what its address is, must be well formed.
    pub(crate) fn route(&self, request: &Request) -> Route {
        // An answer joins so many; browsers follow so many.
        let most = if self.rules.site.one_hop { MOST_STEPS } else { MOST_HOPS };
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
                    let too_long = hop.to.as_str().len() > LONGEST;
                    route.hops.push(hop);
                    if came_back || too_long || route.hops.len() > most {
                        route.end = RouteEnd::Circle;
                        return route;
                    }
                }
            }
        }
    }

    fn hop_or_end(&self, method: &Method, request: &Request, address: &Address) -> Result<RouteHop, RouteEnd> {
        let asked = self.hosts.locate(method, request.headers(), address).ok_or(RouteEnd::Away)?;
        let mut silent = Silent;
        let mut looking = Looking::new(&mut silent);
        if let Some(first) = self.https_first(&asked, &mut looking)
            && let Some(to) = first.location
        {
            return Ok(RouteHop { to, rule: None, permanent: true });
        }
        let answer = |outcome, file, by| Err(RouteEnd::Answer { outcome, file, by });
        match self.hop(&asked, &mut looking) {
            Hop::Redirect { to, by, permanence, .. } => {
                let rule = by.filter(|_| permanence != Permanence::Canonical);
                Ok(RouteHop { to, rule, permanent: permanence != Permanence::Temporary })
            }
            Hop::Gone(line) => answer(Outcome::Gone, None, Some(line)),
            Hop::Elsewhere(line) => answer(Outcome::Elsewhere, None, Some(line)),
            Hop::None(named) => {
                let decision = self.file_decision(&asked, named, &mut looking);
                answer(decision.outcome, decision.file, decision.by)
            }
        }
    }
}

impl Route {
    /// The line of the rule that decides the first answer.
    pub(crate) fn decided_by(&self) -> Option<Line> {
        match (self.hops.first(), &self.end) {
            (Some(hop), _) => hop.rule,
            (None, RouteEnd::Answer { by, .. }) => *by,
            (None, _) => None,
        }
    }

    /// Whether it ends where nothing is.
    pub(crate) fn ends_missing(&self) -> bool {
        matches!(self.end, RouteEnd::Answer { outcome: Outcome::Missing | Outcome::Outside, .. })
    }
}
