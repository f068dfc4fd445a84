//! Where requests can be answered differently: paths of which a rule or a file is not the same, and
//! those that redirects lead there.

use std::sync::Arc;

use super::Space;
use super::bits::Bits;
use super::image::{ImageLeaf, written};
use super::leaf::Leaf;
use super::names::Names;
use super::origin::Origin;
use super::pair::{Cell, Pair};
use super::pattern::PatternLeaf;
use super::redirect::read_before;
use super::search::contains;
use super::set::Piece;
use super::symbol::{Symbol, spell, symbols};
use ravel::address::Scheme;
use ravel::program::{Redirect, Rule};
use rustc_hash::FxHashSet;

/// Paths that are looked at on every host where they are.
#[derive(Debug, Clone)]
pub(crate) struct Area<'r>(pub(super) AreaPaths<'r>);

#[derive(Debug, Clone)]
pub(super) enum AreaPaths<'r> {
    /// All.
    All,
    /// All of one frame.
    Frame(usize),
    /// Those below the base path of a side that are in a leaf.
    Below(usize, Arc<Leaf<'r>>),
    /// Those below the base path of a side that name one file.
    File(usize, Arc<Leaf<'r>>, Arc<[String]>),
    /// Those of one origin of a side that are in a leaf, behind what its region begins with.
    At(usize, usize, Arc<Leaf<'r>>),
}

/// A path below the base path of a side, or of one of its origins.
pub(crate) type OnePath = (usize, Option<usize>, Vec<Symbol>);

impl<'r> Area<'r> {
    /// Every path.
    pub(crate) fn all() -> Area<'r> {
        Area(AreaPaths::All)
    }

    /// Whether it is all paths of some hosts.
    pub(crate) fn is_of_hosts(&self) -> bool {
        matches!(self.0, AreaPaths::Frame(_))
    }

    /// The addresses of the one file that it is about, if it is.
    pub(crate) fn addresses(&self) -> Option<&[String]> {
        match &self.0 {
            AreaPaths::File(_, _, addresses) => Some(addresses),
            AreaPaths::All | AreaPaths::Frame(_) | AreaPaths::Below(..) | AreaPaths::At(..) => None,
        }
    }

    /// The one path that it is about, and where, if it is.
    pub(crate) fn one_path(&self) -> Option<OnePath> {
        let (side, place) = match &self.0 {
            AreaPaths::Below(side, _) => (*side, None),
            AreaPaths::At(side, place, _) => (*side, Some(*place)),
            AreaPaths::All | AreaPaths::Frame(_) | AreaPaths::File(..) => return None,
        };
        match &**self.leaf()? {
            Leaf::Word(word) => Some((side, place, word.clone())),
            _ => None,
        }
    }

    /// The leaf that its paths are in; none where they are all.
    fn leaf(&self) -> Option<&Arc<Leaf<'r>>> {
        match &self.0 {
            AreaPaths::All | AreaPaths::Frame(_) => None,
            AreaPaths::Below(_, leaf) | AreaPaths::File(_, leaf, _) | AreaPaths::At(_, _, leaf) => {
                Some(leaf)
            }
        }
    }
}

