//! Two sites side by side: requests that both can be asked, cut by what either tells apart.
//!
//! Each site has a space of its own, in which paths begin behind the base path of a host. Here a path
//! is a whole one, and a cell is a piece of the requests for one scheme and host.

use std::cell::RefCell;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::Space;
use super::axes::Axes;
use super::leaf::Leaf;
use super::memo::LeafMemo;
use super::names::Names;
use super::origin::{Origin, Region};
use super::pattern::PatternLeaf;
use super::ranks::{KnownRows, PickedRow};
use super::search::{SearchResult, SignedLeaf, Work, contains};
use super::set::Piece;
use super::spelling::Spellings;
use super::symbol::{Symbol, spell, symbols};
use ravel::address::{Address, Request, Scheme};
use ravel::edge::Edge;
use ravel::program::{Role, Rule};

/// Two sites side by side, the old one and the new one.
#[derive(Debug)]
pub(crate) struct Pair<'r> {
    pub(super) sides: [Space<'r>; 2],
    pub(super) axes: Axes,
    pub(super) frames: Vec<Frame<'r>>,
    work: Work<'r>,
    /// For each side, the addresses under which files are shown, and those of files that are not the
    /// same on the other side.
    shown: [Arc<Leaf<'r>>; 2],
    changed: [Arc<Leaf<'r>>; 2],
    pub(super) spellings: [Spellings<'r>; 2],
    /// What a rule, behind a text and before another, leads into a leaf.
    pub(super) pulled: LeafMemo<'r, (usize, [Box<str>; 2])>,
    /// The values of which a rule, before a text, makes paths in a leaf.
    pub(super) filled: LeafMemo<'r, (usize, Box<str>)>,
    lifted: LeafMemo<'r, Vec<Symbol>>,
    /// The paths that a rule's target can be, behind a text.
    targets: RefCell<FxHashMap<TargetKey, Arc<Leaf<'r>>>>,
    pub(super) rows: RefCell<KnownRows<'r>>,
}

/// What is before a target's paths, and where its rule is in memory.
type TargetKey = (Box<str>, usize);

/// Where the requests for a scheme and host are on either side.
#[derive(Debug)]
pub(crate) struct Frame<'r> {
    /// The number of the origin in each side's space; none where the host is not the site's.
    pub(super) places: [Option<usize>; 2],
    pub(super) base: Vec<SignedLeaf<'r>>,
    /// Whether it is the canonical origin of either side.
    pub(crate) is_home: bool,
}

/// Requests for one scheme and host.
#[derive(Debug, Clone)]
pub(crate) struct Cell<'r> {
    pub(super) piece: Piece<'r>,
    /// The addresses of the one file that all of its paths name, in some spelling.
    pub(super) of_file: Option<Arc<[String]>>,
    /// Of very many rules for one path, the one that comes first, for each path that it was cut at.
    pub(super) rows: Vec<PickedRow<'r>>,
    /// The cuts that it is all inside or all outside of.
    pub(super) settled: FxHashSet<u64>,
}

impl<'r> Pair<'r> {
    /// `changed`: for each side, the addresses of files that are not the same on the other.
    pub(crate) fn new(old: &'r Edge, new: &'r Edge, changed: [&[&str]; 2]) -> Pair<'r> {
        let sides = [Space::beside(old, &[old, new]), Space::beside(new, &[old, new])];
        let mut hosts: Vec<(Scheme, Box<str>)> = Vec::new();
        for origin in sides.iter().rev().flat_map(|side| &side.axes.origins) {
            if !hosts.iter().any(|(scheme, host)| (*scheme, host) == (origin.scheme, &origin.host))
            {
                hosts.push((origin.scheme, origin.host.clone()));
            }
        }
        let whole = Region { prefix: "".into(), inside: true, without: Vec::new() };
        let axes = Axes {
            origins: Vec::new(),
            regions: vec![whole],
            methods: sides[1].axes.methods.clone(),
            languages: sides[1].axes.languages.clone(),
        };
        let shown = sides.each_ref().map(|side| {
            let table = side.edge.variant_table();
            let shown = table.iter().filter(|(.., gets)| *gets == 0);
            Arc::new(Leaf::Named(Arc::new(words(shown.map(|(address, ..)| *address)))))
        });
        let changed = [0, 1].map(|side| {
            let words = Names::new(changed[side].iter().copied(), sides[side].edge.site());
            Arc::new(Leaf::Named(Arc::new(words)))
        });
        let (pulled, filled, lifted, targets, rows) = Default::default();
        let (frames, work, spellings) = Default::default();
        let mut pair = Pair {
            sides,
            axes,
            frames,
            work,
            shown,
            changed,
            spellings,
            pulled,
            filled,
            lifted,
            targets,
            rows,
        };
        let path = Arc::new(Leaf::Path);
        for (scheme, host) in hosts {
            let places = [0, 1].map(|side| pair.sides[side].places(scheme, &host));
            for old in &places[0] {
                for new in &places[1] {
                    pair.add_frame(scheme, &host, [*old, *new], &path);
                }
            }
        }
        pair
    }

    fn add_frame(
        &mut self,
        scheme: Scheme,
        host: &str,
        places: [Option<usize>; 2],
        path: &Arc<Leaf<'r>>,
    ) {
        let mut base = vec![(Arc::clone(path), true)];
        let mut is_home = false;
        for (space, place) in self.sides.iter().zip(places) {
            let Some(place) = place else { continue };
            base.extend(space.region_leaves(place));
            let (site, origin) = (space.edge.site(), &space.axes.origins[place]);
            is_home |= origin.role == Role::Canonical
                && scheme == site.scheme()
                && space.axes.regions[origin.region].inside;
        }
        if self.work.shortest(&base) == SearchResult::Nothing {
            return;
        }
        let mut known = self.sides.iter().flat_map(|side| &side.axes.origins);
        let is_any = known.any(|origin| &*origin.host == host && origin.is_any);
        let origin = Origin { scheme, host: host.into(), role: Role::Canonical, region: 0, is_any };
        self.axes.origins.push(origin);
        self.frames.push(Frame { places, base, is_home });
    }

    pub(super) fn shown(&self, side: usize) -> Arc<Leaf<'r>> {
        Arc::clone(&self.shown[side])
    }

    pub(super) fn changed(&self, side: usize) -> Arc<Leaf<'r>> {
        Arc::clone(&self.changed[side])
    }

    /// Whether a path, on either side, names a file that is not the same on the other.
    pub(crate) fn names_changed(&self, address: &Address) -> bool {
        (0..2).any(|side| {
            let base = self.sides[side].edge.site().open_base();
            let word: Vec<Symbol> =
                symbols(address.path().strip_prefix(base).unwrap_or_default()).collect();
            contains(&self.changed[side], &word)
        })
    }

    pub(crate) fn side(&self, side: usize) -> &Space<'r> {
        &self.sides[side]
    }

    /// The frame of a cell.
    pub(crate) fn frame(&self, cell: &Cell<'r>) -> &Frame<'r> {
        &self.frames[cell.piece.origins.first().unwrap_or_default()]
    }

    /// Whether the host of a cell is that of one side alone.
    pub(crate) fn is_of_one_side(&self, cell: &Cell<'r>) -> bool {
        self.frame(cell).places.contains(&None)
    }

    /// Begins another question.
    pub(crate) fn begin(&self) {
        self.work.begin();
        self.sides.iter().for_each(Space::begin);
    }

    pub(super) fn is_empty(&self, cell: &Cell<'r>) -> bool {
        cell.piece.is_empty(&self.work) == SearchResult::Nothing
    }

    /// Whether two leaves have no word in common, where the second is taken as its sign says.
    pub(super) fn are_apart(
        &self,
        leaf: &Arc<Leaf<'r>>,
        other: &Arc<Leaf<'r>>,
        wanted: bool,
    ) -> bool {
        let both = [(Arc::clone(leaf), true), (Arc::clone(other), wanted)];
        self.work.shortest(&both) == SearchResult::Nothing
    }

    /// A shortest request of a cell; `Err` where it is not known whether it has one.
    pub(crate) fn example(&self, cell: &Cell<'r>) -> Result<Option<Request>, ()> {
        match cell.piece.shortest(&self.axes, &self.work) {
            SearchResult::Member((request, _)) => Ok(Some(request)),
            SearchResult::Nothing => Ok(None),
            SearchResult::Undecided => Err(()),
        }
    }

    /// Requests of a cell with other paths, so many at most, and whether these are all.
    pub(crate) fn examples(&self, cell: &Cell<'r>, most: usize) -> (Vec<Request>, bool) {
        let mut rest = cell.clone();
        let mut found = Vec::new();
        while found.len() < most {
            match rest.piece.shortest(&self.axes, &self.work) {
                SearchResult::Member((request, word)) => {
                    found.push(request);
                    rest.piece.path.push((Arc::new(Leaf::Word(word)), false));
                }
                SearchResult::Nothing => return (found, true),
                SearchResult::Undecided => break,
            }
        }
        (found, false)
    }

    /// The parts of a cell inside and outside of a piece; none where it is all one.
    pub(super) fn divide(&self, cell: &Cell<'r>, by: &Piece<'r>) -> Option<Vec<Cell<'r>>> {
        if cell.piece.is_apart(by) || cell.piece.is_inside(by) || self.is_plainly_apart(cell, by) {
            return None;
        }
        let part = |piece| Cell { piece, ..cell.clone() };
        let both = part(cell.piece.and(by)?);
        if self.is_empty(&both) {
            return None;
        }
        let mut parts: Vec<Cell<'r>> =
            cell.piece.minus(by, &self.work).into_iter().map(part).collect();
        parts.retain(|part| !self.is_empty(part));
        if parts.is_empty() {
            return None;
        }
        parts.push(both);
        Some(parts)
    }

    /// Whether some two leaves of a cell and a piece have nothing in common: that is known of the
    /// leaves, and need not be found out for each cell.
    fn is_plainly_apart(&self, cell: &Cell<'r>, by: &Piece<'r>) -> bool {
        let is_of_many = |(leaf, wanted): &&SignedLeaf<'r>| {
            *wanted && !matches!(**leaf, Leaf::Path | Leaf::Word(_) | Leaf::Below(_))
        };
        let theirs = || by.path.iter().filter(is_of_many);
        let mine = cell.piece.path.iter().filter(is_of_many);
        mine.flat_map(|(mine, _)| theirs().map(move |(leaf, _)| (mine, leaf)))
            .any(|(mine, leaf)| !Arc::ptr_eq(mine, leaf) && self.are_apart(mine, leaf, true))
    }

    /// Whether a cell is the requests for one path.
    pub(crate) fn is_one_path(&self, cell: &Cell<'r>) -> bool {
        cell.piece.one_path().is_some()
    }

    /// Whether a cell's paths are some of a list, so that it is worth to go through them. With empty
    /// segments there is no end of the spellings of a file.
    pub(crate) fn is_listed(&self, cell: &Cell<'r>) -> bool {
        cell.piece.path.iter().any(|(leaf, wanted)| match &**leaf {
            Leaf::Named(names) => *wanted && !names.tidy,
            leaf => *wanted && leaf.is_list(),
        })
    }

    /// Whether a cell is spellings of one file.
    pub(crate) fn is_of_file(&self, cell: &Cell<'r>) -> bool {
        cell.of_file.is_some()
    }

    /// The paths that all of a cell begin with, and whether that is all of them.
    pub(crate) fn literal_prefix(&self, cell: &Cell<'r>) -> (String, bool) {
        let wanted = cell.piece.path.iter().filter(|(_, wanted)| *wanted);
        let longest = wanted
            .map(|(leaf, _)| leaf.literal_prefix())
            .max_by_key(|(text, whole)| (*whole, text.len()));
        longest.map_or_else(Default::default, |(text, whole)| (spell(&text), whole))
    }

    /// The requests of a cell for one whole path.
    pub(crate) fn at_path(&self, cell: &Cell<'r>, path: &str) -> Option<Cell<'r>> {
        let word: Vec<Symbol> = symbols(path).collect();
        let holds = |(leaf, wanted): &SignedLeaf<'r>| contains(leaf, &word) == *wanted;
        cell.piece.path.iter().all(holds).then(|| {
            let mut one = cell.clone();
            one.piece.path = vec![(Arc::new(Leaf::Word(word)), true)];
            one
        })
    }

    /// The requests of a cell that are not for any of these whole paths.
    pub(crate) fn without(&self, cell: &Cell<'r>, paths: &[String]) -> Cell<'r> {
        let mut rest = cell.clone();
        if !paths.is_empty() {
            let words = paths.iter().map(|path| symbols(path).collect()).collect();
            rest.piece.path.push((Arc::new(Leaf::Named(Arc::new(Names::of_words(words)))), false));
        }
        rest
    }

    /// What the paths of a side's frame begin with, where it is below a base path.
    pub(crate) fn base(&self, cell: &Cell<'r>, side: usize) -> Option<&str> {
        let region = self.sides[side].region(self.frame(cell).places[side]?);
        region.inside.then_some(&*region.prefix)
    }

    /// A leaf behind a text.
    pub(super) fn lift(&self, prefix: &str, leaf: &Arc<Leaf<'r>>) -> Arc<Leaf<'r>> {
        if prefix.is_empty() {
            return Arc::clone(leaf);
        }
        let text: Vec<Symbol> = symbols(prefix).collect();
        let longer = |word: &[Symbol]| text.iter().chain(word).copied().collect();
        match &**leaf {
            Leaf::Word(word) => return Arc::new(Leaf::Word(longer(word))),
            Leaf::Below(word) => return Arc::new(Leaf::Below(longer(word))),
            _ => {}
        }
        self.lifted.of(text.clone(), leaf, || Leaf::Behind(text, Arc::clone(leaf)))
    }

    /// The paths behind a prefix that a rule's redirect can lead to, whatever it captures; the prefix
    /// is that of the base path where the target has an origin.
    pub(super) fn target(&self, rule: &'r Rule, prefix: &str) -> Arc<Leaf<'r>> {
        let place = std::ptr::from_ref(rule) as usize;
        let mut targets = self.targets.borrow_mut();
        let leaf = targets.entry((prefix.into(), place)).or_insert_with(|| {
            let Some(redirect) = rule.redirect() else { return Arc::new(Leaf::Path) };
            let template = redirect.target().path_as_pattern(rule.pattern());
            let read: Vec<Symbol> = match redirect.target().origin() {
                Some(_) => symbols(prefix).collect(),
                None => Vec::new(),
            };
            Arc::new(Leaf::Pattern(PatternLeaf::new(&template, Vec::new(), false, &read)))
        });
        Arc::clone(leaf)
    }

    /// Whether a request is in a cell.
    pub(crate) fn has(&self, cell: &Cell<'r>, request: &Request) -> bool {
        let Ok(address) = request.address() else { return false };
        let piece = &cell.piece;
        let frame = piece.origins.first().unwrap_or_default();
        let origin = &self.axes.origins[frame];
        let word: Vec<Symbol> = symbols(address.path()).collect();
        let known = self.axes.methods.iter().position(|method| method == request.method());
        // POST stands for all methods that nothing tells apart.
        let method = known.unwrap_or(2);
        let chosen = |headers| self.sides.each_ref().map(|side| side.edge.language_of(headers));
        let languages = chosen(request.headers());
        let of_value = |at: usize| self.sides.each_ref().map(|side| side.language_of[at]);
        let language = (0..self.axes.languages.len()).find(|at| of_value(*at) == languages);
        let is_told_apart = || self.axes.origins.iter().any(|of| *of.host == *address.host());
        let is_here = *address.host() == *origin.host
            || (origin.stands_for(address.host()) && !is_told_apart());
        address.scheme() == origin.scheme
            && is_here
            && piece.methods.has(method)
            && language.is_some_and(|at| piece.languages.has(at))
            && piece.path.iter().all(|(leaf, wanted)| contains(leaf, &word) == *wanted)
            && piece.facts.iter().all(|(fact, holds)| fact.is_of(request) == *holds)
    }

    /// Whether a cell is at the canonical origin of a side.
    pub(crate) fn is_home(&self, cell: &Cell<'r>) -> bool {
        self.frame(cell).is_home
    }

    /// The URL of a whole path at the origin of a cell.
    pub(crate) fn url(&self, cell: &Cell<'r>, path: &str) -> String {
        let origin = &self.axes.origins[cell.piece.origins.first().unwrap_or_default()];
        format!("{}://{}{path}", origin.scheme, origin.host)
    }

    pub(super) fn methods(&self) -> &[http::Method] {
        &self.axes.methods
    }
}

/// Addresses as they are spelled.
fn words<'a>(addresses: impl Iterator<Item = &'a str>) -> Names {
    Names::of_words(addresses.map(|address| symbols(address).collect()).collect())
}
