//! Cuts a cell by whether the redirects of both sides lead to the same URL.

use ravel::address::{Address, Request, form_decode, parameters};
use ravel::edge::{Edge, Outcome, Route, RouteHop};
use ravel::program::{Redirect, Rule};
use ravel::template::Pattern;

use super::explore::{Explorer, Split};
use super::kind::ends_differ;
use super::place::have_same_page_urls;
use crate::space::{Cell, Cut, CutResult, Track, written_parameters};
use crate::symbolic::{AskedPattern, SymbolicUrl};

impl<'r> Explorer<'r> {
    /// Cuts by whether both sides lead to the same URL.
    pub(super) fn split_targets(
        &self,
        cell: &mut Cell<'r>,
        request: &Request,
        ends: [Option<Track<'r>>; 2],
    ) -> Split<'r> {
        let routes = self.edges.map(|edge| edge.route(request));
        let is_moved = routes.iter().any(|route| !route.hops().is_empty());
        // Of one path, what is captured of the path is one thing.
        let writes = self.writes_more_than_paths(&routes);
        if !is_moved || (self.pair.is_one_path(cell) && !writes) {
            return self.split_queries(cell, &routes);
        }
        // Each hop of both is the same, wherever it leads.
        let common = self.common_hops(request, &routes);
        if routes.iter().all(|route| route.hops().len() == common) {
            return Split::Alike;
        }
        let walks = self.edges.map(|edge| edge.walk_unexplained(request));
        if walks.iter().all(|walk| walk.outcome() == Outcome::Loop) {
            return Split::Alike;
        }
        // What does not come back to a URL leads to others.
        if routes.iter().any(|route| route.hops().len() == common) {
            return self.split_queries(cell, &routes);
        }
        // At another origin, it is another URL.
        let origins = [0, 1].map(|side| {
            let to = routes[side].hops().last().map_or(request.address().ok()?, RouteHop::to);
            ends[side].as_ref().map(|_| (to.scheme(), to.host().to_owned()))
        });
        if let [Some(old), Some(new)] = &origins
            && old != new
        {
            return self.split_queries(cell, &routes);
        }
        // Where both come to one path each, one request shows it.
        if !writes && ends.iter().flatten().filter(|track| track.is_one_path()).count() == 2 {
            return self.split_queries(cell, &routes);
        }
        if let Some(split) = self.split_written(cell, request, &routes, common) {
            return split;
        }
        if let Some(split) = self.split_reached(cell, &routes, &ends) {
            return split;
        }
        // Where one of them is a single URL, it is known for which paths the other is that.
        let literal = |side: usize| {
            let to = routes[side].hops().last()?.to();
            let is_one = ends[side].as_ref().is_some_and(Track::is_one_path);
            is_one.then_some(to)
        };
        for side in [0, 1] {
            let (Some(to), Some(track)) = (literal(side), &ends[1 - side]) else { continue };
            match track.cut_at(&self.pair, cell, to) {
                CutResult::Whole if writes => {}
                CutResult::Whole => return self.split_queries(cell, &routes),
                CutResult::Parts(parts) => return Split::Parts(parts),
                CutResult::Unknown => {}
            }
        }
        // Where they do not end alike, it does not matter by which URLs.
        match ends_differ(walks.each_ref()) {
            true => self.split_queries(cell, &routes),
            false => Split::Open("whether both lead to the same URL"),
        }
    }

