//! Where redirects end.
//!
//! A literal redirect is followed. One that captures stands for many addresses: which rules its
//! target could meet is decided for all of them, as sets; whether it is a redirect loop is then tried on
//! addresses made to meet those rules. If the rules that could meet each other make no loop,
//! there is none.

use std::collections::BTreeSet;
use std::ops::ControlFlow;

use rustc_hash::FxHashSet;

use super::shadowing::decides;
use super::{Audit, Code, Finding};
use crate::space::{Members, RequestSet, asks_beyond_path};
use ravel::address::Request;
use ravel::edge::{Route, RouteEnd};
use ravel::language::Line;
use ravel::program::{RuleId, RuleRef, Stage, TextSet};
use ravel::template::Expression;

/// Addresses of one rule that are tried.
const MAX_TRIED: usize = 24;
/// Addresses of a rule with few that are each followed.
const MAX_LISTED: usize = 64;

impl<'r> Audit<'r> {
    /// Findings on redirects: what they lead to, and what they hide.
    pub(super) fn redirects(&self, idle: &FxHashSet<RuleId>, out: &mut Vec<Finding>) {
        let hidden = self.hidden_files();
        let mut in_circle: FxHashSet<RuleId> = FxHashSet::default();
        for rule in self.space.rules(Stage::Redirect) {
            out.extend(
                hidden
                    .iter()
                    .find(|(known, ..)| *known == rule.id())
                    .map(|(_, count, first)| self.hides(rule, *count, *first)),
            );
            let Some(redirect) = rule.rule().redirect() else { continue };
            self.written_target(rule, redirect, out);
            self.unused_captures(rule, redirect, out);
            if in_circle.contains(&rule.id()) || idle.contains(&rule.id()) {
                continue;
            }
            self.space.begin();
            let Some(routes) = self.routes(rule, out) else { continue };
            if let Some((request, route)) = routes.iter().find(|(_, route)| route.never_ends()) {
                in_circle.extend(route.hops().iter().filter_map(|hop| hop.rule()));
                out.push(self.redirect_loop(rule, request, route));
                continue;
            }
            self.leads_on(rule, redirect, &routes, out);
            self.ends(rule, &routes, out);
            self.other_slash_form(rule, &routes, out);
        }
        self.one_missing_folder(out);
    }

    /// The routes of addresses on which a rule acts. For a rule that captures, some of very many.
    fn routes(&self, rule: RuleRef<'r>, out: &mut Vec<Finding>) -> Option<Vec<(Request, Route)>> {
        let plain = rule.pattern().origin().is_none() && rule.is_unconditional();
        if plain && let Some((request, route)) = self.quick_route(rule) {
            let alone = route.hops().iter().skip(1).all(|hop| hop.rule().is_none());
            // What later hops do can hang on the request's header fields; then every way is tried.
            if alone
                && !self.conditions_met(&route)
                && (rule.pattern().path().is_literal() || self.could_go_round(rule).is_none())
            {
                return Some(vec![(request, route)]);
            }
        }
        let mut matching = self.space.matching(rule.rule()).and(&self.universe(Stage::Redirect));
        let acts = |(_, route): &(Request, Route)| decides(route, rule);
        let loops = format!("whether `{rule}` is part of a redirect loop");
        let undecided = || self.not_decided(rule.line(), loops.clone());
        if rule.pattern().path().is_literal() {
            // Where an earlier rule acts, this one does not.
            let earlier = self.overlaps(Stage::Redirect).with(rule.pattern()).into_iter();
            let earlier = earlier.map(|number| self.space.rule(Stage::Redirect, number));
            for other in earlier.take_while(|other| other.id() != rule.id()) {
                matching.take_out(&self.space.acting(other.rule()).0);
            }
            match self.space.routes_of(&matching) {
                Some(mut routes) => {
                    routes.extend(self.listed_routes(rule));
                    routes.retain(acts);
                    return (!routes.is_empty()).then_some(routes);
                }
                None => out.push(undecided()),
            }
        }
        let mut routes: Vec<(Request, Route)> = Vec::new();
        let most = if self.is_listed(rule) { MAX_LISTED } else { 3 };
        let members = matching.each_member(&self.space, most, |request| {
            let at_path = matching.and(&self.space.at(request));
            routes.extend(self.space.routes_of(&at_path).into_iter().flatten());
            ControlFlow::Continue(())
        });
        routes.extend(self.listed_routes(rule));
        routes.retain(acts);
        if members == Members::Exhausted {
            return (!routes.is_empty()).then_some(routes);
        }
        routes.extend(self.quick_route(rule));
        if let Some(round) = self.could_go_round(rule) {
            for request in
                round.iter().take(MAX_TRIED).filter_map(|target| self.leading_to(rule, target))
            {
                routes.extend(
                    self.space
                        .routes_of(&matching.and(&self.space.at(&request)))
                        .into_iter()
                        .flatten()
                        .filter(acts),
                );
            }
            if !routes.iter().any(|(_, route)| route.never_ends())
                && self.routes_stay_open(rule, &mut routes)
            {
                out.push(undecided());
            }
        }
        (!routes.is_empty()).then_some(routes)
    }

