//! Requests counted by what visitors get: each distinct one is decided once.
//!
//! ```text
//!   lines ──LogReader──▶ METHOD URL, status, day ──▶ shards ──▶ TallyReport
//!   hits  ───────────────────────▲       merge ◀──── partial ◀──┘
//! ```

mod partial;
mod queue;
mod reader;
mod report;
mod shard;
mod sums;
mod table;
mod verdict;

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::hash::BuildHasher;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use foldhash::fast::RandomState;
use ravel::address::Scheme;
use ravel::edge::Edge;
use url::Url;

pub use partial::PartialError;
pub use reader::LogReader;
pub use report::{DifferingStatus, EndingCount, RuleHits, TalliedUrl, TallyReport};
pub use verdict::Ending;

use crate::Hit;
use crate::log::{Day, LoggedRequest, Place, Urlless};
use queue::{Queue, Rare, Waiting};
use shard::Shard;
use verdict::Judge;

/// What is counted is shared out among so many tables, so that threads seldom wait.
const SHARDS: usize = 32;
/// So many lines that cannot be read are kept as examples.
const MAX_EXAMPLES: usize = 5;

/// Where requests are counted, by what the rules answer.
///
/// Counting takes `&self`: any number of threads may do so at once.
///
/// ```
/// use ravel_traffic::{Ending, Tally, TallyOptions};
///
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /old -> /\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html"]));
/// let tally = Tally::new(&edge, &TallyOptions::default())?;
/// tally.count(["/", "/old", "/", "/gone"].map(ravel_traffic::Hit::of))?;
/// let report = tally.report(10);
/// assert_eq!((report.requests(), report.urls()), (4, 3));
/// assert_eq!(report.missing()[0].url(), "https://h.example/gone");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct Tally<'e> {
    judge: Judge<'e>,
    /// The origin of requests that do not say theirs.
    at: String,
    with_query: bool,
    budget: usize,
    hasher: RandomState,
    shards: Box<[Mutex<Shard>]>,
    others: Mutex<Others>,
    /// Bytes that the shards take.
    bytes: AtomicUsize,
    lines: AtomicU64,
}

/// How requests are counted.
#[derive(Debug, Clone)]
pub struct TallyOptions {
    at: Option<String>,
    with_query: bool,
    budget: usize,
}

/// The most that a tally takes unless it is said, in bytes.
const BUDGET: usize = 1 << 30;

impl Default for TallyOptions {
    fn default() -> TallyOptions {
        TallyOptions { at: None, with_query: true, budget: BUDGET }
    }
}

impl TallyOptions {
    /// With the origin of requests that do not say theirs, as `https://h.example`; the canonical one
    /// where it is not said.
    #[must_use]
    pub fn at(mut self, origin: Option<String>) -> TallyOptions {
        self.at = origin;
        self
    }

    /// Without the queries of URLs.
    #[must_use]
    pub fn without_queries(mut self, without: bool) -> TallyOptions {
        self.with_query = !without;
        self
    }

    /// With the most bytes that distinct URLs may take; 1 GiB unless it is said.
    #[must_use]
    pub fn budget(mut self, bytes: usize) -> TallyOptions {
        self.budget = bytes;
        self
    }
}

/// What is no request, or is about no URL.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
struct Others {
    urlless: BTreeMap<Urlless, u64>,
    unread: u64,
    /// The first of them by source and place.
    examples: BTreeSet<UnreadLine>,
    /// Days of requests that another tally counted.
    days: BTreeMap<Day, BTreeMap<Ending, u64>>,
}

/// A line that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct UnreadLine {
    source: String,
    /// Its first byte, where that is known.
    at: Option<u64>,
    why: String,
}

impl fmt::Display for UnreadLine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.at {
            Some(at) => write!(f, "{}, at byte {at}: {}", self.source, self.why),
            None => f.write_str(&self.why),
        }
    }
}

/// Why a tally cannot be made, or not go on.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum TallyError {
    /// It is not an origin.
    Origin(String),
    /// Distinct URLs take more than is allowed, in bytes; so many are counted.
    Memory {
        /// The most that is allowed.
        budget: usize,
        /// Distinct requests.
        urls: u64,
    },
}

impl fmt::Display for TallyError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            TallyError::Origin(text) => write!(
                f,
                "`{text}` is not an origin; write scheme and host alone, as `https://harbour.example`"
            ),
            TallyError::Memory { budget, urls } => write!(
                f,
                "{urls} distinct URLs take more than the {budget} bytes that are allowed; allow more with \
                 `--memory`, leave out queries with `--no-query`, or count the sources in parts \
                 (`--partial FILE` for each) and merge them with `--merge` where there is more"
            ),
        }
    }
}

