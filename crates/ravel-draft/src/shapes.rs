//! Moves of one shape as one rule: where three or more go alike, and every old URL that the pattern
//! matches ends well.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use ravel::edge::Edge;
use ravel::finding::FindingPlace;
use ravel::language::Line;
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

/// A shape with the moves that it takes.
pub(crate) type Group<'m> = (Shape, Vec<&'m Move>);

/// The shapes that hold, with the moves that each takes; and the moves that are left. `urls` are
/// missing old URLs of which it is not known where they went.
pub(crate) fn shapes<'m>(
    moves: Vec<&'m Move>,
    urls: &[&str],
    edge: &Edge,
) -> (Vec<Group<'m>>, Vec<&'m Move>) {
    let mut groups: BTreeMap<Shape, Vec<usize>> = BTreeMap::new();
    for (number, one) in moves.iter().enumerate() {
        for shape in Shape::of(one) {
            groups.entry(shape).or_default().push(number);
        }
    }
    let mut sorted: Vec<(Shape, Vec<usize>)> =
        groups.into_iter().filter(|(_, group)| group.len() >= MIN_MOVES).collect();
    // Of as many moves, the pattern of one segment is for the fewest others.
    let width = |shape: &Shape| shape.from.contains("{/page*}");
    sorted.sort_by(|(a, ours), (b, theirs)| {
        theirs.len().cmp(&ours.len()).then(width(a).cmp(&width(b))).then(a.cmp(b))
    });
    // All are tried at once, and those that do not hold are left out of the next round.
    loop {
        let mut is_taken = vec![false; moves.len()];
        let mut tried: Vec<(usize, Group<'m>)> = Vec::new();
        for (at, (shape, group)) in sorted.iter().enumerate() {
            let own: Vec<usize> = group.iter().copied().filter(|one| !is_taken[*one]).collect();
            if own.len() < MIN_MOVES {
                continue;
            }
            own.iter().for_each(|one| is_taken[*one] = true);
            let own: Vec<&Move> = own.iter().map(|one| moves[*one]).collect();
            tried.push((at, (shape.clone().with_exceptions(&own, urls), own)));
        }
        let groups: Vec<&Group<'_>> = tried.iter().map(|(_, group)| group).collect();
        let failing = failing(&groups, urls, edge);
        if failing.is_empty() {
            let left = moves.iter().zip(is_taken).filter(|(_, taken)| !taken);
            let left = left.map(|(one, _)| *one).collect();
            return (tried.into_iter().map(|(_, group)| group).collect(), left);
        }
        let failing: HashSet<usize> = failing.iter().map(|number| tried[*number].0).collect();
        let mut at = 0..;
        sorted.retain(|_| at.next().is_some_and(|at| !failing.contains(&at)));
    }
}

/// Those of some shapes that do not lead each of their moves where it goes, or lead some old URL to
/// nothing, or are an error to the checks, such as a loop of URLs that nobody knows.
fn failing(groups: &[&Group<'_>], urls: &[&str], edge: &Edge) -> BTreeSet<usize> {
    if groups.is_empty() {
        return BTreeSet::new();
    }
    let site = edge.site();
    let pages = match site.pages() {
        ravel::program::Pages::Tidy => "tidy",
        ravel::program::Pages::Loose => "loose",
        ravel::program::Pages::Exact => "exact",
    };
    let mut text = format!("site {}\n  pages {pages}\n", site.url());
    // The first line of each.
    let mut lines = Vec::new();
    let mut next = text.lines().count() as u32 + 1;
    for (shape, _) in groups {
        let statement = shape.statement();
        lines.push(next);
        next += statement.lines().count() as u32;
        text += &statement;
    }
    let group_of =
        |line: Line| lines.partition_point(|first| *first <= line.number()).checked_sub(1);
    let rules = match Rules::parse(&text) {
        Ok(rules) => rules,
        Err(problems) => {
            let unread = problems.iter().map(|problem| group_of(problem.place().line()));
            // What is wrong with the site is wrong for all.
            let unread: Option<BTreeSet<usize>> = unread.collect();
            return unread.unwrap_or_else(|| (0..groups.len()).collect());
        }
    };
    let edge = Edge::new(&rules, edge.files().clone());
    let mut failing = BTreeSet::new();
    // The shapes on the way of a path that ends ill; what none matches is as missing as it was.
    let ill = |path: &str| -> Vec<usize> {
        let Ok(request) = Request::get(&edge.site().url_of(path)) else { return Vec::new() };
        let walk = edge.walk_unexplained(&request);
        if walk.outcome() == Outcome::File {
            return Vec::new();
        }
        let acting = walk.answers().iter().filter_map(|(_, one)| one.answer().line());
        acting.filter_map(group_of).collect()
    };
    for (number, (_, group)) in groups.iter().enumerate() {
        for one in group.iter().filter(|one| !one.is_made_by(&edge)) {
            let taken_by = Request::get(&edge.site().url_of(&one.from))
                .ok()
                .and_then(|request| edge.answer(&request).line())
                .and_then(group_of);
            // What another takes gets a row of its own.
            if taken_by.is_none_or(|by| by == number) {
                failing.insert(number);
            }
        }
    }
    failing.extend(urls.iter().flat_map(|path| ill(path)));
    let found = Audit::new(&edge).rules();
    let errors = found.iter().filter(|finding| {
        finding.code() != Code::MissingIndex && finding.code().severity() == Severity::Error
    });
    for finding in errors {
        if let FindingPlace::Line(line) = finding.place() {
            failing.extend(group_of(*line));
        }
    }
    failing
}
