//! The ways that requests for one path can go, hop by hop.

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;

use super::{RequestSet, Space};
use ravel::address::Request;
use ravel::edge::{Outcome, Route, RouteEnd};
use ravel::program::{RuleId, RuleRef, Stage, Test, TestSubject};

/// Classes of requests that are told apart.
const MAX_CLASSES: usize = 128;
/// Rules that are asked what they tell apart.
const MAX_RULES: usize = 4_000;

impl<'r> Space<'r> {
    /// The routes of all requests in a set that is about one path: one for each way that rules
    /// on their path can tell requests apart. None where there are too many.
    pub(crate) fn routes_of(&self, set: &RequestSet<'r>) -> Option<Vec<(Request, Route)>> {
        let mut known: Vec<(RequestSet<'r>, Vec<(Request, Route)>)> = Vec::new();
        let mut fresh = vec![set.clone()];
        let mut asked: FxHashSet<RuleId> = FxHashSet::default();
        loop {
            for class in fresh.drain(..) {
                let members = class.members_by_piece(self).into_iter();
                let routes = members.map(|request| {
                    let route = self.edge.route(&request);
                    (request, route)
                });
                let routes = routes.collect();
                known.push((class, routes));
            }
            let ways = known.iter().flat_map(|(_, routes)| routes);
            let on_the_way = ways.flat_map(|(request, route)| self.rules_on(request, route));
            let more: BTreeMap<RuleId, RuleRef<'r>> = on_the_way
                .filter(|rule| !asked.contains(&rule.id()))
                .map(|rule| (rule.id(), rule))
                .collect();
            if more.is_empty() {
                return Some(known.into_iter().flat_map(|(_, routes)| routes).collect());
            }
            for rule in more.into_values() {
                asked.insert(rule.id());
                let beyond = self.beyond_path(rule.rule());
                let parts = |class: &RequestSet<'r>| {
                    let (inside, outside) = (class.and(&beyond).not_empty(), class.minus(&beyond));
                    let is_cut = !inside.pieces.is_empty() && !outside.pieces.is_empty();
                    is_cut.then_some([inside, outside])
                };
                let mut classes = Vec::new();
                for class in fresh.drain(..) {
                    match parts(&class) {
                        Some(parts) => classes.extend(parts),
                        None => classes.push(class),
                    }
                }
                known.retain(|(class, _)| match parts(class) {
                    Some(parts) => {
                        classes.extend(parts);
                        false
                    }
                    None => true,
                });
                fresh = classes;
                if known.len() + fresh.len() > MAX_CLASSES || asked.len() > MAX_RULES {
                    return None;
                }
            }
        }
    }

    /// Whether all requests for the URL of this one go one way.
    pub(crate) fn goes_one_way(&self, request: &Request) -> bool {
        self.rules_on(request, &self.edge.route(request)).is_empty()
    }

    /// The rules on the way of a route that ask for more than the path, up to those that decide.
    fn rules_on(&self, request: &Request, route: &Route) -> Vec<RuleRef<'r>> {
        let site = self.edge.site();
        let hops = route.hops();
        let ways = request.address().ok().into_iter().chain(hops.iter().map(|hop| hop.to()));
        let last = match route.end() {
            RouteEnd::Answer { outcome: Outcome::Gone | Outcome::Elsewhere, by, .. } => *by,
            _ => None,
        };
        let deciding = hops.iter().map(|hop| hop.rule()).chain([last]);
        let mut found = Vec::new();
        for (address, decides) in ways.zip(deciding) {
            let Some(path) = address.path().strip_prefix(site.open_base()) else { continue };
            for number in self.overlaps(Stage::Redirect).with_path(path) {
                let rule = self.rule(Stage::Redirect, number);
                if Some(rule.id()) == decides {
                    found.extend(asks_beyond_path(rule).then_some(rule));
                    break;
                }
                let fits = |path| {
                    rule.pattern().path().matches(path, site.ignore_case(), &mut Default::default())
                };
                let is_met =
                    fits(path) || (rule.pattern().origin().is_some() && fits(address.path()));
                if asks_beyond_path(rule) && is_met {
                    found.push(rule);
                }
            }
        }
        found
    }
}

/// Whether requests for one path can differ in what a rule makes of them.
pub(crate) fn asks_beyond_path(rule: RuleRef<'_>) -> bool {
    let is_of_path = |test: &Test| match test.kind().subject() {
        TestSubject::Captures | TestSubject::File => true,
        TestSubject::Origin | TestSubject::Method | TestSubject::Headers | TestSubject::Answer => {
            false
        }
    };
    !rule.pattern().query().is_empty() || !rule.tests().iter().all(is_of_path)
}
