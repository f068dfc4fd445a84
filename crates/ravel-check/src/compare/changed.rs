//! What of two editions of a site is not the same: settings, rules, files.

use http::header::{CACHE_CONTROL, CONTENT_TYPE, LOCATION, STRICT_TRANSPORT_SECURITY, VARY};
use rustc_hash::{FxHashMap, FxHashSet};

use ravel::Edge;
use ravel::program::{
    Effect, HeaderOp, HeaderScope, Hsts, Rule, Site, Stage, TestKind, TestSubject,
};

use super::kind::page_name;
use super::place::have_same_hosts;

/// What is not the same.
#[derive(Debug)]
pub(super) struct Changed<'r> {
    /// Settings differ, so that any request can be answered differently.
    pub(super) settings: bool,
    /// The header differs that a setting sends with all answers.
    pub(super) hsts: bool,
    /// Hosts differ, or whether plain HTTP is answered.
    pub(super) hosts: bool,
    /// Rules of each side that the other has not, or not in the same order.
    pub(super) rules: [Vec<&'r Rule>; 2],
    /// Addresses of each side that do not name the same file on the other, in order.
    pub(super) addresses: [Vec<&'r str>; 2],
}

impl<'r> Changed<'r> {
    pub(super) fn between(old: &'r Edge, new: &'r Edge) -> Changed<'r> {
        let edges = [old, new];
        let settings = !old.site().answers_as(new.site());
        let [names, others] = edges.map(|edge| edge.files().names());
        let same_files = names == others && old.site().pages() == new.site().pages();
        let addresses = match same_files && !settings {
            true => Default::default(),
            false => addresses(edges),
        };
        let mut rules: [Vec<&Rule>; 2] = Default::default();
        let same_languages = old.site().languages() == new.site().languages();
        for stage in Stage::ALL {
            let all = edges.map(|edge| edge.program().stage(stage));
            // Very many rules are mostly the same: these are not put in words.
            let is_same = |(a, b): &(&Rule, &Rule)| same_languages && is_same(a, b);
            let start = all[0].iter().zip(all[1]).take_while(is_same).count();
            let rest = all.map(|rules| &rules[start..]);
            let back = rest[0].iter().rev().zip(rest[1].iter().rev());
            let end = back.take_while(is_same).count();
            let rest = rest.map(|rules| &rules[..rules.len() - end]);
            let texts = [0, 1].map(|side| texts(edges[side], rest[side]));
            for (side, places) in uncommon(texts).into_iter().enumerate() {
                rules[side].extend(places.into_iter().map(|at| &rest[side][at]));
            }
        }
        // A rule that shows a file does something else where that file is not the same.
        for (side, edge) in edges.into_iter().enumerate() {
            let changed: FxHashSet<&str> = addresses.iter().flatten().copied().collect();
            if changed.is_empty() {
                continue;
            }
            let known: FxHashSet<usize> =
                rules[side].iter().map(|rule| std::ptr::from_ref(*rule) as usize).collect();
            let shows = |rule: &&Rule| {
                rule.shows().is_some_and(|target| {
                    !target.path().is_literal() || changed.contains(target.path().as_str())
                }) && !known.contains(&(std::ptr::from_ref(*rule) as usize))
            };
            let more: Vec<&Rule> = edge.program().all_rules().iter().filter(shows).collect();
            rules[side].extend(more);
        }
        let page = |edge: &'r Edge| edge.missing_file().map(page_name);
        let settings = settings || page(old) != page(new);
        let hosts = !have_same_hosts([old.site(), new.site()]);
        let hsts = hsts(old.site()) != hsts(new.site());
        Changed { settings, hsts, hosts, rules, addresses }
    }

    /// The number of redirects that come, on both sides, before the first that is not the same, or
    /// hangs on files that are not. None where conditions on headers, or statements that set some, are
    /// such: these can make answers differ that a redirect gives before them.
    pub(super) fn quiet_redirects(&self, edges: [&Edge; 2]) -> u32 {
        let are_files_same = self.addresses.iter().all(Vec::is_empty);
        let hangs_on_files = |rule: &Rule| {
            let mut subjects = rule.tests().iter().map(|test| test.kind().subject());
            !are_files_same && subjects.any(|subject| subject == TestSubject::File)
        };
        let looks =
            |rule: &&Rule| rule.stage() == Stage::Headers || rule.tests().request_headers() != 0;
        let sets = |edge: &Edge| edge.program().stage(Stage::Headers).iter().any(hangs_on_files);
        let has_settings = self.settings || self.hsts || self.hosts;
        if has_settings || self.rules.iter().flatten().any(looks) || edges.into_iter().any(sets) {
            return 0;
        }
        let first = |side: usize| {
            let all = edges[side].program().stage(Stage::Redirect);
            let known: FxHashSet<usize> =
                self.rules[side].iter().map(|rule| std::ptr::from_ref(*rule) as usize).collect();
            let is_open = |rule: &Rule| {
                known.contains(&(std::ptr::from_ref(rule) as usize)) || hangs_on_files(rule)
            };
            all.iter().position(is_open).unwrap_or(all.len()) as u32
        };
        first(0).min(first(1))
    }

    /// Whether it does not matter where requests are redirected to: nothing but statements is not the
    /// same that set headers, and what they do to an answer is known from its first hop.
    pub(super) fn spares_redirects(&self, edges: [&Edge; 2]) -> bool {
        // What is looked at behind a redirect can be in the `vary` of one that joins several.
        let looks_behind = |side: usize, headers: u64| {
            edges[side].program().all_rules().iter().any(|rule| {
                rule.stage() != Stage::Headers && rule.tests().request_headers() & headers != 0
            })
        };
        let is_sparing = |side: usize, rule: &Rule| {
            let Effect::Headers(effect) = rule.effect() else { return false };
            match effect.on() {
                HeaderScope::Served | HeaderScope::Missing => true,
                _ if !edges[side].site().one_hop() => true,
                HeaderScope::All => {
                    effect.ops().iter().all(|op| !hangs_on_answer(op))
                        && !looks_behind(side, rule.tests().request_headers())
                }
                HeaderScope::Redirects => false,
            }
        };
        let mut rules = (0..).zip(&self.rules);
        !self.settings
            && !self.hosts
            && self.addresses.iter().all(Vec::is_empty)
            && rules.all(|(side, rules)| rules.iter().all(|rule| is_sparing(side, rule)))
    }

    pub(super) fn is_nothing(&self) -> bool {
        !self.settings
            && !self.hsts
            && !self.hosts
            && self.rules.iter().all(Vec::is_empty)
            && self.addresses.iter().all(Vec::is_empty)
    }
}

