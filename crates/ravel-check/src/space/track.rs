//! A cell of requests followed along the redirects that one of its requests takes: what is asked of a
//! later hop, said of the requests themselves.

use std::sync::Arc;

use super::Space;
use super::fact::Fact;
use super::filled::WrittenQuery;
use super::image::{Written, written};
use super::leaf::Leaf;
use super::pair::{Cell, Pair};
use super::search::contains;
use super::symbol::{Symbol, symbols};
use ravel::address::Address;
use ravel::edge::{RouteHop, method_after};
use ravel::program::{Rule, Stage};

/// Where all requests of a cell are on one side after some hops.
#[derive(Debug, Clone)]
pub(crate) struct Track<'r> {
    pub(super) side: usize,
    pub(super) place: usize,
    pub(super) path: TrackedPath<'r>,
    /// The rules that made the hops, which carry the query along or not.
    pub(super) rules: Vec<&'r Rule>,
    /// The method that each method has become.
    pub(super) methods: Vec<usize>,
    /// No hop was made yet.
    pub(super) is_first: bool,
    /// All of them name one file.
    pub(super) is_of_one_file: bool,
}

/// How the path behind the prefix of the place hangs on the one that was asked.
#[derive(Debug, Clone)]
pub(super) enum TrackedPath<'r> {
    /// It is the same.
    Asked,
    /// These wrote it, one after another.
    Written(Vec<WritingHop<'r>>),
    /// It is this one.
    One(Vec<Symbol>),
    /// It is some of these.
    Among(Arc<Leaf<'r>>),
}

/// A hop that makes another path of each.
#[derive(Debug, Clone)]
pub(super) enum WritingHop<'r> {
    Rule(WrittenHop<'r>),
    /// To the own address of the file that is named.
    OwnAddress,
    /// Of the query that was asked; it comes first, since the path does not matter then.
    Query(QueryHop<'r>),
}

/// A redirect that writes a path of what it captures.
#[derive(Debug, Clone)]
pub(super) struct WrittenHop<'r> {
    pub(super) rule: &'r Rule,
    pub(super) pieces: Vec<Written>,
    /// What is before the paths that the rule reads, and before those that it writes.
    pub(super) prefixes: [Box<str>; 2],
}

/// A redirect that writes a path of a parameter.
#[derive(Debug, Clone)]
pub(super) struct QueryHop<'r> {
    pub(super) rule: &'r Rule,
    pub(super) written: WrittenQuery<'r>,
    /// What is before the paths that it writes.
    pub(super) prefix: Box<str>,
}

