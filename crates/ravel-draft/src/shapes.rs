//! Moves of one shape as one rule: where three or more go alike, and every old URL that the pattern
//! matches ends well.

use std::collections::BTreeMap;

use ravel::edge::Edge;
use ravel::finding::Finding;
use ravel::rules::{Code, Severity};
use ravel::{Outcome, Request, Rules};
use ravel_check::Audit;

use crate::moves::Move;

/// So many moves of one shape are one rule.
const MIN_MOVES: usize = 3;

/// A rule for moves of one shape.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Shape {
    pub(crate) from: String,
    pub(crate) to: String,
    /// What is known of captures: lines below the rule.
    pub(crate) tests: Vec<String>,
}

impl Shape {
    /// The rule, which takes no file away.
    pub(crate) fn statement(&self) -> String {
        let tests: String = self.tests.iter().map(|test| format!("  {test}\n")).collect();
        format!("redirect {} -> {} permanent\n{tests}  when no file\n", self.from, self.to)
    }

    /// Without the names of a few old URLs that it would match too, and of which it is not known
    /// where they went.
    fn with_exceptions(mut self, group: &[&Move], urls: &[&str]) -> Shape {
        let Some((before, after)) = self.from.split_once("{page}") else { return self };
        let name = |url: &str| {
            let name = url.strip_prefix(before)?.strip_suffix(after)?;
            (!name.is_empty() && !name.contains('/')).then(|| name.to_owned())
        };
        let others: Vec<String> = urls.iter().filter_map(|url| name(url)).collect();
        let is_plain = |name: &String| {
            name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte))
        };
        let are_few = others.len() * 4 <= group.len();
        if !others.is_empty() && are_few && others.iter().all(is_plain) {
            self.tests.push(format!("where page is not one of {}", others.join(", ")));
        }
        self
    }

    /// The shapes that a move could have.
    fn of(one: &Move) -> Vec<Shape> {
        let mut shapes = Vec::new();
        // A pattern of all URLs would lead those that are missing to nothing.
        let tails = tails(&one.from, &one.to).filter(|(from, ..)| !from.is_empty());
        if let Some((from, to, _)) = tails {
            let (from, tests) = without_numbers(from);
            shapes.push(Shape {
                from: format!("{from}{{/page*}}"),
                to: format!("{to}{{/page*}}"),
                tests,
            });
        }
        let (from, to) = (Ending::of(&one.from), Ending::of(&one.to));
        if from.name == to.name && !from.name.is_empty() {
            let (before, tests) = without_numbers(from.folder);
            let from = format!("{before}/{{page}}{}", from.ending);
            shapes.push(Shape { from, to: format!("{}/{{page}}{}", to.folder, to.ending), tests });
        }
        shapes.retain(|shape| shape.from != shape.to);
        shapes
    }
}

/// A path in front of its last name, the name, and what is behind it.
struct Ending<'p> {
    folder: &'p str,
    name: &'p str,
    ending: &'p str,
}

impl<'p> Ending<'p> {
    fn of(path: &'p str) -> Ending<'p> {
        let open = path.trim_end_matches('/');
        let at = open.rfind('/').map_or(0, |at| at + 1);
        let end = open[at..].find('.').map_or(open.len(), |dot| at + dot);
        Ending { folder: &path[..at.saturating_sub(1)], name: &path[at..end], ending: &path[end..] }
    }
}

/// What is before the longest end that two paths have in common, from a `/` on.
fn tails<'p>(from: &'p str, to: &'p str) -> Option<(&'p str, &'p str, &'p str)> {
    let starts = from.match_indices('/').map(|(at, _)| at);
    let at = starts.into_iter().find(|at| to.ends_with(&from[*at..]) && from.len() > at + 1)?;
    let tail = &from[at..];
    Some((&from[..at], &to[..to.len() - tail.len()], tail))
}

/// A path with names in place of segments that are numbers, and what is known of them.
fn without_numbers(path: &str) -> (String, Vec<String>) {
    const NAMES: [&str; 5] = ["first", "second", "third", "fourth", "fifth"];
    let (mut text, mut tests) = (String::new(), Vec::new());
    for segment in path.split('/').skip(1) {
        let is_number = !segment.is_empty() && segment.bytes().all(|byte| byte.is_ascii_digit());
        match NAMES.get(tests.len()).filter(|_| is_number) {
            Some(name) => {
                text += &format!("/{{{name}}}");
                tests.push(format!("where {name} is digits {}", segment.len()));
            }
            None => text += &format!("/{segment}"),
        }
    }
    (text, tests)
}

/// The shapes that hold, with the moves that each takes; and the moves that are left. `urls` are
/// missing old URLs of which it is not known where they went.
pub(crate) fn shapes<'m>(
    moves: Vec<&'m Move>,
    urls: &[&str],
    edge: &Edge,
) -> (Vec<(Shape, Vec<&'m Move>)>, Vec<&'m Move>) {
    let mut groups: BTreeMap<Shape, Vec<&Move>> = BTreeMap::new();
    for one in &moves {
        for shape in Shape::of(one) {
            groups.entry(shape).or_default().push(one);
        }
    }
    let mut sorted: Vec<(Shape, Vec<&Move>)> =
        groups.into_iter().filter(|(_, group)| group.len() >= MIN_MOVES).collect();
    // Of as many moves, the pattern of one segment is for the fewest others.
    let width = |shape: &Shape| shape.from.contains("{/page*}");
    sorted.sort_by(|(a, ours), (b, theirs)| {
        theirs.len().cmp(&ours.len()).then(width(a).cmp(&width(b))).then(a.cmp(b))
    });
    let (mut found, mut left) = (Vec::new(), moves);
    for (shape, _) in sorted {
        let group: Vec<&Move> =
            left.iter().copied().filter(|one| Shape::of(one).contains(&shape)).collect();
        if group.len() < MIN_MOVES {
            continue;
        }
        let shape = shape.with_exceptions(&group, urls);
        if holds(&shape, &group, urls, edge) {
            left.retain(|one| !group.contains(one));
            found.push((shape, group));
        }
    }
    (found, left)
}

/// Whether a rule leads each of its moves where it goes, and no old URL to nothing.
fn holds(shape: &Shape, group: &[&Move], urls: &[&str], edge: &Edge) -> bool {
    let site = edge.site();
    let pages = match site.pages() {
        ravel::program::Pages::Tidy => "tidy",
        ravel::program::Pages::Loose => "loose",
        ravel::program::Pages::Exact => "exact",
    };
    let text = format!("site {}\n  pages {pages}\n{}", site.url(), shape.statement());
    let Ok(rules) = Rules::parse(&text) else { return false };
    let edge = Edge::new(&rules, edge.files().clone());
    let end = |path: &str| {
        let request = Request::get(&edge.site().url_of(path)).ok()?;
        let walk = edge.walk_unexplained(&request);
        Some((walk.hops(), walk.outcome()))
    };
    // What it does not match is as missing as it was.
    let is_well = |path: &&str| {
        end(path).is_some_and(|(hops, outcome)| {
            outcome == Outcome::File || (hops == 0 && outcome == Outcome::Missing)
        })
    };
    group.iter().all(|one| one.is_made_by(&edge))
        && urls.iter().all(is_well)
        && causes_no_error(&edge)
}

/// Whether the checks find no error, such as a loop of URLs that nobody knows.
fn causes_no_error(edge: &Edge) -> bool {
    let found = Audit::new(edge).rules();
    let is_of_rule = |finding: &&Finding| finding.code() != Code::MissingIndex;
    !found.iter().filter(is_of_rule).any(|finding| finding.code().severity() == Severity::Error)
}
