//! The ways that requests for one path can go, hop by hop.

use super::{RequestSet, Space};
use ravel::address::Request;
use ravel::edge::Route;
use ravel::program::{RuleId, RuleRef, Stage};

/// Classes of requests that are told apart.
const MAX_CLASSES: usize = 128;
/// Rules that are asked what they tell apart.
const MAX_RULES: usize = 24;

impl<'r> Space<'r> {
    /// The routes of all requests in a set that is about one path: one for each way that rules
    /// on their path can tell requests apart. None where there are too many.
    pub(crate) fn routes_of(&self, set: &RequestSet<'r>) -> Option<Vec<(Request, Route)>> {
        let mut classes = vec![set.clone()];
        let mut asked: Vec<RuleId> = Vec::new();
        loop {
            let requests: Vec<Request> =
                classes.iter().flat_map(|class| class.members_by_piece(self)).collect();
            let routes: Vec<(Request, Route)> = requests
                .into_iter()
                .map(|request| {
                    let route = self.edge.route(&request);
                    (request, route)
                })
                .collect();
            let more = routes
                .iter()
                .flat_map(|(request, route)| self.rules_on(request, route))
                .find(|rule| !asked.contains(&rule.id()));
            let Some(rule) = more else { return Some(routes) };
            asked.push(rule.id());
            let beyond = self.beyond_path(rule.rule());
            classes = classes
                .iter()
                .flat_map(|class| [class.and(&beyond), class.minus(&beyond)])
                .collect();
            if classes.len() > MAX_CLASSES || asked.len() > MAX_RULES {
                return None;
            }
        }
    }

    /// The rules on the way of a route that ask for more than the path.
    fn rules_on(&self, request: &Request, route: &Route) -> Vec<RuleRef<'r>> {
        let site = self.edge.site();
        let ways =
            request.address().ok().into_iter().chain(route.hops().iter().map(|hop| hop.to()));
        let mut found = Vec::new();
        for address in ways {
            let Some(path) = address.path().strip_prefix(site.open_base()) else { continue };
            for rule in self
                .overlaps(Stage::Redirect)
                .with_path(path)
                .into_iter()
                .map(|number| self.rule(Stage::Redirect, number))
            {
                let more = !rule.is_unconditional() || !rule.pattern().query().is_empty();
                let fits = |path| {
                    rule.pattern().path().matches(path, site.ignore_case(), &mut Default::default())
                };
                if more
                    && (fits(path) || (rule.pattern().origin().is_some() && fits(address.path())))
                {
                    found.push(rule);
                }
            }
        }
        found
    }
}
