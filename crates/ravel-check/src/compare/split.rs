//! Cuts a cell by the first thing that tells its requests apart on either side, hop by hop.

use ravel::address::Request;
use ravel::edge::{MAX_HOPS, Route, RouteEnd, method_after};
use ravel::program::{Rule, Stage};

use super::explore::{Explorer, Split};
use super::kind::page_name;
use crate::space::{Cell, Cut, CutResult, Track};
use crate::symbolic::show_the_same;

/// Redirects in a row that write what they capture.
const MAX_WRITTEN: usize = 3;

impl<'r> Explorer<'r> {
    /// Cuts a cell by the first thing that tells its requests apart.
    pub(super) fn split(&self, cell: &mut Cell<'r>, request: &Request) -> Split<'r> {
        // At a host of one side alone, it does not matter what becomes of a request there.
        if self.pair.is_of_one_side(cell) {
            return Split::Alike;
        }
        let mut open = None;
        let mut ends = [None, None];
        for (side, end) in ends.iter_mut().enumerate() {
            match self.split_side(cell, request, side, end) {
                Split::Alike => {}
                Split::Open(why) => open = Some(why),
                other => return other,
            }
        }
        if self.spares_redirects {
            return open.map_or(Split::Alike, Split::Open);
        }
        match self.split_files(cell, request, &ends) {
            Split::Alike => {}
            Split::Open(why) => open = Some(why),
            other => return other,
        }
        match self.split_targets(cell, request, ends) {
            Split::Alike => {}
            Split::Open(why) => open = Some(why),
            other => return other,
        }
        open.map_or(Split::Alike, Split::Open)
    }

    /// Cuts by what one side looks at, hop by hop; `end` becomes where it comes to on the site.
    fn split_side(
        &self,
        cell: &mut Cell<'r>,
        request: &Request,
        side: usize,
        end: &mut Option<Track<'r>>,
    ) -> Split<'r> {
        let Some(mut track) = Track::new(&self.pair, cell, side) else { return Split::Alike };
        let mut request = request.clone();
        let mut seen: Vec<String> = Vec::new();
        let mut open = None;
        loop {
            let route = self.edges[side].route(&request);
            match self.split_hop(cell, &mut track, &request, &route, side) {
                Split::Alike => {}
                Split::Open(why) => open = Some(why),
                other => return other,
            }
            let Some(hop) = route.hops().first() else {
                *end = Some(track);
                break;
            };
            if self.spares_redirects {
                break;
            }
            let Ok(from) = request.address() else { break };
            let Some(next) = track.follow(&self.pair, cell, from, hop) else { break };
            seen.push(from.without_fragment().to_owned());
            let is_back = seen.iter().any(|known| *known == hop.to().without_fragment());
            if is_back || seen.len() > MAX_HOPS {
                break;
            }
            track = next;
            if track.writing_hops() > MAX_WRITTEN {
                return Split::Open("too many redirects in a row write what they capture");
            }
            let status = hop
                .rule()
                .and_then(|id| Some(self.edges[side].program().rule(id).redirect()?.status()));
            let method = method_after(request.method(), status.unwrap_or(308));
            request = Request::of(method, hop.to().clone()).with_headers(request.headers().clone());
        }
        open.map_or(Split::Alike, Split::Open)
    }

