//! Sets of requests: a statement about a rule is decided for every address, not for samples.
//!
//! ```text
//!   Rule ──Space::matching──▶ RequestSet ──and, or, minus──▶ RequestSet ──shortest──▶ a request, or none
//!
//!   a piece of a set:  hosts and schemes · methods · languages     finite: bits
//!                      path                                        regular: automata side by side (leaf, search)
//!                      query, cookies, header fields               facts that hold or not (fact)
//! ```
//!
//! The automata are walked only as far as a question needs. Where a bound is reached, the answer is
//! "undecided".

mod area;
mod axes;
mod bits;
mod capture;
mod cut;
mod fact;
mod filled;
mod image;
mod leaf;
mod matching;
mod memo;
mod names;
mod numbered;
mod origin;
mod overlap;
mod pair;
mod paths;
mod pattern;
mod place;
mod pull;
mod query;
mod ranks;
mod redirect;
mod request;
mod rows;
mod search;
mod set;
mod showing;
mod spelling;
mod state;
mod symbol;
mod table;
mod track;
mod ways;

pub(crate) use area::Area;
pub(crate) use cut::CutResult;
pub(crate) use origin::Origin;
pub(crate) use overlap::Overlaps;
pub(crate) use pair::{Cell, Pair};
pub(crate) use query::written_parameters;
pub(crate) use redirect::Growth;
pub(crate) use set::Members;
pub use set::{Member, RequestSet};
pub(crate) use track::{Cut, Track};
pub(crate) use ways::asks_beyond_path;

use std::cell::{OnceCell, RefCell};
use std::sync::Arc;

use http::Method;
use rustc_hash::FxHashMap;

use axes::Axes;
use bits::Bits;
use fact::SignedFact;
use leaf::Leaf;
pub(crate) use memo::Memo;
use names::Names;
use ravel::address::Scheme;
use ravel::edge::Edge;
use ravel::program::{Role, Rule, RuleRef, Stage, Tests};
use ravel::template::Pattern;
use search::{SignedLeaf, Work};
use set::Piece;
use symbol::symbols;

/// Where a redirect could lead to the URL itself.
#[derive(Debug, Clone)]
struct SelfLed<'r> {
    /// At these paths.
    paths: SignedLeaf<'r>,
    /// With such a query.
    query: Vec<SignedFact<'r>>,
    /// It does wherever it could.
    is_exact: bool,
}

/// Every request that a site can be asked, to take sets from.
#[derive(Debug)]
pub struct Space<'r> {
    edge: &'r Edge,
    axes: Axes,
    /// The site's language for each of the axis.
    language_of: Vec<usize>,
    path: Arc<Leaf<'r>>,
    named: Arc<Leaf<'r>>,
    known_type: Arc<Leaf<'r>>,
    /// Paths with which a rule can name a file.
    namable: OnceCell<Arc<Leaf<'r>>>,
    /// Paths that begin with several `/`.
    several: Arc<Leaf<'r>>,
    /// Where redirects could lead to the URL that was asked, by the rule and the origin.
    itself: RefCell<FxHashMap<(usize, usize), Option<SelfLed<'r>>>>,
    overlaps: [OnceCell<Overlaps>; 5],
    /// Every address below the base path that names a file, in order.
    addresses: Vec<&'r str>,
    work: Work<'r>,
    matching: Memo<RequestSet<'r>>,
    acting: Memo<(RequestSet<'r>, RequestSet<'r>)>,
    images: Memo<Option<RequestSet<'r>>>,
}

