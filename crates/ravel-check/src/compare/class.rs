//! Requests that differ in one way, for one reason.

use std::collections::BTreeSet;

use http::Method;
use ravel::address::Request;
use ravel::edge::{Edge, Outcome, Walk};
use ravel::language::Line;

use super::kind::{DifferenceKind, HeaderDifference, headers, kind};
use super::place::moved;
use super::reason::{Reason, SideKey, pattern, statuses};

/// The most paths that are kept of a class.
const MAX_PATHS: usize = 10_000;

/// What requests have in common that differ in one way.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Key {
    kind: DifferenceKind,
    sides: [SideKey; 2],
    headers: Vec<HeaderDifference>,
}

/// Requests that differ in one way, for one reason.
#[derive(Debug, Clone)]
pub(super) struct Class {
    pub(super) kind: DifferenceKind,
    pub(super) example: Request,
    /// Whether the example is asked somewhere else than at the canonical origin.
    is_away: bool,
    pub(super) replies: [Reply; 2],
    pub(super) headers: Vec<HeaderDifference>,
    pub(super) lines: [BTreeSet<Line>; 2],
    /// The pattern of the rule that all of it match, where there is one.
    pub(super) pattern: Option<String>,
    /// Single paths of it.
    pub(super) paths: BTreeSet<String>,
    /// Those of them that are pages' canonical paths, or those of rules for one path.
    pub(super) counted: BTreeSet<String>,
    pub(super) pages: usize,
    pub(super) rules: usize,
    pub(super) urls: usize,
    pub(super) hits: u64,
}

/// What a request gets on one side.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reply {
    statuses: Vec<Option<u16>>,
    url: String,
    outcome: Outcome,
    file: Option<String>,
    by: Option<String>,
}

impl Reply {
    /// The status of each answer on the way, the last one's last; none where another service answers.
    pub fn statuses(&self) -> &[Option<u16>] {
        &self.statuses
    }

    /// The URL where it ends.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// What becomes of it in the end.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }

    /// The file that is shown in the end.
    pub fn file(&self) -> Option<&str> {
        self.file.as_deref()
    }

    /// The rule that decides the first answer, in canonical form; none where it is a setting, a file
    /// or nothing.
    pub fn rule(&self) -> Option<&str> {
        self.by.as_deref()
    }

    fn of(edge: &Edge, walk: &Walk<'_>) -> Reply {
        let (_, last) = walk.last();
        let first = walk.first().answer().rule();
        Reply {
            statuses: statuses(walk),
            url: walk.url().to_owned(),
            outcome: walk.outcome(),
            file: last.answer().file().map(str::to_owned),
            by: first.map(|id| edge.program().rule(id).to_string()),
        }
    }
}

impl Class {
    /// The class of a request, with its key; none where both sides answer alike. A request with
    /// another method is in the class of the same with GET, where that hangs on the same.
    pub(super) fn of(edges: [&Edge; 2], request: &Request) -> Option<(Key, Class)> {
        let own = Class::alone(edges, request)?;
        if matches!(*request.method(), Method::GET | Method::HEAD) {
            return Some(own);
        }
        let address = request.address().ok()?.clone();
        let get = Request::of(Method::GET, address).with_headers(request.headers().clone());
        let is_same = |get: &Key, own: &Key| {
            get.sides.iter().zip(&own.sides).any(|(get, own)| get.has_causes_of(own))
        };
        match Class::alone(edges, &get) {
            Some(same) if is_same(&same.0, &own.0) => Some(same),
            _ => Some(own),
        }
    }

    /// The class of a request for itself, whatever its method.
    pub(super) fn alone(edges: [&Edge; 2], request: &Request) -> Option<(Key, Class)> {
        let walks = edges.map(|edge| edge.walk_unexplained(request));
        Class::of_walks(edges, request, walks.each_ref())
    }

    fn of_walks(
        edges: [&Edge; 2],
        request: &Request,
        walks: [&Walk<'_>; 2],
    ) -> Option<(Key, Class)> {
        let kind = kind(walks)?;
        let of_headers = matches!(kind, DifferenceKind::Headers | DifferenceKind::Lifetime);
        let differing = match of_headers {
            true => headers(walks[0].first().answer(), walks[1].first().answer()),
            false => Vec::new(),
        };
        let is_elsewhere = || moved(edges, request.address().ok()?, walks);
        let Reason { sides, lines, pattern } = match of_headers {
            true => Reason::of_headers(edges, walks, &differing),
            false => match is_elsewhere() {
                Some(moved) => Reason::of_place(moved),
                None => Reason::of_ways(edges, walks, kind),
            },
        };
        let path = request.address().map(|address| address.path().to_owned()).unwrap_or_default();
        let class = Class {
            kind,
            example: request.clone(),
            is_away: edges.iter().all(|edge| !request.url().starts_with(&edge.site().url())),
            replies: [0, 1].map(|side| Reply::of(edges[side], walks[side])),
            headers: differing.clone(),
            lines,
            paths: BTreeSet::from([path]),
            counted: BTreeSet::new(),
            pattern,
            pages: 0,
            rules: 0,
            urls: 0,
            hits: 0,
        };
        Some((Key { kind, sides, headers: differing }, class))
    }

    /// Requests of which it is not known whether they differ.
    pub(super) fn undecided(edges: [&Edge; 2], request: &Request) -> Class {
        let walks = edges.map(|edge| edge.walk_unexplained(request));
        let lines = [0, 1].map(|side| {
            let answers = walks[side].answers().iter();
            answers.filter_map(|(_, explanation)| explanation.answer().line()).collect()
        });
        let rules = [0, 1].map(|side| {
            let mut answers = walks[side].answers().iter().rev();
            let rule = answers.find_map(|(_, explanation)| explanation.answer().rule());
            rule.map(|rule| edges[side].program().rule(rule).rule())
        });
        let pattern = pattern(edges, rules);
        Class {
            kind: DifferenceKind::Undecided,
            example: request.clone(),
            is_away: edges.iter().all(|edge| !request.url().starts_with(&edge.site().url())),
            replies: [0, 1].map(|side| Reply::of(edges[side], &walks[side])),
            headers: Vec::new(),
            paths: BTreeSet::new(),
            counted: BTreeSet::new(),
            lines,
            pattern,
            pages: 0,
            rules: 0,
            urls: 0,
            hits: 0,
        }
    }

    /// Adds another request of the same class.
    pub(super) fn add(&mut self, other: Class) {
        let cost = |class: &Class| {
            let request = &class.example;
            // What shows a page matters more than what does not, where these are in one class.
            let is_nothing = class.replies.iter().all(|reply| reply.outcome != Outcome::File);
            let hops: usize = class.replies.iter().map(|reply| reply.statuses.len()).sum();
            let headers = request.headers().len();
            let length = request.url().len();
            (is_nothing, headers, class.is_away, hops, length, request.url().to_owned())
        };
        if cost(&other) < cost(self) {
            self.example = other.example;
            self.is_away = other.is_away;
            self.replies = other.replies;
        }
        for (lines, more) in self.lines.iter_mut().zip(other.lines) {
            lines.extend(more);
        }
        if self.pattern != other.pattern {
            self.pattern = None;
        }
        if self.paths.len() < MAX_PATHS {
            self.paths.extend(other.paths);
        }
    }
}
