//! Why requests are answered differently: what decides their answers on either side.

use std::collections::BTreeSet;

use http::header::STRICT_TRANSPORT_SECURITY;
use ravel::address::{Request, Scheme};
use ravel::edge::{Answer, Edge, Outcome, Walk};
use ravel::language::Line;
use ravel::program::{Effect, HeaderOp, Rule, Stage};
use ravel::template::QueryTest;

use super::kind::{DifferenceKind, HeaderDifference, starts};
use super::place::{ANY_PATH, Moved, have_same_page_urls};

/// Why requests are answered differently, as far as their class goes.
pub(super) struct Reason {
    pub(super) sides: [SideKey; 2],
    /// The lines of each side that it hangs on.
    pub(super) lines: [BTreeSet<Line>; 2],
    /// The pattern that all such requests match, where there is one.
    pub(super) pattern: Option<String>,
}

/// How a side answers, as far as the reason goes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct SideKey {
    /// The statuses on the way, of a loop the first; none where another service answers.
    statuses: Vec<Option<u16>>,
    /// What becomes of it in the end.
    end: Outcome,
    /// What decides the first answer, and the first that is not the same.
    causes: Vec<Cause>,
    /// The lines that set headers which differ.
    lines: Vec<Line>,
}

/// What decides how a request is answered on one side.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Cause {
    /// A rule, by its place in the program.
    Rule(usize),
    /// A rule for one URL, of which there may be very many, by the file that it is written in.
    Row(u16),
    /// A line of the settings.
    Setting(Line),
    /// A file that the URL names, by the folder that it is in.
    File(String),
    /// Where the site is: whether HTTPS is asked, and the setting that states the host.
    Place(bool, Option<Line>),
    /// Nothing.
    Nothing,
}

impl SideKey {
    /// Where ways do not matter.
    fn of(causes: Vec<Cause>, lines: Vec<Line>) -> SideKey {
        SideKey { statuses: Vec::new(), end: Outcome::File, causes, lines }
    }