impl<'r> Pair<'r> {
    /// The frames of which the hosts are not the same on both sides, or plain HTTP is not answered
    /// alike, as areas.
    pub(crate) fn frames_apart(&self) -> Vec<Area<'r>> {
        let apart = (0..self.frames.len()).filter(|frame| self.is_frame_apart(*frame));
        apart.map(|frame| Area(AreaPaths::Frame(frame))).collect()
    }

    /// Whether a redirect names a host of such a frame.
    pub(crate) fn leads_apart(&self, redirect: &Redirect) -> bool {
        let Some(origin) = redirect.target().origin() else { return false };
        let host = origin.host().host().as_str();
        let mut apart = (0..self.frames.len()).filter(|frame| self.is_frame_apart(*frame));
        apart.any(|frame| {
            let frame = &self.axes.origins[frame];
            origin.host().capture().is_some()
                || (origin.scheme() == frame.scheme && *frame.host == *host)
        })
    }

    fn is_frame_apart(&self, frame: usize) -> bool {
        let place = |side: usize| {
            let place = self.frames[frame].places[side]?;
            let space = &self.sides[side];
            let (origin, region) = (&space.axes.origins[place], space.region(place));
            Some((origin.role, &region.prefix, region.inside))
        };
        let [old, new] = [0, 1].map(|side| self.sides[side].edge.site().http());
        let is_plain = self.axes.origins[frame].scheme == Scheme::Http;
        place(0) != place(1) || (is_plain && old != new)
    }

    /// The cells of an area, one for each frame that has some of it.
    pub(crate) fn cells(&self, area: &Area<'r>) -> Vec<Cell<'r>> {
        let cell = |number: usize| {
            let frame = &self.frames[number];
            let mut path = frame.base.clone();
            match &area.0 {
                AreaPaths::Frame(one) if *one != number => return None,
                AreaPaths::All | AreaPaths::Frame(_) => {}
                AreaPaths::Below(side, leaf) | AreaPaths::File(side, leaf, _) => {
                    let region = self.sides[*side].region(frame.places[*side]?);
                    if !region.inside {
                        return None;
                    }
                    path.push((self.lift(&region.prefix, leaf), true));
                }
                AreaPaths::At(side, place, leaf) => {
                    if frame.places[*side] != Some(*place) {
                        return None;
                    }
                    let region = self.sides[*side].region(*place);
                    path.push((self.lift(&region.prefix, leaf), true));
                }
            }
            let of_file = match &area.0 {
                AreaPaths::File(_, _, addresses) => Some(Arc::clone(addresses)),
                _ => None,
            };
            let piece = Piece {
                region: 0,
                origins: Bits::of(self.frames.len(), |at| at == number),
                methods: Bits::of(self.axes.methods.len(), |_| true),
                languages: Bits::of(self.axes.languages.len(), |_| true),
                path,
                facts: Vec::new(),
            };
            let cell = Cell { piece, of_file, rows: Vec::new(), settled: FxHashSet::default() };
            (!self.is_empty(&cell)).then_some(cell)
        };
        (0..self.frames.len()).filter_map(cell).collect()
    }

    /// The paths of a side that a redirect leads to those in a leaf, and perhaps some more.
    fn leading_to(&self, side: usize, rule: &'r Rule, into: &Arc<Leaf<'r>>) -> Vec<Area<'r>> {
        let Some(redirect) = rule.redirect() else { return Vec::new() };
        let space = &self.sides[side];
        let base = space.edge.site().open_base();
        let (pattern, target) = (rule.pattern(), redirect.target());
        let into = match target.origin() {
            Some(_) => self.lift(base, into),
            None => Arc::clone(into),
        };
        let image = target.path_as_pattern(pattern);
        let image = Arc::new(Leaf::Pattern(PatternLeaf::new(&image, Vec::new(), false, &[])));
        if self.are_apart(&image, &into, true) {
            return Vec::new();
        }
        let fold = space.edge.site().ignore_case();
        let leaf = |prefix: &str| {
            let read = read_before(pattern.origin(), prefix);
            Arc::new(match written(pattern.path(), target) {
                Some(pieces) => {
                    let into = Arc::clone(&into);
                    let image = ImageLeaf::new(pattern.path(), fold, &read, pieces, into);
                    Leaf::Image(Box::new(image))
                }
                None => Leaf::Pattern(PatternLeaf::new(pattern.path(), Vec::new(), fold, &read)),
            })
        };
        space.areas_of(side, rule, leaf)
    }

    /// What all paths of an area begin with, and whether that is all of them.
    pub(crate) fn prefix_of(&self, area: &Area<'r>) -> (String, bool) {
        let prefix = area.leaf().map(|leaf| leaf.literal_prefix());
        prefix.map_or_else(Default::default, |(word, whole)| (spell(&word), whole))
    }

    /// Whether a path below the base path is in an area.
    pub(crate) fn is_in(&self, area: &Area<'r>, path: &str) -> bool {
        area.leaf().is_none_or(|leaf| contains(leaf, &symbols(path).collect::<Vec<_>>()))
    }

    /// Whether an area is every path below the base path.
    pub(crate) fn is_all(&self, area: &Area<'r>) -> bool {
        let path = Arc::new(Leaf::Path);
        match &area.0 {
            AreaPaths::All => true,
            AreaPaths::Below(_, leaf) => self.are_apart(&path, leaf, false),
            AreaPaths::Frame(_) | AreaPaths::File(..) | AreaPaths::At(..) => false,
        }
    }

    /// The paths of a side that redirects lead into an area.
    pub(crate) fn leading_into(
        &self,
        side: usize,
        rule: &'r Rule,
        area: &Area<'r>,
    ) -> Vec<Area<'r>> {
        area.leaf().map_or_else(Vec::new, |leaf| self.leading_to(side, rule, leaf))
    }
}

impl<'r> Space<'r> {
    /// A path below the base path.
    pub(crate) fn area_of_path(&self, side: usize, path: &str) -> Area<'r> {
        Area(AreaPaths::Below(side, Arc::new(Leaf::Word(symbols(path).collect()))))
    }

    /// The addresses of a file, in all spellings that name it.
    pub(crate) fn area_of_file(&self, side: usize, addresses: &[&str]) -> Area<'r> {
        let names = Names::new(addresses.iter().copied(), self.edge.site());
        let addresses = addresses.iter().map(|address| (*address).to_owned()).collect();
        Area(AreaPaths::File(side, Arc::new(Leaf::Named(Arc::new(names))), addresses))
    }

    /// Where a rule of a side is to be looked for: below the base path, or on hosts of its own.
    fn areas_of(
        &self,
        side: usize,
        rule: &Rule,
        leaf: impl Fn(&str) -> Arc<Leaf<'r>>,
    ) -> Vec<Area<'r>> {
        let Some(origin) = rule.pattern().origin() else {
            return vec![Area(AreaPaths::Below(side, leaf("")))];
        };
        let host = origin.host().host();
        let mut areas = Vec::new();
        if host == self.edge.site().host() {
            areas.push(Area(AreaPaths::Below(side, leaf(self.edge.site().open_base()))));
        }
        let is_there = |asked: &Origin| {
            &*asked.host == host.as_str() || asked.host.ends_with(&format!(".{host}"))
        };
        let places = (0..self.axes.origins.len()).filter(|at| is_there(&self.axes.origins[*at]));
        areas.extend(
            places.map(|place| Area(AreaPaths::At(side, place, leaf(&self.region(place).prefix)))),
        );
        areas
    }

    /// Where a rule of a side could match.
    pub(crate) fn areas_of_rule(&self, side: usize, rule: &'r Rule) -> Vec<Area<'r>> {
        let fold = self.edge.site().ignore_case();
        self.areas_of(side, rule, |prefix| {
            let read = read_before(rule.pattern().origin(), prefix);
            let path = rule.pattern().path();
            match path.is_literal() && !fold {
                true => {
                    let word: Vec<Symbol> = symbols(path.as_str()).collect();
                    // A path that is not below the prefix is nowhere.
                    let rest = word.strip_prefix(&*read).map_or(vec![0], <[Symbol]>::to_vec);
                    Arc::new(Leaf::Word(rest))
                }
                false => Arc::new(Leaf::Pattern(PatternLeaf::new(path, Vec::new(), fold, &read))),
            }
        })
    }
}