    /// The route of a request made of the rule's own text, if the rule acts on it.
    fn quick_route(&self, rule: RuleRef<'_>) -> Option<(Request, Route)> {
        let request = self.sample(rule)?;
        let route = self.edge().route(&request);
        decides(&route, rule).then_some((request, route))
    }

    /// Tries more addresses of a rule; whether there are others still, none of those tried going
    /// round.
    fn routes_stay_open(&self, rule: RuleRef<'r>, routes: &mut Vec<(Request, Route)>) -> bool {
        let matching = self.space.matching(rule.rule()).and(&self.universe(Stage::Redirect));
        let members = matching.each_member(&self.space, MAX_TRIED, |request| {
            let route = self.edge().route(request);
            let round = route.never_ends() && decides(&route, rule);
            if round {
                routes.push((request.clone(), route));
                return ControlFlow::Break(());
            }
            ControlFlow::Continue(())
        });
        members == Members::More
    }

    /// The routes of every value that a `where` lists.
    fn listed_routes(&self, rule: RuleRef<'r>) -> Vec<(Request, Route)> {
        let mut routes = Vec::new();
        for (captured, set, negated) in rule.tests().captures() {
            let (TextSet::OneOf(list), false) = (set, negated) else { continue };
            for value in list.iter().take(MAX_LISTED) {
                let capture = |name: &str| match rule.pattern().form_of(name) {
                    _ if name == captured => value.to_string(),
                    Some(Expression::Segments) => String::new(),
                    _ => "a".to_owned(),
                };
                if let Some(request) = self.sample_with(rule.pattern(), &capture) {
                    let route = self.edge().route(&request);
                    routes.push((request, route));
                }
            }
        }
        routes
    }

    /// Whether a rule's captures are few enough to go through: each is one of a list.
    pub(super) fn is_listed(&self, rule: RuleRef<'_>) -> bool {
        let is_listed = |name: &str| {
            let mut sets = rule.tests().of_capture(name);
            sets.any(|(set, negated)| matches!(set, TextSet::OneOf(_)) && !negated)
        };
        rule.pattern().names().next().is_some() && rule.pattern().names().all(is_listed)
    }

    /// Whether some redirect writes a query.
    pub(super) fn targets_have_queries(&self) -> bool {
        *self.queries_in_targets.get_or_init(|| {
            self.space
                .rules(Stage::Redirect)
                .any(|rule| rule.redirect().is_some_and(|redirect| redirect.target().has_query()))
        })
    }

