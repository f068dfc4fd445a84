//! Redirects for old URLs that are missing, and what is not sure of them.

use crate::DraftError;
use crate::moves::{Move, NEAR, OldSite, SURE, moves};
use crate::security::count;
use crate::settings::Drafting;
use crate::shapes::shapes;
use crate::statements::{Statement, comment, text_of};

impl Drafting<'_, '_> {
    /// Redirects for old URLs that are missing.
    pub(crate) fn moves(&self, text: &str, old: &OldSite) -> Result<String, DraftError> {
        if old.is_empty() {
            return Ok(String::new());
        }
        let edge = self.edge(text)?;
        let (moves, lost) = moves(old, self.survey, &edge);
        let urls: Vec<&str> =
            moves.iter().map(|one| &*one.from).chain(lost.iter().map(String::as_str)).collect();
        let is_plain = |one: &&Move| !one.from.contains(['{', '}', ' ', '"', '#', '?']);
        let (near, mut unsure): (Vec<&Move>, Vec<&Move>) =
            moves.iter().partition(|one| one.score >= NEAR && is_plain(one));
        let (shapes, left) = shapes(near, &urls, &edge);
        let (rows, others): (Vec<&Move>, Vec<&Move>) =
            left.into_iter().partition(|one| one.score >= SURE);
        unsure.extend(others);
        let mut statements = Vec::new();
        for (shape, group) in &shapes {
            let least = group.iter().map(|one| one.score).fold(1.0, f64::min);
            let evidence = format!(
                "{} old URLs of this shape have such a page, alike by {least:.2} at least, as {}.",
                group.len(),
                group[0].from
            );
            statements.push(Statement::new(evidence, shape.statement()));
        }
        if !rows.is_empty() {
            let lines: String = rows
                .iter()
                .map(|one| {
                    format!("  {} -> {}  # {}, {:.2}\n", one.from, one.to, one.why, one.score)
                })
                .collect();
            let what = "Old URLs, and the page that each has gone to.";
            statements.push(Statement::new(what, format!("redirect permanent\n{lines}")));
        }
        let mut text = String::new();
        if !statements.is_empty() {
            text = format!("\n{}", text_of(&statements));
        }
        if !unsure.is_empty() {
            text += "\n# Not sure enough for a rule: take away the `#` where it is right.\n";
            for one in unsure {
                text += &format!(
                    "# redirect {} -> {} permanent  # {}, {:.2}\n",
                    one.from, one.to, one.why, one.score
                );
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
}