impl<'r> Space<'r> {
    /// The requests that an edge's site can be asked.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let space = ravel_check::space::Space::new(&edge);
    /// assert!(matches!(space.all().shortest(&space), ravel_check::space::Member::Shortest(_)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(edge: &'r Edge) -> Space<'r> {
        Space::beside(edge, &[edge])
    }

    /// The same, told apart as finely as it takes for other edges too.
    pub(crate) fn beside(edge: &'r Edge, edges: &[&'r Edge]) -> Space<'r> {
        let axes = Axes::of(edge, edges);
        let languages = axes.languages.iter();
        let language_of = languages.map(|value| axes::language_for(edge, value)).collect();
        let mut addresses: Vec<&str> = edge.addresses().collect();
        addresses.sort_unstable();
        let names = Names::new(addresses.iter().copied(), edge.site());
        Space {
            edge,
            axes,
            language_of,
            path: Arc::new(Leaf::Path),
            named: Arc::new(Leaf::Named(Arc::new(names))),
            known_type: Arc::new(Leaf::KnownType),
            namable: OnceCell::new(),
            several: Arc::new(Leaf::Below(vec![symbol::SLASH])),
            itself: RefCell::default(),
            overlaps: Default::default(),
            addresses,
            work: Work::default(),
            matching: Memo::default(),
            acting: Memo::default(),
            images: Memo::default(),
        }
    }

    /// Begins another question: what was done for those before it does not count any more.
    pub(crate) fn begin(&self) {
        self.work.begin();
    }

    /// The edge that is asked.
    pub fn edge(&self) -> &'r Edge {
        self.edge
    }

    /// Every request to a host of the site.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let space = ravel_check::space::Space::new(&edge);
    /// let none = space.all().minus(&space.all());
    /// assert!(matches!(none.shortest(&space), ravel_check::space::Member::None));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn all(&self) -> RequestSet<'r> {
        let piece = |number: usize| {
            let region = &self.axes.regions[number];
            let mut path = vec![(Arc::clone(&self.path), true)];
            path.extend(
                region
                    .without
                    .iter()
                    .map(|prefix| (Arc::new(Leaf::Below(symbols(prefix).collect())), false)),
            );
            Piece {
                region: number,
                origins: Bits::of(self.axes.origins.len(), |origin| {
                    self.axes.origins[origin].region == number
                }),
                methods: Bits::of(self.axes.methods.len(), |_| true),
                languages: Bits::of(self.axes.languages.len(), |_| true),
                path,
                facts: Vec::new(),
            }
        };
        let pieces =
            (0..self.axes.regions.len()).map(piece).filter(|piece| !piece.origins.is_empty());
        RequestSet { pieces: pieces.collect(), loose: false, work: self.work.clone() }
    }

    /// The requests that an origin's test lets through.
    pub(crate) fn with_origins(&self, wanted: impl Fn(&Origin) -> bool) -> RequestSet<'r> {
        let mut all = self.all();
        all.pieces.iter_mut().for_each(|piece| {
            piece.origins.retain(|at| self.axes.origins.get(at).is_some_and(&wanted))
        });
        all.pieces.retain(|piece| !piece.origins.is_empty());
        all
    }

    /// The scheme and host of every entry point.
    pub(crate) fn entrances(&self) -> impl Iterator<Item = &Origin> {
        self.axes.origins.iter().filter(|origin| self.axes.regions[origin.region].inside)
    }

    /// Every request below a base path.
    pub(crate) fn below_a_base(&self) -> RequestSet<'r> {
        let mut all = self.all();
        all.pieces.retain(|piece| self.axes.regions[piece.region].inside);
        all
    }

    /// What is left of a set when these header fields are given: what they settle is not asked any
    /// more.
    pub(crate) fn given(&self, set: &RequestSet<'r>, headers: &http::HeaderMap) -> RequestSet<'r> {
        let mut set = set.clone();
        let language = headers
            .contains_key(http::header::ACCEPT_LANGUAGE)
            .then(|| self.edge.language_of(headers));
        set.pieces.retain_mut(|piece| {
            if let Some(language) = language {
                piece.languages.retain(|at| self.language_of.get(at) == Some(&language));
            }
            let mut fits = !piece.languages.is_empty();
            piece.facts.retain(|(fact, holds)| match fact.under(headers) {
                Some(is) => {
                    fits &= is == *holds;
                    false
                }
                None => true,
            });
            fits
        });
        set
    }

    /// The requests that no canonical redirect moves to another origin.
    pub(crate) fn at_home(&self) -> RequestSet<'r> {
        self.with_origins(|origin| self.is_home(origin))
    }

    /// Whether a local target leads to this origin, for some visitors.
    fn is_home(&self, origin: &Origin) -> bool {
        let upgraded = origin.scheme == Scheme::Http && self.edge.site().upgrades();
        origin.is_preview() || (origin.role == Role::Canonical && !upgraded)
    }

    /// The requests with a method that this lets through.
    pub(crate) fn with_methods(&self, wanted: impl Fn(&Method) -> bool) -> RequestSet<'r> {
        let mut all = self.all();
        all.pieces.iter_mut().for_each(|piece| {
            piece.methods.retain(|at| self.axes.methods.get(at).is_some_and(&wanted))
        });
        all
    }

    /// The requests that name a file of the site, by any URL variant.
    pub(crate) fn naming_a_file(&self) -> RequestSet<'r> {
        self.inside(&self.named)
    }

    /// The requests whose address ends like a file of a known type.
    pub(crate) fn of_known_type(&self) -> RequestSet<'r> {
        self.inside(&self.known_type)
    }

    fn inside(&self, leaf: &Arc<Leaf<'r>>) -> RequestSet<'r> {
        let mut all = self.below_a_base();
        all.pieces.iter_mut().for_each(|piece| piece.path.push((Arc::clone(leaf), true)));
        all
    }

    /// The requests with this path, below the base path of their host.
    pub(crate) fn at_path(&self, path: &str) -> RequestSet<'r> {
        self.inside(&Arc::new(Leaf::Word(symbols(path).collect())))
    }

    /// The requests that a rule's pattern matches and whose conditions hold.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let space = ravel_check::space::Space::new(&edge);
    /// let rule = &rules.rules(ravel::program::Stage::Redirect)[0];
    /// let ravel_check::space::Member::Shortest(request) = space.matching(rule).shortest(&space) else { panic!() };
    /// assert!(request.url().starts_with("https://h.example/a/"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn matching(&self, rule: &'r Rule) -> RequestSet<'r> {
        self.matching.of(rule, || self.asked_by(rule.pattern(), rule.tests(), rule.target()))
    }

    /// The requests that a pattern matches.
    pub fn of_pattern(&self, pattern: &'r Pattern) -> RequestSet<'r> {
        self.asked_by(pattern, Tests::NONE, None)
    }

    /// Those of them that pass tests of what it captures.
    pub(crate) fn of_pattern_where(
        &self,
        pattern: &'r Pattern,
        tests: &'r Tests,
    ) -> RequestSet<'r> {
        self.asked_by(pattern, tests, None)
    }

    /// Which rules of a stage could have an address in common with a pattern.
    pub(crate) fn overlaps(&self, stage: Stage) -> &Overlaps {
        self.overlaps[stage as usize].get_or_init(|| Overlaps::new(self.edge, stage))
    }

    /// The addresses of files that begin with a text, in order.
    pub(crate) fn addresses_below(&self, text: &str) -> impl Iterator<Item = &'r str> {
        let from = self.addresses.partition_point(|address| **address < *text);
        self.addresses[from..].iter().copied().take_while(move |address| address.starts_with(text))
    }

    /// The requests with the path of this one, on any host that has it.
    pub(crate) fn at(&self, request: &ravel::Request) -> RequestSet<'r> {
        let mut all = self.all();
        let path = request.address().map_or("/", ravel::address::Address::path);
        for piece in &mut all.pieces {
            match path.strip_prefix(&*self.axes.regions[piece.region].prefix) {
                Some(rest) => {
                    piece.path.push((Arc::new(Leaf::Word(symbols(rest).collect())), true))
                }
                None => piece.origins.retain(|_| false),
            }
        }
        all.pieces.retain(|piece| !piece.origins.is_empty());
        all
    }

    /// The requests with one of these paths, below the base path of their host.
    pub(crate) fn at_paths(&self, paths: &[String]) -> RequestSet<'r> {
        paths.iter().fold(RequestSet::default(), |all, path| all.or(&self.at_path(path)))
    }

    /// The rules of a stage.
    pub(crate) fn rules(
        &self,
        stage: Stage,
    ) -> impl DoubleEndedIterator<Item = RuleRef<'r>> + Clone + ExactSizeIterator {
        self.edge.program().rules(stage)
    }

    /// A rule of a stage by its number there.
    pub(crate) fn rule(&self, stage: Stage, number: u32) -> RuleRef<'r> {
        self.edge.program().numbered(stage, number)
    }
}
