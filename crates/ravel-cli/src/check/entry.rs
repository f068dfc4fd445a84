//! What each form of a report has of a finding.

use ravel::edit::Edit;
use ravel::finding::Finding;

use crate::load::LoadedSite;

/// A finding, or an error of the rules, as reports have it.
pub(super) struct Entry {
    pub(super) name: &'static str,
    pub(super) severity: &'static str,
    /// From the current folder.
    pub(super) path: String,
    pub(super) line: Option<u32>,
    pub(super) message: String,
    pub(super) note: Option<String>,
    pub(super) help: Option<String>,
    /// Other lines that have to do with it.
    pub(super) related: Vec<(String, u32)>,
    /// What to change so that it is gone.
    pub(super) edits: Vec<FileEdit>,
}

/// What is written in a file instead of some of its bytes.
#[derive(Clone, serde::Serialize)]
pub(super) struct FileEdit {
    /// From the current folder.
    pub(super) file: String,
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) text: String,
}

impl FileEdit {
    /// Those of a finding, in the files as they are.
    pub(super) fn all(loaded: &LoadedSite, finding: &Finding) -> Vec<FileEdit> {
        let of = |edit: &Edit| {
            let file = edit.file(loaded.rules());
            let text = match edit {
                Edit::InFile { name, .. } => {
                    String::from_utf8(loaded.bytes(name).ok()?.to_vec()).ok()?
                }
                _ => loaded.texts().get(&file)?.clone(),
            };
            let change = edit.of(&text)?;
            let (range, text) = (change.range(), change.text().to_owned());
            Some(FileEdit { file, start: range.start, end: range.end, text })
        };
        let edits: Option<Vec<FileEdit>> = finding.edits().iter().map(of).collect();
        edits.unwrap_or_default()
    }
}

/// What rules that cannot be read are named in reports.
pub(super) const UNREADABLE_RULES: &str = "unreadable-rules";
