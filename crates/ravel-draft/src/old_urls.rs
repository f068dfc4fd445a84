//! Redirects for old URLs that are missing, and what is not sure of them.

use std::cmp::Reverse;

use ravel::edge::Edge;
use ravel::language::format;

use crate::DraftError;
use crate::candidate::SURE;
use crate::matching::moves;
use crate::moves::{Move, OldSite};
use crate::security::count;
use crate::settings::Drafting;
use crate::shapes::{Group, shapes};
use crate::statements::{Statement, comment, text_of};
use crate::survey::Survey;

impl Drafting<'_, '_> {
    /// Redirects for old URLs that are missing.
    pub(crate) fn moves(
        &self,
        text: &str,
        old: &OldSite,
        looked_at: &dyn Fn(&str),
    ) -> Result<String, DraftError> {
        if old.is_empty() {
            return Ok(String::new());
        }
        let edge = self.edge(text)?;
        let found = moves(old, self.survey, &edge, looked_at);
        redirects_for(&found, &edge, &|more| self.edge(&format!("{text}\n{more}")))
    }
}

/// Where URLs that are missing have gone, as far as pages and their paths tell; each old URL is told
/// when it was looked at.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "guide/timetable.html"]));
/// let read = |_: &str| Ok::<_, String>(b"<p>Hello".to_vec());
/// let (old, _) = ravel_draft::OldSite::of_urls("https://h.example/", ["/timetable.php"]);
/// let moved = ravel_draft::suggestions(&edge, read, &old, &|_| ());
/// assert_eq!(moved[0].to(), "/guide/timetable");
/// # Ok::<(), ravel::language::Problems>(())
/// ```
pub fn suggestions<E>(
    edge: &Edge,
    read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
    old: &OldSite,
    looked_at: &dyn Fn(&str),
) -> Vec<Move> {
    let survey = Survey::of_pages(edge.files(), old.depth(), &read);
    moves(old, &survey, edge, looked_at).0
}

/// Redirects for URLs that are missing on an edge, to be added to its rules; `with` makes the edge
/// with more rules.
///
/// # Errors
/// Those of `with`.
pub fn redirects<E>(
    edge: &Edge,
    read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
    old: &OldSite,
    with: &dyn Fn(&str) -> Result<Edge, DraftError>,
) -> Result<String, DraftError> {
    let survey = Survey::of_pages(edge.files(), old.depth(), &read);
    let text = redirects_for(&moves(old, &survey, edge, &|_| ()), edge, with)?;
    format(text.trim_start()).map_err(|problems| DraftError::Rules(format!("{problems:?}")))
}

/// Redirects for what has moved, and what is not sure of them as comments.
fn redirects_for(
    (moves, lost): &(Vec<Move>, Vec<String>),
    edge: &Edge,
    with: &dyn Fn(&str) -> Result<Edge, DraftError>,
) -> Result<String, DraftError> {
    let is_plain = |one: &&Move| !one.from.contains(['{', '}', ' ', '"', '#', '?']);
    let (near, mut unsure): (Vec<&Move>, Vec<&Move>) =
        moves.iter().partition(|one| one.is_near() && is_plain(one));
    // Those that are sure have a row of their own, above all patterns.
    let unknown = moves.iter().filter(|one| one.score < SURE).map(|one| &*one.from);
    let urls: Vec<&str> = unknown.chain(lost.iter().map(String::as_str)).collect();
    let (shapes, left) = shapes(near, &urls, edge);
    let (mut rows, others): (Vec<&Move>, Vec<&Move>) =
        left.into_iter().partition(|one| one.score >= SURE);
    unsure.extend(others);
    // What is asked most comes first.
    rows.sort_by_key(|one| Reverse(one.requests));
    unsure.sort_by_key(|one| Reverse(one.requests));
    let mut statements = written(&rows, &shapes);
    // One that another's pattern takes has a row of its own, which comes first.
    let all = with(&text_of(&statements))?;
    let grouped = shapes.iter().flat_map(|(_, group)| group);
    let misled: Vec<&Move> = grouped.copied().filter(|one| !one.is_made_by(&all)).collect();
    if !misled.is_empty() {
        rows.extend(misled);
        statements = written(&rows, &shapes);
    }
    let mut text = String::new();
    if !statements.is_empty() {
        text = format!("\n{}", text_of(&statements));
    }
    if !unsure.is_empty() {
        text += "\n# Not sure enough for a rule: take away the `#` where it is right.\n";
        for one in unsure {
            text +=
                &format!("# redirect {} -> {} permanent  # {}\n", one.from, one.to, one.evidence());
        }
    }
    if !lost.is_empty() {
        let first: Vec<&str> = lost.iter().take(5).map(String::as_str).collect();
        let more = if lost.len() > 5 { ", …" } else { "" };
        let what = format!(
            "{} no page that is like {}: {}{more}",
            count(lost.len(), "old URL has", "old URLs have"),
            if lost.len() == 1 { "it" } else { "them" },
            first.join(", ")
        );
        text += &format!("\n{}", comment(&what, ""));
    }
    Ok(text)
}

/// Rows for single URLs, and then a rule for each shape.
fn written(rows: &[&Move], shapes: &[Group<'_>]) -> Vec<Statement> {
    let mut statements = Vec::new();
    if !rows.is_empty() {
        let row = |one: &&Move| format!("  {} -> {}  # {}\n", one.from, one.to, one.evidence());
        let lines: String = rows.iter().map(row).collect();
        let what = "Old URLs, and the page that each has gone to.";
        statements.push(Statement::new(what, format!("redirect permanent\n{lines}")));
    }
    for (shape, group) in shapes {
        let least = group.iter().map(|one| one.score).fold(1.0, f64::min);
        let evidence = format!(
            "{} old URLs of this shape have such a page, alike by {least:.2} at least, as {}.",
            group.len(),
            group[0].from
        );
        statements.push(Statement::new(evidence, shape.statement()));
    }
    statements
}
