//! Requests that differ in one way, for one reason.

use std::collections::BTreeSet;

use http::Method;
use ravel::address::Request;
use ravel::edge::{Answer, Edge, Outcome, Walk};
use ravel::language::Line;
use ravel::program::{Effect, HeaderOp, Rule, Stage};

use super::kind::{Cause, DifferenceKind, HeaderDifference, canonical_hops, cause, headers, kind};

/// The most paths that are kept of a class.
const MAX_PATHS: usize = 10_000;

/// What requests have in common that differ in one way.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Key {
    kind: DifferenceKind,
    sides: [SideKey; 2],
    headers: Vec<HeaderDifference>,
}

/// How a side answers, as far as the reason goes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct SideKey {
    /// The statuses on the way, of a loop the first; none where another service answers.
    statuses: Vec<Option<u16>>,
    /// What becomes of it in the end.
    end: Outcome,
    /// What decides the first answer, and the first that is not the same.
    causes: Vec<Cause>,
    /// The lines that set headers which differ.
    lines: Vec<Line>,
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

fn statuses(walk: &Walk<'_>) -> Vec<Option<u16>> {
    walk.answers().iter().map(|(_, explanation)| explanation.answer().status()).collect()
}

impl SideKey {
    /// Where headers alone differ, by the lines that set them.
    fn of_lines(lines: &BTreeSet<Line>) -> SideKey {
        let lines = lines.iter().copied().collect();
        SideKey { statuses: Vec::new(), end: Outcome::File, causes: Vec::new(), lines }
    }

    fn of_walk(edge: &Edge, walk: &Walk<'_>, places: [usize; 2]) -> SideKey {
        let causes = places.iter().map(|at| {
            let (asked, explanation) = &walk.answers()[*at];
            let to = explanation.answer().location().unwrap_or(asked);
            match cause(edge, to, explanation.answer()) {
                // Behind a redirect, pages of all folders are come to alike.
                Cause::File(_) if *at > places[0] => Cause::File(String::new()),
                cause => cause,
            }
        });
        let mut causes: Vec<Cause> = causes.collect();
        if places[0] == places[1] {
            causes.pop();
        }
        let mut statuses = statuses(walk).split_off(places[0]);
        if walk.outcome() == Outcome::Loop {
            // Where it comes back to hangs on where it began.
            statuses.truncate(1);
        }
        SideKey { statuses, end: walk.outcome(), causes, lines: Vec::new() }
    }
}

/// The answers of each walk that matter, by their places: the first that is not a redirect to the
/// canonical URL, and from there the first that is not the same on the other side.
fn places(walks: [&Walk<'_>; 2]) -> [[usize; 2]; 2] {
    let pairs = walks[0].answers().iter().zip(walks[1].answers());
    let same = pairs
        .take_while(|((asked, a), (other, b))| asked == other && alike(a.answer(), b.answer()));
    let apart = same.count();
    walks.map(|walk| {
        let from = canonical_hops(walk);
        [from, apart.min(walk.answers().len() - 1).max(from)]
    })
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
        let causes = |key: &Key, side: usize| key.sides[side].causes.clone();
        match Class::alone(edges, &get) {
            Some(same) if (0..2).any(|side| causes(&same.0, side) == causes(&own.0, side)) => {
                Some(same)
            }
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
        let kind = kind(walks[0], walks[1])?;
        let of_headers = matches!(kind, DifferenceKind::Headers | DifferenceKind::Lifetime);
        let differing = match of_headers {
            true => headers(walks[0].first().answer(), walks[1].first().answer()),
            false => Vec::new(),
        };
        let places = places(walks);
        let mut lines: [BTreeSet<Line>; 2] = Default::default();
        let sides = [0, 1].map(|side| match of_headers {
            true => {
                let headers = walks[side].first().answer().headers().iter();
                let setting = headers.filter(|header| {
                    differing.iter().any(|differs| differs.name() == header.name())
                });
                lines[side].extend(setting.filter_map(|header| header.line()));
                SideKey::of_lines(&lines[side])
            }
            false => {
                let matter = places[side].iter().map(|at| walks[side].answers()[*at].1.answer());
                lines[side].extend(matter.filter_map(Answer::line));
                SideKey::of_walk(edges[side], walks[side], places[side])
            }
        });
        let rules = [0, 1].map(|side| {
            if of_headers {
                return statement(edges[side], &lines[side]);
            }
            let mut deciding =
                places[side].iter().map(|at| walks[side].answers()[*at].1.answer().rule());
            let rule = deciding.find_map(|rule| rule)?;
            Some(edges[side].program().rule(rule).rule())
        });
        let pattern = pattern(edges, rules);
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
            let hops: usize = class.replies.iter().map(|reply| reply.statuses.len()).sum();
            let headers = request.headers().len();
            (headers, class.is_away, hops, request.url().len(), request.url().to_owned())
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

fn alike(a: &Answer<'_>, b: &Answer<'_>) -> bool {
    (a.status(), a.outcome(), a.location(), a.file())
        == (b.status(), b.outcome(), b.location(), b.file())
}

/// The statement of a program that sets one of some lines.
fn statement<'r>(edge: &'r Edge, lines: &BTreeSet<Line>) -> Option<&'r Rule> {
    let is_listed = |op: &HeaderOp| {
        let (HeaderOp::Set(.., line) | HeaderOp::Add(.., line) | HeaderOp::Drop(_, line)) = op;
        lines.contains(line)
    };
    let mut statements = edge.program().stage(Stage::Headers).iter();
    statements.find(|rule| match rule.effect() {
        Effect::Headers(effect) => effect.ops().iter().any(is_listed),
        _ => false,
    })
}

/// The pattern that says best which requests a class is about, of the rules that decide on either
/// side, with its conditions; none where each is for one path.
fn pattern(edges: [&Edge; 2], rules: [Option<&Rule>; 2]) -> Option<String> {
    let sides = edges.into_iter().zip(rules).rev();
    let named = sides.filter_map(|(edge, rule)| Some((edge, rule?)));
    let open = named.filter(|(_, rule)| {
        !(rule.pattern().path().is_literal() && rule.pattern().query().is_empty())
    });
    let (edge, rule) = open.max_by_key(|(_, rule)| rule.pattern().path().literal_prefix().len())?;
    let languages = edge.site().languages();
    let tests = rule.tests().iter().map(|test| format!(" {}", test.written(languages)));
    Some(format!("{}{}", rule.pattern(), tests.collect::<String>()))
}
