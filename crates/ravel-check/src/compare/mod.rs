//! What a change does to visitors: all that two editions of a site answer differently.
//!
//! ```text
//!   old Edge, new Edge ──changed──▶ areas ──explore──▶ cells, one request of each asked ──class──▶ differences
//! ```
//!
//! Requests can only differ where a rule, a file or a setting is not the same, or where a redirect
//! leads there. These areas are cut into cells of which all requests are decided alike on both sides;
//! one of each is asked. A class is what requests have in common that differ in one way for one
//! reason, so each that differs is in one class.

mod areas;
mod changed;
mod class;
mod explore;
mod kind;
mod place;
mod reason;
mod split;
mod targets;
mod words;

pub use class::Reply;
pub use kind::{DifferenceKind, HeaderDifference};

use ravel::address::{Request, form_decode, parameters};
use ravel::edge::Edge;
use ravel::language::Line;

use crate::space::Cell;
use changed::Changed;
use class::{Class, Key};
use explore::Explorer;

/// All that two editions of a site answer differently.
#[derive(Debug)]
pub struct Comparison<'r> {
    edges: [&'r Edge; 2],
    keys: Vec<Key>,
    differences: Vec<Difference>,
    undecided: Option<(Explorer<'r>, Vec<(Cell<'r>, usize)>)>,
}

/// Requests that are answered differently in one way, for one reason.
#[derive(Debug, Clone)]
pub struct Difference {
    class: Class,
    why: Option<&'static str>,
}

/// Compares two editions of a site.
///
/// ```
/// use ravel::{Edge, FileList, Rules};
///
/// let site = "site https://h.example/\n";
/// let (old, new) = (Rules::parse(site)?, Rules::parse(&format!("{site}redirect /a -> /b\n"))?);
/// let files = FileList::from_iter(["a.html", "b.html"]);
/// let edges = [Edge::new(&old, files.clone()), Edge::new(&new, files)];
/// let comparison = ravel_check::compare(&edges[0], &edges[1]);
/// let first = &comparison.differences()[0];
/// assert_eq!(first.kind(), ravel_check::DifferenceKind::Target);
/// assert_eq!(first.example().url(), "https://h.example/a");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn compare<'r>(old: &'r Edge, new: &'r Edge) -> Comparison<'r> {
    let edges = [old, new];
    let changed = Changed::between(old, new);
    if changed.is_nothing() {
        let (keys, differences) = Default::default();
        return Comparison { edges, keys, differences, undecided: None };
    }
    let mut explorer = Explorer::new(old, new, &changed);
    explorer.run(&changed);
    let (keys, classes): (Vec<Key>, Vec<Class>) =
        std::mem::take(&mut explorer.classes).into_iter().unzip();
    let mut differences: Vec<Difference> =
        classes.into_iter().map(|class| Difference { class, why: None }).collect();
    let mut cells = Vec::new();
    let decided = differences.len();
    for (cell, why) in std::mem::take(&mut explorer.undecided) {
        explorer.pair.begin();
        let example = explorer.pair.example(&cell).ok().flatten();
        let origin = || Request::get(&explorer.pair.url(&cell, "/")).ok();
        let Some(example) = example.or_else(origin) else { continue };
        let class = Class::undecided(edges, &example);
        let is_same =
            |known: &Difference| known.why == Some(why) && known.class.pattern == class.pattern;
        match differences[decided..].iter().position(is_same) {
            Some(known) => cells.push((cell, decided + known)),
            None => {
                cells.push((cell, differences.len()));
                differences.push(Difference { class, why: Some(why) });
            }
        }
    }
    Comparison { edges, keys, differences, undecided: Some((explorer, cells)) }
}

impl<'r> Comparison<'r> {
    /// The differences, what hurts most first.
    pub fn differences(&self) -> &[Difference] {
        &self.differences
    }

    /// Counts requests that are known, each with how often it is made, in the differences that they
    /// fall into.
    ///
    /// ```
    /// # use ravel::{Edge, FileList, Request, Rules};
    /// # let site = "site https://h.example/\n";
    /// # let (old, new) = (Rules::parse(site)?, Rules::parse(&format!("{site}gone /a/{{x}}\n"))?);
    /// # let edges = [Edge::new(&old, FileList::default()), Edge::new(&new, FileList::default())];
    /// let mut comparison = ravel_check::compare(&edges[0], &edges[1]);
    /// comparison.count([(Request::get("https://h.example/a/1")?, 12)]);
    /// let first = &comparison.differences()[0];
    /// assert_eq!((first.urls(), first.hits()), (1, 12));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn count(&mut self, urls: impl IntoIterator<Item = (Request, u64)>) {
        for (request, times) in urls {
            if let Some(number) = self.difference_of(&request) {
                let class = &mut self.differences[number].class;
                class.urls += 1;
                class.hits = class.hits.saturating_add(times);
            }
        }
    }

    /// The number of the difference that a request falls into; none where both editions answer it
    /// alike.
    ///
    /// ```
    /// # use ravel::{Edge, FileList, Rules};
    /// # let site = "site https://h.example/\n";
    /// # let (old, new) = (Rules::parse(site)?, Rules::parse(&format!("{site}gone /a/{{x}}\n"))?);
    /// # let edges = [Edge::new(&old, FileList::default()), Edge::new(&new, FileList::default())];
    /// let comparison = ravel_check::compare(&edges[0], &edges[1]);
    /// let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(comparison.difference_of(&request), Some(0));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn difference_of(&self, request: &Request) -> Option<usize> {
        let (key, _) = Class::of(self.edges, request)?;
        if let Ok(known) = self.keys.binary_search(&key) {
            return Some(known);
        }
        let (explorer, cells) = self.undecided.as_ref()?;
        let inside = cells.iter().find(|(cell, _)| explorer.pair.has(cell, request));
        inside.map(|(_, number)| *number)
    }
}