    /// The requests on which a rule of the first stage could act, after those before it.
    pub(super) fn reached(&self, number: u32) -> RequestSet<'r> {
        let rule = self.space.rule(Stage::Redirect, number);
        self.reached.of(rule.rule(), || self.find_reached(number, rule))
    }

    fn find_reached(&self, number: u32, rule: RuleRef<'r>) -> RequestSet<'r> {
        let (sure, maybe) = self.space.acting(rule.rule());
        let mut reached = sure.or(&maybe).and(&self.universe(Stage::Redirect));
        let earlier = self
            .overlaps(Stage::Redirect)
            .with(rule.pattern())
            .into_iter()
            .filter(|other| *other < number);
        for other in earlier.take(MAX_LISTED) {
            reached.take_out(&self.space.acting(self.space.rule(Stage::Redirect, other).rule()).0);
        }
        reached
    }

    /// Whether a rule leads to one address only, and all that follows from there comes to an end.
    pub(super) fn comes_to_an_end(&self, rule: RuleRef<'r>) -> bool {
        let Some(redirect) = rule.rule().redirect() else { return true };
        if !redirect.target().path().is_literal() {
            return false;
        }
        if let Some(known) = self.ends.borrow().get(&rule.id()) {
            return *known;
        }
        let ends = self.space.image(rule.rule()).is_none_or(|image| self.all_end(&image));
        self.ends.borrow_mut().insert(rule.id(), ends);
        ends
    }

    /// Whether all requests for one path come to an end.
    pub(super) fn all_end(&self, set: &RequestSet<'r>) -> bool {
        let routes = self.space.routes_of(set);
        routes.is_some_and(|routes| routes.iter().all(|(_, route)| !route.never_ends()))
    }

    /// A request on which a rule acts and that leads into a set, found by reading its target
    /// backwards.
    fn leading_to(&self, rule: RuleRef<'r>, targets: &RequestSet<'r>) -> Option<Request> {
        let redirect = rule.rule().redirect()?;
        let reached = self.space_member(targets)?;
        let address = reached.address().ok()?;
        let site = self.edge().site();
        let path = match redirect.target().origin() {
            None => address.path().strip_prefix(site.open_base())?,
            Some(_) => address.path(),
        };
        let values = redirect.target().captures_for(path, rule.pattern(), site.ignore_case())?;
        let value = |name: &str| {
            values
                .iter()
                .find(|(known, _)| known == name)
                .map_or("a".to_owned(), |(_, value)| value.clone())
        };
        let sample = self.sample_with(rule.pattern(), &value)?;
        Some(sample.with_headers(reached.headers().clone()))
    }

    /// Whether a rule on the way of a route asks for more than the path.
    fn conditions_met(&self, route: &Route) -> bool {
        let site = self.edge().site();
        route.hops().iter().any(|hop| {
            let Some(path) = hop.to().path().strip_prefix(site.open_base()) else { return false };
            let met = self.overlaps(Stage::Redirect).with_path(path).into_iter();
            met.map(|number| self.space.rule(Stage::Redirect, number)).any(|rule| {
                let fold = site.ignore_case();
                let fits = || rule.pattern().path().matches(path, fold, &mut Default::default());
                rule.pattern().origin().is_some() || (asks_beyond_path(rule) && fits())
            })
        })
    }

    fn redirect_loop(&self, rule: RuleRef<'_>, request: &Request, route: &Route) -> Finding {
        let first = request.url();
        let mut way: Vec<&str> = vec![self.short(first)];
        way.extend(route.hops().iter().map(|hop| self.short(hop.to().as_str())));
        let grows = route.hops().last().is_none_or(|last| {
            last.to().as_str() != first
                && !route.hops()[..route.hops().len() - 1]
                    .iter()
                    .any(|hop| hop.to().as_str() == last.to().as_str())
        });
        way.truncate(5);
        let lines: Vec<Line> = route
            .hops()
            .iter()
            .filter_map(|hop| hop.rule())
            .filter(|by| *by != rule.id())
            .collect::<BTreeSet<_>>()
            .into_iter()
            .map(|by| self.line(by))
            .collect();
        let ends = if grows { "and so on for ever" } else { "and again" };
        Finding::on(
            Code::RedirectLoop,
            rule.line(),
            format!("`{rule}` is part of a redirect loop: {}, {ends}", way.join(" → ")),
        )
        .with_note(match route.end() {
            RouteEnd::TooLong => "the URL grows until it is too long to be answered (414)",
            _ => "browsers give up with an error",
        })
        .with_help(
            "redirect to a page, or narrow the pattern so that it does not match its own target",
        )
        .with_request(request)
        .with_lines(lines)
    }
}