/// Something that can tell the requests of a cell apart at some hop.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Cut<'r> {
    /// A rule's pattern and conditions.
    Rule(&'r Rule),
    /// Whether a rule looks at the visitor: its pattern, and its conditions on all but headers.
    Visitors(&'r Rule),
    /// Whether a redirect's target could be the URL itself.
    Itself(&'r Rule),
    /// Whether the target of a rule that shows a file names one.
    Shows(&'r Rule),
    /// Whether the target of a rule that shows a file names this one.
    ShowsFile(&'r Rule, u32),
    /// Whether the path is one that the target of a redirect of either side can be.
    Target(&'r Rule),
    /// Whether a file is named.
    Named,
    /// Whether a file is named by an address under which it is shown.
    Shown,
    /// Whether a file is named that is not the same on the other side.
    Changed,
    /// Whether the path ends like a file of a known type.
    KnownType,
    /// GET and HEAD.
    Reading,
}

impl<'r> Track<'r> {
    /// A cell before the first hop; none where its host is not the side's.
    pub(crate) fn new(pair: &Pair<'r>, cell: &Cell<'r>, side: usize) -> Option<Track<'r>> {
        let place = pair.frame(cell).places[side]?;
        let methods = (0..pair.methods().len()).collect();
        let (path, rules) = (TrackedPath::Asked, Vec::new());
        Some(Track { side, place, path, rules, methods, is_first: true, is_of_one_file: false })
    }

    pub(crate) fn is_inside(&self, pair: &Pair<'r>) -> bool {
        pair.sides[self.side].region(self.place).inside
    }

    /// The numbers of the rules of a stage that could match where it is, in their order.
    pub(crate) fn candidates(&self, pair: &Pair<'r>, cell: &Cell<'r>, stage: Stage) -> Vec<u32> {
        if stage == Stage::Redirect
            && let Some(numbers) = self.picked_rows(pair, cell)
        {
            return numbers;
        }
        let space = &pair.sides[self.side];
        let overlaps = space.overlaps(stage);
        let prefix = &*space.region(self.place).prefix;
        let (text, whole) = match (&self.path, self.rules.last()) {
            (TrackedPath::One(word), _) => (super::symbol::spell(word), true),
            (TrackedPath::Asked, _)
                if cell.of_file.is_some()
                    && !pair.is_one_path(cell)
                    && prefix == space.edge().site().open_base() =>
            {
                let addresses = cell.of_file.iter().flat_map(|addresses| addresses.iter());
                return overlaps.with_spellings(addresses.map(String::as_str));
            }
            (TrackedPath::Asked, _) => {
                let (text, whole) = pair.literal_prefix(cell);
                // A canonical redirect leads from below one base path to below another.
                let first = pair.frame(cell).places[self.side];
                let asked = first.map_or(prefix, |place| &*space.region(place).prefix);
                match text.strip_prefix(asked) {
                    Some(rest) => (rest.to_owned(), whole),
                    None => Default::default(),
                }
            }
            (_, Some(rule)) => match rule.redirect() {
                Some(redirect) if self.may_be_own_address() => {
                    // A file's own address stands in the folder of any other, or is that folder.
                    let path = redirect.target().path().literal_prefix();
                    let folder = path.rfind('/').map_or("", |slash| &path[..slash]);
                    let is_below = redirect.target().origin().is_none();
                    (if is_below { folder.to_owned() } else { String::new() }, false)
                }
                Some(redirect) => return overlaps.with_target(redirect.target()),
                None => Default::default(),
            },
            (_, None) => Default::default(),
        };
        let mut numbers = overlaps.with_text(&text, whole, false);
        if prefix != space.edge().site().open_base() {
            numbers.extend(overlaps.with_text(&format!("{prefix}{text}"), whole, true));
            numbers.sort_unstable();
            numbers.dedup();
        }
        numbers
    }

    /// After a hop that one of the requests takes from an address; none where it leads off the site.
    pub(crate) fn follow(
        &self,
        pair: &Pair<'r>,
        cell: &Cell<'r>,
        from: &Address,
        hop: &RouteHop,
    ) -> Option<Track<'r>> {
        let space = &pair.sides[self.side];
        let place = space.place_of(hop.to())?;
        let prefixes = [self.place, place].map(|place| space.region(place).prefix.clone());
        let below = |address: &Address, prefix: &str| -> Vec<Symbol> {
            symbols(address.path().strip_prefix(prefix).unwrap_or_default()).collect()
        };
        let (before, after) = (below(from, &prefixes[0]), below(hop.to(), &prefixes[1]));
        let is_one = self.is_at_one_path(pair, cell);
        let mut next = Track { place, is_first: false, is_of_one_file: false, ..self.clone() };
        let Some(id) = hop.rule() else {
            if before != after {
                next.path = match is_one
                    || self.is_of_one_file
                    || (cell.of_file.is_some() && self.rules.is_empty())
                {
                    true => TrackedPath::One(after),
                    false => self.own_addresses(space, &before),
                };
            }
            return Some(next);
        };
        let rule = space.edge().program().rule(id).rule();
        let Some(redirect) = rule.redirect() else { return Some(next) };
        let target = redirect.target();
        next.rules.push(rule);
        let method_of = |at: usize| {
            pair.methods().iter().position(|known| {
                *known == method_after(&pair.methods()[self.methods[at]], redirect.status())
            })
        };
        next.methods =
            (0..self.methods.len()).map(|at| method_of(at).unwrap_or(self.methods[at])).collect();
        let pieces = written(rule.pattern().path(), target);
        next.path = match (&self.path, pieces) {
            _ if target.path().is_literal() => TrackedPath::One(after),
            (_, Some(_)) if is_one => TrackedPath::One(after),
            (TrackedPath::Asked | TrackedPath::Written(_), Some(pieces)) => {
                self.written_by(WritingHop::Rule(WrittenHop { rule, pieces, prefixes }))
            }
            (TrackedPath::One(_) | TrackedPath::Among(_), Some(_)) => {
                TrackedPath::Among(pair.target(rule, &prefixes[1]))
            }
            (_, None) => match WrittenQuery::of(rule.pattern(), target) {
                Some(written) if self.pull_fact(&Fact::Parameter(written.key)) == Some(None) => {
                    let [_, prefix] = prefixes;
                    let hop = QueryHop { rule, written, prefix };
                    TrackedPath::Written(vec![WritingHop::Query(hop)])
                }
                _ => TrackedPath::Among(pair.target(rule, &prefixes[1])),
            },
        };
        Some(next)
    }

    /// Whether the last hop could be to the own address of a file.
    fn may_be_own_address(&self) -> bool {
        match &self.path {
            TrackedPath::Written(hops) => matches!(hops.last(), Some(WritingHop::OwnAddress)),
            TrackedPath::Among(_) => true,
            TrackedPath::Asked | TrackedPath::One(_) => false,
        }
    }

    /// The own addresses of the files that all name, as one of them does.
    fn own_addresses(&self, space: &Space<'r>, one: &[Symbol]) -> TrackedPath<'r> {
        match self.path {
            TrackedPath::Asked | TrackedPath::Written(_) if contains(&space.named, one) => {
                self.written_by(WritingHop::OwnAddress)
            }
            _ => TrackedPath::Among(Arc::clone(&space.named)),
        }
    }

    fn written_by(&self, hop: WritingHop<'r>) -> TrackedPath<'r> {
        let mut hops = match &self.path {
            TrackedPath::Written(hops) => hops.clone(),
            TrackedPath::Asked | TrackedPath::One(_) | TrackedPath::Among(_) => Vec::new(),
        };
        hops.push(hop);
        TrackedPath::Written(hops)
    }

    /// The redirects in a row that wrote the path of what they captured.
    pub(crate) fn writing_hops(&self) -> usize {
        match &self.path {
            TrackedPath::Written(hops) => {
                hops.iter().filter(|hop| !matches!(hop, WritingHop::OwnAddress)).count()
            }
            TrackedPath::Asked | TrackedPath::One(_) | TrackedPath::Among(_) => 0,
        }
    }

    /// Whether no hop was made yet.
    pub(crate) fn is_first(&self) -> bool {
        self.is_first
    }

    /// Whether it has come to one path, whatever was asked.
    pub(crate) fn is_one_path(&self) -> bool {
        matches!(self.path, TrackedPath::One(_))
    }

    /// Whether the path hangs on the query that was asked.
    pub(crate) fn hangs_on_query(&self) -> bool {
        match &self.path {
            TrackedPath::Written(hops) => matches!(hops.first(), Some(WritingHop::Query(_))),
            TrackedPath::Asked | TrackedPath::One(_) | TrackedPath::Among(_) => false,
        }
    }

    /// Whether all of a cell has come to one path. Of one path there are several only by the query.
    pub(crate) fn is_at_one_path(&self, pair: &Pair<'r>, cell: &Cell<'r>) -> bool {
        let is_among = matches!(self.path, TrackedPath::Among(_));
        self.is_one_path() || (pair.is_one_path(cell) && !is_among && !self.hangs_on_query())
    }
}
