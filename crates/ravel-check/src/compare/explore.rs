//! Finds all that requests differ in: an area is cut into cells of which all requests are
//! decided alike on both sides, and one request of each is asked.

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;

use ravel::address::Request;
use ravel::edge::Edge;
use ravel::program::{Rule, Stage};

use super::changed::Changed;
use super::class::{Class, Key};
use crate::space::{Area, Cell, Pair};

/// The most cells that an area is cut into.
const MAX_CELLS: usize = 2_000;
/// Requests of a cell that are asked if it has no more.
const MAX_LISTED: usize = 64;
/// Requests of a cell that are asked where it is not shown that one stands for all.
const MAX_SAMPLED: usize = 4;

/// All that differs, as it is found.
#[derive(Debug)]
pub(super) struct Explorer<'r> {
    pub(super) edges: [&'r Edge; 2],
    pub(super) pair: Pair<'r>,
    pub(super) classes: BTreeMap<Key, Class>,
    /// Cells that are undecided, with why.
    pub(super) undecided: Vec<(Cell<'r>, &'static str)>,
    /// Single paths that are told apart anyway, of each side, below its base path and in order: those
    /// of files and of rules.
    words: [Vec<&'r str>; 2],
    /// Where redirects lead does not matter.
    pub(super) spares_redirects: bool,
    /// Any request can differ.
    pub(super) is_all: bool,
    /// So many redirects lead to what is not the same that some were left out.
    pub(super) is_cut_short: bool,
    /// Redirects that are not the same, or lead to what is not.
    pub(super) noisy: FxHashSet<usize>,
    /// So many redirects come before the first that is not the same; none of them is looked at where
    /// headers can differ, too.
    pub(super) quiet_before: u32,
    /// The URLs of pages and of rules that were counted.
    counted: FxHashSet<String>,
    /// The canonical paths of each side's files, in order.
    pages: [Vec<&'r str>; 2],
    /// The paths of each side's rules for one path, in order.
    literal: [Vec<&'r str>; 2],
}

/// What was found of a cell.
pub(super) enum Split<'r> {
    /// All its requests are decided alike.
    Alike,
    Parts(Vec<Cell<'r>>),
    /// Parts by which of very many rules comes first.
    Rows(Vec<Cell<'r>>),
    /// Its requests are looked at as parts of other areas.
    Covered,
    /// It is not known.
    Open(&'static str),
}

impl<'r> Explorer<'r> {
    pub(super) fn new(old: &'r Edge, new: &'r Edge, changed: &Changed<'r>) -> Explorer<'r> {
        let addresses = changed.addresses.each_ref().map(Vec::as_slice);
        let edges = [old, new];
        let sorted = |mut paths: Vec<&'r str>| {
            paths.sort_unstable();
            paths.dedup();
            paths
        };
        let literal = edges.map(|edge| {
            let patterns = edge.program().all_rules().iter().map(Rule::pattern);
            let one_path = patterns
                .filter(|pattern| pattern.origin().is_none() && pattern.path().is_literal());
            sorted(one_path.map(|pattern| pattern.path().as_str()).collect())
        });
        let pages = edges.map(|edge| {
            let files = 0..edge.files().names().len() as u32;
            sorted(files.map(|file| edge.own_address(file)).collect())
        });
        let words = [0, 1].map(|side| {
            let rules = literal[side].iter().copied();
            sorted(rules.chain(edges[side].addresses()).collect())
        });
        Explorer {
            edges,
            pair: Pair::new(old, new, addresses),
            classes: BTreeMap::new(),
            undecided: Vec::new(),
            words,
            spares_redirects: changed.spares_redirects(edges),
            is_all: false,
            is_cut_short: false,
            noisy: FxHashSet::default(),
            quiet_before: 0,
            counted: FxHashSet::default(),
            pages,
            literal,
        }
    }

    pub(super) fn run(&mut self, changed: &Changed<'r>) {
        let areas = self.areas(changed);
        let reasons = [
            (self.is_cut_short, "too many redirects lead to what is not the same"),
            (self.is_base_in_any_case(), "what is below a base path in other letters"),
        ];
        for (_, why) in reasons.into_iter().filter(|(holds, _)| *holds) {
            let all = self.pair.cells(&Area::all()).into_iter();
            self.undecided.extend(all.map(|cell| (cell, why)));
        }
        for area in areas {
            for cell in self.pair.cells(&area) {
                match area.addresses() {
                    Some(addresses) => self.file(cell, addresses),
                    None => self.area(cell),
                }
            }
        }
    }

    /// Whether base paths match in any case on a side: only as they are written they are looked at.
    fn is_base_in_any_case(&self) -> bool {
        let has_letters = |base: &str| base.bytes().any(|byte| byte.is_ascii_alphabetic());
        self.edges.iter().any(|edge| {
            let site = edge.site();
            let mut aliases = site.aliases().iter();
            site.ignore_case()
                && (has_letters(site.base()) || aliases.any(|alias| has_letters(alias.base())))
        })
    }

    /// A part of an area for one scheme and host: its single paths, and all others.
    fn area(&mut self, cell: Cell<'r>) {
        let mut paths = Vec::new();
        for side in [0, 1] {
            let Some(base) = self.pair.base(&cell, side).map(str::to_owned) else { continue };
            let (prefix, _) = self.pair.literal_prefix(&cell);
            let below = prefix.strip_prefix(&*base).unwrap_or_default();
            let words = &self.words[side];
            let from = words.partition_point(|word| **word < *below);
            let range = words[from..].iter().take_while(|word| word.starts_with(below));
            paths.extend(range.map(|word| format!("{base}{word}")));
            // A base path without its `/` is a path of its own.
            paths.extend((!base.is_empty()).then_some(base));
        }
        paths.sort_unstable();
        paths.dedup();
        paths.retain(|path| match self.pair.at_path(&cell, path) {
            Some(one) if self.is_quiet_path(&one, path) => true,
            Some(one) => {
                self.count(&one, path);
                self.cells(one);
                true
            }
            None => false,
        });
        if !self.pair.is_one_path(&cell) {
            self.cells(self.pair.without(&cell, &paths));
        }
    }

    /// The addresses of one file, and then its other spellings.
    fn file(&mut self, cell: Cell<'r>, addresses: &[String]) {
        let bases = [0, 1].map(|side| self.pair.base(&cell, side).map(str::to_owned));
        let Some(base) = bases.into_iter().flatten().next() else { return };
        let paths: Vec<String> = addresses.iter().map(|path| format!("{base}{path}")).collect();
        for path in &paths {
            if let Some(one) = self.pair.at_path(&cell, path) {
                self.cells(one);
            }
        }
        self.cells(self.pair.without(&cell, &paths));
    }

    /// Whether the requests for a path are redirected by a rule that is the same on both sides, and
    /// leads to nothing that is not.
    fn is_quiet_path(&self, cell: &Cell<'r>, path: &str) -> bool {
        let Ok(request) = Request::get(&self.pair.url(cell, path)) else { return false };
        (0..2).all(|side| {
            let route = self.edges[side].route(&request);
            let id = route.hops().first().and_then(|hop| hop.rule());
            id.is_some_and(|id| {
                let program = self.edges[side].program();
                let rule = program.rule(id).rule();
                let before = &program.stage(Stage::Redirect)[..self.quiet_before as usize];
                rule.asks_path_alone()
                    && before.as_ptr_range().contains(&std::ptr::from_ref(rule))
                    && !self.noisy.contains(&(std::ptr::from_ref(rule) as usize))
            })
        })
    }

    /// Counts a page, or a rule for one path, in the difference that a visitor who has no conditions
    /// to meet sees.
    fn count(&mut self, cell: &Cell<'r>, path: &str) {
        if !self.pair.is_home(cell) {
            return;
        }
        let url = self.pair.url(cell, path);
        let below = |side: usize| path.strip_prefix(self.edges[side].site().open_base());
        let is_in = |paths: &[Vec<&str>; 2]| {
            [0, 1].into_iter().any(|side| {
                below(side).is_some_and(|path| paths[side].binary_search(&path).is_ok())
            })
        };
        let (page, rule) = (is_in(&self.pages), is_in(&self.literal));
        if !(page || rule) || !self.counted.insert(url.clone()) {
            return;
        }
        let Ok(request) = Request::get(&url) else { return };
        let Some(key) = self.ask(&request) else { return };
        if let Some(class) = self.classes.get_mut(&key) {
            class.counted.insert(path.to_owned());
            class.pages += usize::from(page);
            class.rules += usize::from(rule);
        }
    }

    /// Cuts a cell until all of each part are alike.
    fn cells(&mut self, cell: Cell<'r>) {
        let mut open = vec![cell];
        let (mut done, mut most) = (0, MAX_CELLS);
        while let Some(mut cell) = open.pop() {
            self.pair.begin();
            let request = match self.pair.example(&cell) {
                Ok(Some(request)) => request,
                Ok(None) => continue,
                Err(()) => {
                    self.undecided.push((cell, "the rules overlap in too many ways"));
                    continue;
                }
            };
            done += 1;
            if done > most {
                self.undecided.push((cell, "the rules distinguish too many requests"));
                continue;
            }
            match self.split(&mut cell, &request) {
                Split::Parts(parts) => open.extend(parts),
                Split::Rows(parts) => {
                    most += parts.len();
                    open.extend(parts);
                }
                Split::Alike => drop(self.ask(&request)),
                Split::Covered => {}
                Split::Open(why) => match self.single_paths(&cell) {
                    Some(paths) => open.extend(paths),
                    None => self.undecided.push((cell, why)),
                },
            }
        }
    }

    /// The paths of a cell, each for itself, where they are few; else some are asked.
    fn single_paths(&mut self, cell: &Cell<'r>) -> Option<Vec<Cell<'r>>> {
        let most = if self.pair.is_listed(cell) { MAX_LISTED } else { MAX_SAMPLED };
        let (requests, all) = self.pair.examples(cell, most);
        if all && !self.pair.is_one_path(cell) {
            let path = |request: &Request| Some(request.address().ok()?.path().to_owned());
            let paths = requests.iter().filter_map(path);
            return Some(paths.filter_map(|path| self.pair.at_path(cell, &path)).collect());
        }
        requests.iter().for_each(|request| drop(self.ask(request)));
        None
    }

    /// Asks both sides, and keeps how they differ.
    pub(super) fn ask(&mut self, request: &Request) -> Option<Key> {
        let (key, class) = Class::of(self.edges, request)?;
        match self.classes.get_mut(&key) {
            Some(known) => known.add(class),
            None => drop(self.classes.insert(key.clone(), class)),
        }
        Some(key)
    }
}