    /// `places` are those of the answers that matter, `start` is the first that does of the way.
    fn of_walk(edge: &Edge, walk: &Walk<'_>, places: [usize; 2], start: usize) -> SideKey {
        let causes = places.iter().map(|at| {
            let (asked, explanation) = &walk.answers()[*at];
            let to = explanation.answer().location().unwrap_or(asked);
            match cause(edge, to, explanation.answer()) {
                // Behind a redirect, pages of all folders are come to alike.
                Cause::File(_) if *at > start => Cause::File(String::new()),
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

    /// Whether it has a reason in common with another.
    pub(super) fn has_causes_of(&self, other: &SideKey) -> bool {
        self.causes == other.causes
    }
}

impl Reason {
    /// Of headers that differ.
    pub(super) fn of_headers(
        edges: [&Edge; 2],
        walks: [&Walk<'_>; 2],
        differing: &[HeaderDifference],
    ) -> Reason {
        let lines = walks.map(|walk| {
            let headers = walk.first().answer().headers().iter();
            let setting = headers
                .filter(|header| differing.iter().any(|differs| differs.name() == header.name()));
            setting.filter_map(|header| header.line()).collect::<BTreeSet<Line>>()
        });
        let sides =
            lines.each_ref().map(|lines| SideKey::of(Vec::new(), lines.iter().copied().collect()));
        // A setting sends this one with all answers.
        let is_of_all = differing.iter().all(|header| header.name() == STRICT_TRANSPORT_SECURITY);
        let pattern = match is_of_all {
            true => Some(ANY_PATH.to_owned()),
            false => pattern(edges, [0, 1].map(|side| statement(edges[side], &lines[side]))),
        };
        Reason { sides, lines, pattern }
    }

    /// Of where the site is.
    pub(super) fn of_place(moved: Moved) -> Reason {
        let is_https = moved.scheme == Scheme::Https;
        let sides =
            moved.hosts.map(|line| SideKey::of(vec![Cause::Place(is_https, line)], Vec::new()));
        let lines = moved.lines.map(|line| line.into_iter().collect());
        Reason { sides, lines, pattern: Some(moved.pattern) }
    }

    /// Of the rules, files and settings that lead to where ways part.
    pub(super) fn of_ways(
        edges: [&Edge; 2],
        walks: [&Walk<'_>; 2],
        kind: DifferenceKind,
    ) -> Reason {
        let starts = starts(walks);
        let places = match kind {
            // They lead to one URL, whatever leads there.
            DifferenceKind::File => walks.map(|walk| [walk.answers().len() - 1; 2]),
            _ => places(walks, starts),
        };
        let answers =
            |side: usize| places[side].iter().map(move |at| walks[side].answers()[*at].1.answer());
        let mut sides = [0, 1]
            .map(|side| SideKey::of_walk(edges[side], walks[side], places[side], starts[side]));
        let mut causes: Vec<&mut Cause> =
            sides.iter_mut().flat_map(|side| &mut side.causes).collect();
        // Where a rule's pattern says which requests it is about, or a setting changes all pages,
        // folders do not matter.
        let is_of_all = causes.iter().any(|cause| matches!(cause, Cause::Rule(_)))
            || !have_same_page_urls(edges.map(Edge::site));
        for cause in causes.iter_mut().filter(|_| is_of_all) {
            if let Cause::File(folder) = cause {
                folder.clear();
            }
        }
        let lines = [0, 1].map(|side| answers(side).filter_map(Answer::line).collect());
        let rules = [0, 1].map(|side| {
            let rule = answers(side).find_map(Answer::rule)?;
            Some(edges[side].program().rule(rule).rule())
        });
        let is_nothing = |side: usize| {
            answers(side)
                .all(|answer| answer.rule().is_none() && answer.outcome() == Outcome::Missing)
        };
        let pattern = match is_nothing(0) && is_nothing(1) {
            true => Some(ANY_PATH.to_owned()),
            false => pattern(edges, rules),
        };
        Reason { sides, lines, pattern }
    }
}

pub(super) fn statuses(walk: &Walk<'_>) -> Vec<Option<u16>> {
    walk.answers().iter().map(|(_, explanation)| explanation.answer().status()).collect()
}

/// The answers of each walk that matter, by their places: the first, and from there the first that is
/// not the same on the other side.
fn places(walks: [&Walk<'_>; 2], starts: [usize; 2]) -> [[usize; 2]; 2] {
    let pairs = walks[0].answers().iter().zip(walks[1].answers());
    let same = pairs
        .take_while(|((asked, a), (other, b))| asked == other && alike(a.answer(), b.answer()));
    let apart = same.count();
    [0, 1].map(|side| {
        let last = walks[side].answers().len() - 1;
        [starts[side], apart.min(last).max(starts[side])]
    })
}

/// What decides an answer.
fn cause(edge: &Edge, url: &str, answer: &Answer<'_>) -> Cause {
    if let Some(id) = answer.rule() {
        let rule = edge.program().rule(id);
        let pattern = rule.pattern();
        let mut query = pattern.query().iter();
        let is_row = pattern.path().is_literal()
            && query.all(|part| matches!(part.test(), QueryTest::Text(_)));
        return match is_row {
            true => Cause::Row(rule.line().source()),
            false => Cause::Rule(id.index()),
        };
    }
    if let Some(line) = answer.line() {
        return Cause::Setting(line);
    }
    // What a file refuses is another method than GET.
    let is_of_file = match answer.outcome() {
        Outcome::File => answer.file().is_some(),
        Outcome::Redirect => true,
        _ => answer.status() == Some(405),
    };
    if is_of_file {
        return Cause::File(folder(edge, url));
    }
    Cause::Nothing
}

/// The first folder of a URL's path below the base path.
fn folder(edge: &Edge, url: &str) -> String {
    let request = Request::get(url).ok();
    let address = request.as_ref().and_then(|request| request.address().ok());
    let path = address.map_or("/", |address| address.path());
    let below = path.strip_prefix(edge.site().open_base()).unwrap_or(path);
    match below[1.min(below.len())..].split_once('/') {
        Some((folder, _)) => format!("/{folder}/"),
        None => "/".to_owned(),
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
pub(super) fn pattern(edges: [&Edge; 2], rules: [Option<&Rule>; 2]) -> Option<String> {
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