/// Whether a redirect and a redirect loop can differ in the header of an operation, where no rule sets
/// it, or in what becomes of it.
fn hangs_on_answer(op: &HeaderOp) -> bool {
    let (HeaderOp::Set(name, ..) | HeaderOp::Add(name, ..) | HeaderOp::Drop(name, _)) = op;
    [CACHE_CONTROL, CONTENT_TYPE, LOCATION, STRICT_TRANSPORT_SECURITY, VARY].contains(name)
}

fn hsts(site: &Site) -> Option<&str> {
    site.hsts().map(Hsts::value)
}

/// Whether two rules plainly say the same.
fn is_same(a: &Rule, b: &Rule) -> bool {
    let effects = match (a.effect(), b.effect()) {
        (Effect::Redirect(a), Effect::Redirect(b)) => {
            (a.target(), a.status(), a.drop_query()) == (b.target(), b.status(), b.drop_query())
        }
        (Effect::Gone, Effect::Gone) => true,
        _ => false,
    };
    effects && a.is_unconditional() && b.is_unconditional() && a.pattern() == b.pattern()
}

/// What each of some rules says.
fn texts(edge: &Edge, rules: &[Rule]) -> Vec<String> {
    let languages = edge.site().languages();
    let text = |rule: &Rule| {
        let mut text = rule.to_string();
        for test in rule.tests().iter() {
            text.push('\n');
            text.push_str(&test.written(languages));
            // Which of them a visitor is given hangs on all, and on their order.
            if matches!(test.kind(), TestKind::Language(..)) {
                text.push_str(&languages.join(" "));
            }
        }
        if let Effect::Headers(headers) = rule.effect() {
            for op in headers.ops() {
                text.push_str(&match op {
                    HeaderOp::Set(name, value, _) => format!("\nset {name}: {value:?}"),
                    HeaderOp::Add(name, value, _) => format!("\nadd {name}: {value:?}"),
                    HeaderOp::Drop(name, _) => format!("\ndrop {name}"),
                });
            }
        }
        text
    };
    rules.iter().map(text).collect()
}

/// The places of what two rows do not have in common, where what they have in common keeps its order:
/// a longest row of pairs that rises on both sides, of equal texts the first with the first.
fn uncommon(rows: [Vec<String>; 2]) -> [Vec<usize>; 2] {
    let [old, new] = &rows;
    let mut places: FxHashMap<&str, Vec<usize>> = FxHashMap::default();
    (0..new.len()).rev().for_each(|at| places.entry(&new[at]).or_default().push(at));
    let mut pairs = Vec::new();
    for (at, text) in old.iter().enumerate() {
        if let Some(place) = places.get_mut(&**text).and_then(Vec::pop) {
            pairs.push((at, place));
        }
    }
    // Of rows of each length, the pair that one ends with whose place is least.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = Vec::with_capacity(pairs.len());
    for (number, (_, place)) in pairs.iter().enumerate() {
        let length = ends.partition_point(|end| pairs[*end].1 < *place);
        before.push(length.checked_sub(1).map(|shorter| ends[shorter]));
        match ends.get_mut(length) {
            Some(end) => *end = number,
            None => ends.push(number),
        }
    }
    let mut common: [FxHashSet<usize>; 2] = Default::default();
    let mut at = ends.last().copied();
    while let Some(number) = at {
        common[0].insert(pairs[number].0);
        common[1].insert(pairs[number].1);
        at = before[number];
    }
    let others =
        |side: usize| (0..rows[side].len()).filter(|place| !common[side].contains(place)).collect();
    [others(0), others(1)]
}

/// The addresses of each side that do not name on the other what they name here.
fn addresses<'r>(edges: [&'r Edge; 2]) -> [Vec<&'r str>; 2] {
    let tables = edges.map(|edge| {
        let row = |(address, file, gets): (&'r str, u32, u8)| {
            (address, (page_name(&edge.files().names()[file as usize]), gets))
        };
        edge.variant_table().into_iter().map(row).collect::<FxHashMap<_, _>>()
    });
    let own = |side: usize| {
        let (here, there) = (&tables[side], &tables[1 - side]);
        let differs = |(address, row): (&&'r str, &(&str, u8))| {
            (there.get(address) != Some(row)).then_some(*address)
        };
        let mut changed: Vec<&str> = here.iter().filter_map(differs).collect();
        changed.sort_unstable();
        changed
    };
    [own(0), own(1)]
}