impl Difference {
    /// How one request is answered differently, if it is; nothing else is in this difference.
    ///
    /// ```
    /// # use ravel::{Edge, FileList, Request, Rules};
    /// # let site = "site https://h.example/\n";
    /// # let (old, new) = (Rules::parse(site)?, Rules::parse(&format!("{site}gone /a/{{x}}\n"))?);
    /// # let edges = [Edge::new(&old, FileList::default()), Edge::new(&new, FileList::default())];
    /// let request = Request::get("https://h.example/a/1")?;
    /// let difference = ravel_check::Difference::of(&edges[0], &edges[1], &request).unwrap();
    /// assert_eq!(difference.kind(), ravel_check::DifferenceKind::Status);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(old: &Edge, new: &Edge, request: &Request) -> Option<Difference> {
        let (_, class) = Class::alone([old, new], request)?;
        Some(Difference { class, why: None })
    }

    /// In which way.
    pub fn kind(&self) -> DifferenceKind {
        self.class.kind
    }

    /// A request of it with a URL as short as any that was found.
    pub fn example(&self) -> &Request {
        &self.class.example
    }

    /// What the example got.
    pub fn before(&self) -> &Reply {
        &self.class.replies[0]
    }

    /// What it gets.
    pub fn after(&self) -> &Reply {
        &self.class.replies[1]
    }

    /// The headers that differ, where these alone do.
    pub fn headers(&self) -> &[HeaderDifference] {
        &self.class.headers
    }

    /// The lines of the old rules that it hangs on.
    pub fn old_lines(&self) -> impl Iterator<Item = Line> {
        self.class.lines[0].iter().copied()
    }

    /// The lines of the new rules that it hangs on.
    pub fn new_lines(&self) -> impl Iterator<Item = Line> {
        self.class.lines[1].iter().copied()
    }

    /// The pattern that all of its requests match, with an origin where it is about all that is asked
    /// there; none where it is about single paths.
    pub fn pattern(&self) -> Option<&str> {
        self.class.pattern.as_deref()
    }

    /// Single paths of it, if it has no pattern: the canonical paths of pages and those of rules for
    /// one path, and if there are none, others; at most 10 000. Those with empty segments are named
    /// only where there are no others.
    pub fn paths(&self) -> impl ExactSizeIterator<Item = &str> {
        let class = &self.class;
        let paths = if class.counted.is_empty() { &class.paths } else { &class.counted };
        let is_plain = |path: &&str| !path.contains("//");
        let mut named: Vec<&str> = paths.iter().map(String::as_str).collect();
        if class.pattern.is_some() {
            named.clear();
        }
        if named.iter().any(is_plain) {
            named.retain(is_plain);
        }
        named.into_iter()
    }

    /// Whether it is about URLs with empty segments alone, as `//about`, which `pages tidy` corrects.
    pub fn is_of_empty_segments(&self) -> bool {
        self.example().address().is_ok_and(|address| address.path().contains("//"))
    }

    /// Whether it is about URLs that give a parameter several times alone, as `/a?id=1&id=2`, which
    /// meet several rules.
    ///
    /// ```
    /// # use ravel::{Edge, FileList, Request, Rules};
    /// # let site = "site https://h.example/\n";
    /// # let (old, new) = (Rules::parse(site)?, Rules::parse(&format!("{site}gone /a?x=1\n"))?);
    /// # let edges = [Edge::new(&old, FileList::default()), Edge::new(&new, FileList::default())];
    /// let is_repeated = |url: &str| -> Result<bool, ravel::address::RequestError> {
    ///     let difference = ravel_check::Difference::of(&edges[0], &edges[1], &Request::get(url)?);
    ///     Ok(difference.is_some_and(|one| one.is_of_repeated_parameters()))
    /// };
    /// assert!(is_repeated("https://h.example/a?x=1&x=2")?);
    /// assert!(!is_repeated("https://h.example/a?x=1&y=1")?);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_of_repeated_parameters(&self) -> bool {
        let Ok(address) = self.example().address() else { return false };
        let mut keys: Vec<_> = parameters(address.query().unwrap_or_default())
            .map(|(_, key, _)| form_decode(key))
            .collect();
        let count = keys.len();
        keys.sort_unstable();
        keys.dedup();
        keys.len() < count
    }

    /// The built pages and other files, of either edition, that fall into it when somebody asks for
    /// their canonical URL.
    pub fn pages(&self) -> usize {
        self.class.pages
    }

    /// The paths of rules for one path that fall into it.
    pub fn rules(&self) -> usize {
        self.class.rules
    }

    /// The requests that were counted with [`Comparison::count`].
    pub fn urls(&self) -> usize {
        self.class.urls
    }

    /// How often these are made, in all.
    pub fn hits(&self) -> u64 {
        self.class.hits
    }

    /// Why it is undecided.
    pub fn why(&self) -> Option<&'static str> {
        self.why
    }
}