    /// Cuts by what is looked at before one hop, or before the end.
    fn split_hop(
        &self,
        cell: &mut Cell<'r>,
        track: &mut Track<'r>,
        request: &Request,
        route: &Route,
        side: usize,
    ) -> Split<'r> {
        let is_first = track.is_first();
        let program = self.edges[side].program();
        let mut open = None;
        macro_rules! cut {
            ($cut:expr, $why:expr) => {
                match track.cut(&self.pair, cell, $cut) {
                    CutResult::Whole => {}
                    CutResult::Parts(parts) => return Split::Parts(parts),
                    CutResult::Unknown => open = Some($why),
                }
            };
        }
        macro_rules! cut_rule {
            ($rule:expr) => {
                if $rule.tests().request_headers() != 0 {
                    cut!(Cut::Visitors($rule.rule()), CAPTURES);
                }
                cut!(Cut::Rule($rule.rule()), CAPTURES);
            };
        }
        const CAPTURES: &str = "what the captures expand to";
        let rules = |track: &Track<'r>, cell: &Cell<'r>, stage: Stage| {
            let numbers = track.candidates(&self.pair, cell, stage);
            numbers.into_iter().map(move |number| program.numbered(stage, number))
        };
        let hop = route.hops().first();
        let decided = match (hop, route.end()) {
            (Some(hop), _) => hop.rule(),
            (None, RouteEnd::Answer { by, .. }) => *by,
            (None, _) => None,
        };
        let is_redirect = |rule: &Rule| rule.stage() == Stage::Redirect;
        // Paths of rules for one path have been taken out of what is not one path.
        let has_open_paths = is_first
            && !self.pair.is_one_path(cell)
            && !self.pair.is_of_file(cell)
            && !self.edges[side].site().ignore_case();
        if let Some(parts) = track.cut_rows(&self.pair, cell) {
            return Split::Rows(parts);
        }
        for number in track.candidates(&self.pair, cell, Stage::Redirect) {
            let rule = program.numbered(Stage::Redirect, number);
            let pattern = rule.rule().pattern();
            if has_open_paths && pattern.origin().is_none() && pattern.path().is_literal() {
                continue;
            }
            // What a redirect takes that is the same, and comes before all that may not be, is alike.
            let is_quiet = is_first
                && number < self.quiet_before
                && rule.redirect().is_some()
                && !self.noisy.contains(&(std::ptr::from_ref(rule.rule()) as usize));
            if is_quiet && rule.tests().request_headers() == 0 {
                match track.cut(&self.pair, cell, Cut::Rule(rule.rule())) {
                    CutResult::Parts(mut parts) => {
                        // What could lead to itself is not taken.
                        if track.could_be_itself(&self.pair, rule.rule()) {
                            return Split::Parts(parts);
                        }
                        parts.pop();
                        return Split::Parts(parts);
                    }
                    CutResult::Unknown => open = Some(CAPTURES),
                    CutResult::Whole => {}
                }
            } else {
                cut_rule!(rule);
            }
            cut!(Cut::Itself(rule.rule()), CAPTURES);
            if track.is_doubtful(&self.pair, cell, rule.rule()) {
                open = Some("whether a redirect leads to the URL that was asked");
            }
            if decided == Some(rule.id()) {
                break;
            }
        }
        let is_decided = decided.is_some_and(|id| is_redirect(program.rule(id).rule()));
        if track.is_inside(&self.pair) && !is_decided {
            for rule in rules(track, cell, Stage::Rewrite) {
                cut_rule!(rule);
            }
            cut!(Cut::Named, CAPTURES);
            if track.is_in(&self.pair, cell, Cut::Named) {
                cut!(Cut::Shown, CAPTURES);
            }
            let is_one = track.is_at_one_path(&self.pair, cell)
                || (self.pair.is_of_file(cell) && !track.hangs_on_query());
            if is_first && !is_one && track.is_in(&self.pair, cell, Cut::Named) {
                return Split::Covered;
            }
            if !is_first && !is_one {
                cut!(Cut::Changed, CAPTURES);
                if track.is_in(&self.pair, cell, Cut::Changed) {
                    let Ok(at) = request.address() else { return Split::Alike };
                    match track.cut_by_file(&self.pair, cell, at) {
                        CutResult::Whole => {}
                        CutResult::Parts(parts) => return Split::Parts(parts),
                        CutResult::Unknown => open = Some("which file is named"),
                    }
                }
            }
            if hop.is_none() {
                cut!(Cut::Reading, CAPTURES);
                for stage in [Stage::Rewrite, Stage::Fallback, Stage::Missing] {
                    for rule in rules(track, cell, stage) {
                        cut_rule!(rule);
                        cut!(Cut::Shows(rule.rule()), CAPTURES);
                        if rule.spares_files() {
                            cut!(Cut::KnownType, CAPTURES);
                        }
                    }
                }
            }
        }
        // What is gone shows a 404 page, too.
        if track.is_inside(&self.pair) && is_decided && hop.is_none() {
            cut!(Cut::Reading, CAPTURES);
            for rule in rules(track, cell, Stage::Missing) {
                cut_rule!(rule);
                cut!(Cut::Shows(rule.rule()), CAPTURES);
            }
        }
        if is_first {
            for rule in rules(track, cell, Stage::Headers) {
                cut_rule!(rule);
            }
        }
        open.map_or(Split::Alike, Split::Open)
    }

    /// Where it hangs on what is captured which file is shown, what shows the same on both sides is told
    /// from what does not.
    fn split_files(
        &self,
        cell: &mut Cell<'r>,
        request: &Request,
        ends: &[Option<Track<'r>>; 2],
    ) -> Split<'r> {
        let routes = self.edges.map(|edge| edge.route(request));
        let decided = routes.each_ref().map(|route| match route.end() {
            RouteEnd::Answer { file, by, .. } => (*file, *by),
            _ => (None, None),
        });
        let shown = decided.map(|(file, _)| file);
        let [Some(before), Some(after)] = shown else { return Split::Alike };
        let page = |side: usize, file: u32| {
            page_name(&self.edges[side].files().names()[file as usize]).to_owned()
        };
        let pages = [page(0, before), page(1, after)];
        let is_same = pages[0] == pages[1];
        // At one URL the same file is no difference, and need not be told from others.
        if !is_same && routes.iter().all(|route| route.hops().is_empty()) {
            return Split::Alike;
        }
        // What is gone is shown by another rule than the one that decides.
        let writing = [0, 1].map(|side| {
            let Some(track) = &ends[side] else { return Vec::new() };
            let program = self.edges[side].program();
            let by = decided[side].1.map(|id| program.rule(id).rule());
            let rules = match by {
                Some(rule) if rule.shows().is_some() => vec![rule],
                _ => {
                    let numbers = track.candidates(&self.pair, cell, Stage::Missing).into_iter();
                    numbers.map(|number| program.numbered(Stage::Missing, number).rule()).collect()
                }
            };
            let writes = |rule: &&Rule| rule.shows().is_some_and(|to| !to.path().is_literal());
            rules.into_iter().filter(writes).collect::<Vec<&'r Rule>>()
        });
        // Of one path, what is captured of the path is one thing; the query can still say which.
        let has_query = |rule: &Rule| !rule.pattern().query().is_empty();
        let hangs_on_query = ends.iter().flatten().any(Track::hangs_on_query)
            || writing.iter().flatten().any(|rule| has_query(rule));
        if self.pair.is_one_path(cell) && !hangs_on_query {
            return Split::Alike;
        }
        let [old, new] = &writing;
        if old.len() == new.len() && old.iter().zip(new).all(|(a, b)| show_the_same(a, b)) {
            return Split::Alike;
        }
        let mut open = None;
        for (side, rules) in writing.iter().enumerate() {
            let Some(track) = &ends[side] else { continue };
            let files = self.files_of_page(side, &pages[1 - side]);
            for (rule, file) in
                rules.iter().flat_map(|rule| files.iter().map(move |of| (rule, *of)))
            {
                match track.cut(&self.pair, cell, Cut::ShowsFile(rule, file)) {
                    CutResult::Whole => {}
                    CutResult::Parts(parts) => return Split::Parts(parts),
                    CutResult::Unknown => open = Some("which file is shown"),
                }
            }
        }
        // Both can show the same file for others.
        if !is_same && !old.is_empty() && !new.is_empty() {
            open = Some("which file is shown");
        }
        open.map_or(Split::Alike, Split::Open)
    }

    /// The files of a side that are the same page.
    fn files_of_page(&self, side: usize, page: &str) -> Vec<u32> {
        let names = [page.to_owned(), format!("{page}.html"), format!("{page}/index.html")];
        let index = page.is_empty().then(|| "index.html".to_owned());
        let edge = self.edges[side];
        let is_it = |name: &String| page_name(name) == page;
        let files = names.into_iter().chain(index).filter(is_it);
        files.filter_map(|name| edge.number_of(&name)).collect()
    }
}
