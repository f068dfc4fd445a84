//! What the checks say to write, with why.

use std::cmp::Reverse;
use std::fmt;

use ravel::edit::Edit;
use ravel::finding::{Finding, FindingPlace};
use ravel::rules::Code;
use ravel_check::{Audit, is_build_manifest};

use crate::DraftError;
use crate::settings::Drafting;
use crate::statements::{comment, sentence};

/// So many views of an app are named.
const MAX_VIEWS: usize = 8;
/// So often what the checks say to write is written.
const MAX_ROUNDS: usize = 4;

impl Drafting<'_, '_> {
    /// What a statement rests on that a finding asks for.
    fn evidence(&self, finding: &Finding) -> String {
        match (finding.code(), finding.place()) {
            (Code::AppWithoutFallback, FindingPlace::File { name, .. }) => {
                let router = match self.survey.has_router {
                    true => "are the app's own? Narrow the pattern if not all of them.",
                    false => "it reads is not seen: take this out if it has no router.",
                };
                let views: Vec<&str> =
                    self.survey.views.iter().take(MAX_VIEWS).map(String::as_str).collect();
                let named = match views.as_slice() {
                    [] => String::new(),
                    views => format!(" Scripts name views at {}.", views.join(", ")),
                };
                format!(
                    "`{name}` is a single-page app: its scripts fill an empty element. Which paths \
                     below {router}{named}"
                )
            }
            _ => sentence(finding.message().to_owned()),
        }
    }

    /// The rules with all that the checks say to write, each with why.
    pub(crate) fn with_help<E: fmt::Display>(
        &self,
        mut text: String,
        read: &impl Fn(&str) -> Result<Vec<u8>, E>,
    ) -> Result<String, DraftError> {
        // What else pages refer to is not what is written.
        let is_app = |name: &str| self.survey.pages.get(name).is_some_and(|page| page.may_be_app);
        let files = self.survey.names.iter().copied();
        let files: Vec<(&str, Vec<u8>)> = files
            .filter(|name| is_app(name) || is_build_manifest(name))
            .filter_map(|name| Some((name, read(name).ok()?)))
            .collect();
        for _ in 0..MAX_ROUNDS {
            let edge = self.edge(&text)?;
            let mut audit = Audit::new(&edge);
            files.iter().for_each(|(name, bytes)| audit.read(name, bytes));
            let mut found = audit.content();
            found.extend(audit.names());
            let report = audit.report(found);
            let mut wanted: Vec<(&Finding, &str)> = report
                .findings()
                .iter()
                .filter(|finding| says_what_to_write(finding))
                .flat_map(|finding| finding.edits().iter().map(move |edit| (finding, edit)))
                .filter_map(|(finding, edit)| match edit {
                    Edit::AtEnd { text } => Some((finding, text.as_str())),
                    _ => None,
                })
                .collect();
            // What is deeper comes first, or nothing would be left for it; an index file speaks for
            // its folder.
            wanted.sort_by_key(|(finding, _)| place_order(finding));
            let before = text.len();
            for (finding, more) in wanted {
                let head = more.split(" -> ").next().unwrap_or(more);
                if !text.contains(&format!("\n{head}")) {
                    text += &format!("\n{}{more}", comment(&self.evidence(finding), ""));
                }
            }
            if text.len() == before {
                break;
            }
        }
        Ok(text)
    }
}

/// Deeper folders first, and of one folder its index file.
fn place_order(finding: &Finding) -> (Reverse<usize>, bool, String) {
    let FindingPlace::File { name, .. } = finding.place() else {
        return (Reverse(0), false, String::new());
    };
    let is_index = name.rsplit('/').next() == Some("index.html");
    (Reverse(name.matches('/').count()), !is_index, name.to_string())
}

/// Whether a finding says what to write at the end of the rules, about what the build is.
fn says_what_to_write(finding: &Finding) -> bool {
    matches!(finding.code(), Code::AppWithoutFallback | Code::AssetNotCached)
        && !finding.edits().is_empty()
        && finding.edits().iter().all(|edit| matches!(edit, Edit::AtEnd { .. }))
}
