use http::{HeaderName, HeaderValue};

use crate::language::Line;

/// What a `headers` statement does, and to which answers.
#[derive(Debug, Clone)]
pub struct HeaderRule {
    /// Which answers.
    pub on: On,
    /// What is done, in order.
    pub ops: Vec<HeaderOp>,
}

/// Which answers a `headers` statement is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum On {
    /// Answers that show a file with 200.
    Served,
    /// 404 and 410.
    Missing,
    /// Redirects.
    Redirects,
    /// All but 400, 421 and addresses outside the site.
    All,
}

/// One indented line of a `headers` statement.
#[derive(Debug, Clone)]
pub enum HeaderOp {
    /// Replaces every field of the name.
    Set(HeaderName, HeaderValue, Line),
    /// Adds a field.
    Add(HeaderName, HeaderValue, Line),
    /// Removes every field of the name.
    Drop(HeaderName, Line),
}

impl On {
    pub(crate) const NAMES: [(&'static str, On); 4] =
        [("served", On::Served), ("missing", On::Missing), ("redirects", On::Redirects), ("all", On::All)];

    pub(super) fn suffix(self) -> &'static str {
        match self {
            On::Served => "",
            On::Missing => " on missing",
            On::Redirects => " on redirects",
            On::All => " on all",
        }
    }
}