impl std::error::Error for TallyError {}

impl<'e> Tally<'e> {
    /// Begins to count by what an edge answers.
    ///
    /// # Errors
    /// An origin that is none.
    pub fn new(edge: &'e Edge, options: &TallyOptions) -> Result<Tally<'e>, TallyError> {
        let site = edge.site();
        let at = match &options.at {
            Some(origin) => origin.trim_end_matches('/').to_ascii_lowercase(),
            None => format!("{}://{}", site.scheme(), site.host()),
        };
        let wrong = || TallyError::Origin(options.at.clone().unwrap_or_default());
        let url = Url::parse(&at).map_err(|_| wrong())?;
        let scheme = match url.scheme() {
            "https" => Scheme::Https,
            "http" => Scheme::Http,
            _ => return Err(wrong()),
        };
        let host = at.split_once("://").map(|(_, host)| host).ok_or_else(wrong)?;
        if host.is_empty() || host.contains(['/', '?', '#', '@']) {
            return Err(wrong());
        }
        let hasher = RandomState::default();
        let shard = |_| Mutex::new(Shard::new(hasher.clone()));
        Ok(Tally {
            judge: Judge::new(edge, scheme, host),
            with_query: options.with_query,
            budget: options.budget,
            shards: (0..SHARDS).map(shard).collect(),
            hasher,
            others: Mutex::default(),
            bytes: AtomicUsize::new(0),
            lines: AtomicU64::new(0),
            at,
        })
    }

    /// Counts requests that a program has.
    ///
    /// # Errors
    /// Too many distinct ones for the memory that is allowed.
    pub fn count(&self, hits: impl IntoIterator<Item = Hit>) -> Result<(), TallyError> {
        let site = self.judge.edge.site();
        let mut text = Vec::new();
        for hit in hits {
            text.clear();
            let url = site.url_of(hit.url());
            let method = hit.method().map_or("GET", http::Method::as_str).as_bytes();
            let place = Place { scheme: None, host: None };
            let asked = LoggedRequest::Parts(Cow::Borrowed(method), Cow::Borrowed(url.as_bytes()));
            self.lines.fetch_add(1, Ordering::Relaxed);
            match asked.write(place, self.at.as_bytes(), self.with_query, &mut text) {
                Err(why) => *locked(&self.others).urlless.entry(why).or_default() += hit.count(),
                Ok(()) => self.count_one(&text, hit.status(), hit.day(), hit.count()),
            }
            self.is_within_budget()?;
        }
        Ok(())
    }

    fn count_one(&self, text: &[u8], status: Option<u16>, day: Option<Day>, count: u64) {
        let hash = self.hasher.hash_one(text);
        let rare = Rare { count, with_headers: None };
        let one = Waiting { text, hash, status: status.unwrap_or(0), day, rare: Some(&rare) };
        self.add(one.shard(), std::slice::from_ref(&one));
    }

    /// Notes a line that cannot be read.
    pub fn unread(&self, source: &str, why: &str) {
        let (source, why) = (source.to_owned(), why.to_owned());
        self.note_unread(UnreadLine { source, at: None, why });
    }

    /// Lines and entries that were read so far.
    pub fn lines(&self) -> u64 {
        self.lines.load(Ordering::Relaxed)
    }

    /// Bytes that distinct URLs take.
    pub fn bytes(&self) -> usize {
        self.bytes.load(Ordering::Relaxed)
    }

    fn note_unread(&self, line: UnreadLine) {
        let mut others = locked(&self.others);
        others.unread += 1;
        others.examples.insert(line);
        if others.examples.len() > MAX_EXAMPLES {
            others.examples.pop_last();
        }
    }

    /// Hands what waits over to the shards.
    fn hand_over(&self, queue: &mut Queue<'_>) {
        queue.shards().for_each(|(number, waiting)| self.add(number, waiting));
        queue.clear();
    }

    fn add(&self, number: usize, waiting: &[Waiting<'_>]) {
        let mut shard = locked(&self.shards[number]);
        let before = shard.bytes();
        shard.count_all(waiting, &self.judge);
        let more = shard.bytes() - before;
        if more > 0 {
            self.bytes.fetch_add(more, Ordering::Relaxed);
        }
    }

    fn is_within_budget(&self) -> Result<(), TallyError> {
        if self.bytes() <= self.budget {
            return Ok(());
        }
        let urls = self.shards.iter().map(|shard| locked(shard).len() as u64).sum();
        Err(TallyError::Memory { budget: self.budget, urls })
    }
}

/// What another thread left behind is whole: nothing is changed by halves.
fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
