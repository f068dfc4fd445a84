//! What each form of a report has of a finding.

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
}

/// What rules that cannot be read are named in reports.
pub(super) const UNREADABLE_RULES: &str = "unreadable-rules";
