//! Where requests can be answered differently.

use rustc_hash::{FxHashMap, FxHashSet};

use ravel::edge::Edge;
use ravel::program::{Effect, Rule, Stage};

use super::changed::Changed;
use super::explore::Explorer;
use crate::space::{Area, Pair};

/// Redirects in a row of which only what leads on is looked at.
const MAX_IMAGES: usize = 2;
/// The most areas that are looked at.
const MAX_AREAS: usize = 20_000;
/// Files of which every spelling is looked at.
const MAX_SPELLED: usize = 256;

impl<'r> Explorer<'r> {
    /// Where requests can be answered differently: where rules or files are not the same, and what
    /// redirects lead there.
    pub(super) fn areas(&mut self, changed: &Changed<'r>) -> Vec<Area<'r>> {
        let mut areas: Vec<Area<'r>> = Vec::new();
        if changed.settings || changed.hsts {
            areas.push(Area::all());
        }
        let mut apart: Vec<(usize, &'r Rule)> = Vec::new();
        if changed.hosts && areas.is_empty() {
            areas.extend(self.pair.frames_apart());
            for (side, edge) in self.edges.into_iter().enumerate() {
                let rules = edge.program().stage(Stage::Redirect).iter();
                let leads =
                    |rule: &&Rule| rule.redirect().is_some_and(|of| self.pair.leads_apart(of));
                apart.extend(rules.filter(leads).map(|rule| (side, rule)));
            }
        }
        for (side, rule) in &apart {
            areas.extend(self.pair.side(*side).areas_of_rule(*side, rule));
        }
        for (side, rules) in changed.rules.iter().enumerate() {
            let space = self.pair.side(side);
            areas.extend(rules.iter().flat_map(|rule| space.areas_of_rule(side, rule)));
        }
        for (side, addresses) in changed.addresses.iter().enumerate() {
            let space = self.pair.side(side);
            areas.extend(addresses.iter().map(|address| space.area_of_path(side, address)));
        }
        self.is_all = areas.iter().any(|area| self.pair.is_all(area));
        if self.is_all {
            areas = vec![Area::all()];
        }
        // Very many rules can be for one path, told apart by queries.
        let mut paths = FxHashSet::default();
        areas.retain(|area| area.one_path().is_none_or(|path| paths.insert(path)));
        let leading = Leading::new(self.edges);
        let tables = self.edges.map(Edge::variant_table);
        let variants = tables.each_ref().map(|table| {
            let mut variants: FxHashMap<u32, Vec<&str>> = FxHashMap::default();
            for (address, file, _) in table {
                variants.entry(*file).or_default().push(address);
            }
            variants
        });
        let mut files: FxHashSet<(usize, u32)> = FxHashSet::default();
        let mut seen: FxHashSet<(usize, usize, usize)> = FxHashSet::default();
        let mut from = 0;
        // What leads to a rule that is not the same is part of what it matches.
        let rules = changed.rules.iter().flatten().chain(apart.iter().map(|(_, rule)| rule));
        let whole: FxHashSet<usize> =
            rules.map(|rule| std::ptr::from_ref(*rule) as usize).collect();
        self.noisy = whole.clone();
        // Where all can differ, each redirect leads to what is not the same.
        self.quiet_before = if self.is_all { 0 } else { changed.quiet_redirects(self.edges) };
        let mut back = 0;
        while from < areas.len() {
            let until = areas.len();
            for number in from..until {
                let into = areas[number].clone();
                let redirects = match self.is_all || self.spares_redirects {
                    true => Vec::new(),
                    false => leading.to(&self.pair, &into),
                };
                for (side, rule) in redirects {
                    let place = std::ptr::from_ref(rule) as usize;
                    if whole.contains(&place) {
                        continue;
                    }
                    if areas.len() >= MAX_AREAS {
                        self.is_cut_short = true;
                        continue;
                    }
                    // Of a rule for one path, and behind some redirects, all is looked at, once.
                    let is_whole = rule.pattern().path().is_literal() || back >= MAX_IMAGES;
                    let of = if is_whole { 0 } else { number + 1 };
                    if seen.contains(&(side, place, 0)) || seen.contains(&(side, place, of)) {
                        continue;
                    }
                    let leading = self.pair.leading_into(side, rule, &into);
                    if leading.is_empty() {
                        continue;
                    }
                    seen.insert((side, place, of));
                    self.noisy.insert(place);
                    areas.extend(match is_whole {
                        true => self.pair.side(side).areas_of_rule(side, rule),
                        false => leading,
                    });
                }
                // Every URL variant of a file is redirected to its own address.
                if into.is_of_hosts()
                    && self.pair.cells(&into).iter().all(|cell| self.pair.is_of_one_side(cell))
                {
                    continue;
                }
                let (prefix, _) = self.pair.prefix_of(&into);
                for side in [0, 1] {
                    let from = tables[side].partition_point(|(path, ..)| **path < *prefix);
                    let range = tables[side][from..].iter();
                    for (path, file, _) in range.take_while(|(path, ..)| path.starts_with(&*prefix))
                    {
                        if files.len() < MAX_SPELLED
                            && self.pair.is_in(&into, path)
                            && files.insert((side, *file))
                        {
                            areas.push(
                                self.pair.side(side).area_of_file(side, &variants[side][file]),
                            );
                        }
                    }
                }
            }
            (from, back) = (until, back + 1);
        }
        areas
    }
}

/// Redirects by where they lead.
struct Leading<'r> {
    /// Those to one path of the site, in the order of the paths, with the side.
    literal: Vec<(&'r str, usize, &'r Rule)>,
    /// Those of them to a path with an empty segment.
    doubled: Vec<(usize, &'r Rule)>,
    others: Vec<(usize, &'r Rule)>,
    /// Paths match in any case on a side.
    fold: bool,
}

impl<'r> Leading<'r> {
    fn new(edges: [&'r Edge; 2]) -> Leading<'r> {
        let fold = edges.iter().any(|edge| edge.site().ignore_case());
        let mut leading =
            Leading { literal: Vec::new(), doubled: Vec::new(), others: Vec::new(), fold };
        for (side, edge) in edges.into_iter().enumerate() {
            for rule in edge.program().stage(Stage::Redirect) {
                let Effect::Redirect(redirect) = rule.effect() else { continue };
                let target = redirect.target();
                let is_own = target.origin().is_none_or(|origin| {
                    origin.host().capture().is_some()
                        || edge.site().has_host(origin.host().host().as_str())
                });
                match target.origin().is_none() && target.path().is_literal() {
                    true => leading.literal.push((target.path().as_str(), side, rule)),
                    false if is_own => leading.others.push((side, rule)),
                    false => {}
                }
            }
        }
        leading.literal.sort_unstable_by_key(|(path, side, _)| (*path, *side));
        let doubled = leading.literal.iter().filter(|(path, ..)| path.contains("//"));
        leading.doubled = doubled.map(|(_, side, rule)| (*side, *rule)).collect();
        leading
    }

    /// Those that could lead to an area.
    fn to(&self, pair: &Pair<'r>, into: &Area<'r>) -> Vec<(usize, &'r Rule)> {
        let mut found: Vec<(usize, &'r Rule)> = self.others.clone();
        match into.addresses() {
            // Other spellings of a file's addresses have empty segments.
            Some(addresses) if !self.fold => {
                addresses.iter().for_each(|address| found.extend(self.literal_to(address, true)));
                found.extend(&self.doubled);
            }
            _ => {
                let (prefix, whole) = pair.prefix_of(into);
                found.extend(self.literal_to(&prefix, whole));
            }
        }
        found
    }

    /// Those to one path that begins with a text, or is it.
    fn literal_to(&self, text: &str, whole: bool) -> impl Iterator<Item = (usize, &'r Rule)> {
        let from = self.literal.partition_point(|(path, ..)| **path < *text);
        let range = self.literal[from..].iter().take_while(move |(path, ..)| {
            if whole { **path == *text } else { path.starts_with(text) }
        });
        range.map(|(_, side, rule)| (*side, *rule))
    }
}