    /// The rules that make hops.
    fn redirects(&self, side: usize, hops: &[RouteHop]) -> Vec<&'r Rule> {
        let program = self.edges[side].program();
        let rules = hops.iter().filter_map(RouteHop::rule);
        rules.map(|id| program.rule(id).rule()).filter(|rule| rule.redirect().is_some()).collect()
    }

    /// Whether redirects write captures into a query or a fragment, or of a query into anything.
    fn writes_more_than_paths(&self, routes: &[Route; 2]) -> bool {
        let writes = |rule: &Rule| {
            let target = rule.redirect().map(Redirect::target);
            let is_of_query = |name: &str| rule.pattern().parameter_of(name).is_some();
            target.is_some_and(|target| {
                let ends = [target.query(), target.fragment()];
                ends.into_iter().flatten().any(|end| !end.is_literal())
                    || target.path().expressions().any(|(_, name)| is_of_query(name))
            })
        };
        (0..2).any(|side| self.redirects(side, routes[side].hops()).into_iter().any(writes))
    }

    /// Whether from an address one side carries a parameter along that the other writes.
    fn carries_what_is_written(&self, from: &Address, hops: [&[RouteHop]; 2]) -> bool {
        let asked = from.query().unwrap_or_default();
        let rules = [0, 1].map(|side| self.redirects(side, hops[side]));
        let carries = |side: usize, written: &[u8]| {
            let is_used =
                |key: &str| rules[side].iter().any(|rule| rule.pattern().uses_parameter(key));
            parameters(asked).any(|(_, key, _)| *form_decode(key) == *written && !is_used(key))
        };
        let writes = |side: usize, rule: &&'r Rule| {
            let own = rule.redirect().and_then(|redirect| redirect.target().query());
            own.is_some_and(|own| {
                parameters(own.as_str()).any(|(_, key, _)| carries(1 - side, &form_decode(key)))
            })
        };
        (0..2).any(|side| rules[side].iter().any(|rule| writes(side, rule)))
    }

    /// Cuts by whether both come to what one of the redirects leads to at all: where only one of them
    /// does, they lead to different URLs. None where that does not tell them apart.
    fn split_reached(
        &self,
        cell: &mut Cell<'r>,
        routes: &[Route; 2],
        ends: &[Option<Track<'r>>; 2],
    ) -> Option<Split<'r>> {
        if self.edges[0].site().open_base() != self.edges[1].site().open_base() {
            return None;
        }
        let [Some(old), Some(new)] = ends else { return None };
        for side in [0, 1] {
            let ids = routes[side].hops().iter().rev().filter_map(RouteHop::rule);
            let mut rules = ids.map(|id| self.edges[side].program().rule(id).rule());
            let Some(rule) = rules.next() else { continue };
            let cut = Cut::Target(rule);
            let mut are_known = true;
            for track in [old, new] {
                match track.cut(&self.pair, cell, cut) {
                    CutResult::Whole => {}
                    CutResult::Parts(parts) => return Some(Split::Parts(parts)),
                    CutResult::Unknown => are_known = false,
                }
            }
            let is_in = |track: &Track<'r>| track.is_in(&self.pair, cell, cut);
            if are_known && is_in(old) != is_in(new) {
                return Some(self.split_queries(cell, routes));
            }
        }
        None
    }

    /// The first hops that are the same on both sides for all requests of a cell, one of which is this
    /// one: by rules that say the same, or by files and settings that are the same.
    fn common_hops(&self, request: &Request, routes: &[Route; 2]) -> usize {
        let Ok(asked) = request.address() else { return 0 };
        let from =
            |at: usize| at.checked_sub(1).map_or(asked, |before| routes[0].hops()[before].to());
        let pairs = routes[0].hops().iter().zip(routes[1].hops()).enumerate();
        let same = pairs.take_while(|(at, (old, new))| self.is_same_hop(from(*at), old, new));
        same.count()
    }

    /// Which origin a hop leads to is the same for all of a cell.
    fn is_same_hop(&self, from: &Address, old: &RouteHop, new: &RouteHop) -> bool {
        let sites = self.edges.map(Edge::site);
        let rule = |side: usize, id| self.edges[side].program().rule(id).rule();
        let origin = |hop: &RouteHop| (hop.to().scheme(), hop.to().host().to_owned());
        match (old.rule(), new.rule()) {
            (None, None) => {
                have_same_page_urls(sites) && old.to() == new.to() && !self.pair.names_changed(from)
            }
            (Some(a), Some(b)) => {
                let [a, b] = [rule(0, a), rule(1, b)];
                let (Some(to), Some(other)) = (a.redirect(), b.redirect()) else { return false };
                a.pattern() == b.pattern()
                    && (to.target(), to.drop_query()) == (other.target(), other.drop_query())
                    && sites[0].base() == sites[1].base()
                    && origin(old) == origin(new)
            }
            _ => false,
        }
    }

    /// Cuts by whether what both sides write, behind hops that they have in common, is the same URL;
    /// none where that hangs on what is captured.
    fn split_written(
        &self,
        cell: &Cell<'r>,
        request: &Request,
        routes: &[Route; 2],
        common: usize,
    ) -> Option<Split<'r>> {
        let from = match common.checked_sub(1) {
            None => request.address().ok()?,
            Some(last) => routes[0].hops()[last].to(),
        };
        let hops = [0, 1].map(|side| &routes[side].hops()[common..]);
        let bases = self.edges.map(|edge| edge.site().open_base());
        let of_side = |side: usize| {
            let id = hops[side].iter().find_map(RouteHop::rule)?;
            let pattern: &'r Pattern = self.edges[side].program().rule(id).rule().pattern();
            Some(AskedPattern { base: bases[side], pattern: Some(pattern) })
        };
        // What is below both base paths is below the longer one.
        let base = bases.into_iter().max_by_key(|base| base.len())?;
        let asked = [of_side(0), of_side(1), Some(AskedPattern { base, pattern: None })];
        let (asked, old, new) = asked.into_iter().flatten().find_map(|asked| {
            let mut keys = Vec::new();
            let mut url =
                |side: usize| SymbolicUrl::of(self.edges[side], &mut keys, asked, from, hops[side]);
            Some((asked, url(0)?, url(1)?))
        })?;
        // What is carried along can come to the same as what is written.
        if !old.has_same_end(&new) && self.carries_what_is_written(from, hops) {
            return None;
        }
        if old.is(&new, None).is_none() {
            if common > 0 {
                return None;
            }
            let doubled = asked.doubled()?;
            if let Some(parts) = self.pair.cut_below(cell, &doubled) {
                return Some(Split::Parts(parts));
            }
            let rest = from.path().strip_prefix(&*doubled);
            old.is(&new, Some(rest.is_some_and(|rest| rest.starts_with('/'))))?;
        }
        Some(self.split_queries(cell, routes))
    }

    /// Where one side carries parameters along and the other does not, requests with and without are
    /// told apart; so are those that ask for what the other writes.
    fn split_queries(&self, cell: &Cell<'r>, routes: &[Route; 2]) -> Split<'r> {
        let rules = [0, 1].map(|side| self.redirects(side, routes[side].hops()));
        let of_rules = rules.each_ref().map(|rules| {
            let queries = rules.iter().filter_map(|rule| rule.redirect()).map(|redirect| {
                let query = redirect.target().query().map(|query| query.as_str());
                (redirect.drop_query(), query)
            });
            queries.filter(|query| *query != (false, None)).collect::<Vec<_>>()
        });
        if of_rules[0] == of_rules[1] {
            return Split::Alike;
        }
        // No rule looks at this one.
        if let Some(parts) = self.pair.cut_parameter(cell, "q", None) {
            return Split::Parts(parts);
        }
        for (side, queries) in of_rules.iter().enumerate() {
            let carries = |key: &str| {
                let drops = |rule: &&Rule| {
                    rule.pattern().uses_parameter(key)
                        || rule.redirect().is_some_and(Redirect::drop_query)
                };
                !rules[1 - side].iter().any(drops)
            };
            let written = queries.iter().filter_map(|(_, query)| *query);
            let written = written.flat_map(written_parameters);
            for (key, value) in written.filter(|(key, _)| carries(key)) {
                if let Some(parts) = self.pair.cut_parameter(cell, key, value) {
                    return Split::Parts(parts);
                }
            }
        }
        Split::Alike
    }
}
