//! What a rule does.

use http::{HeaderName, HeaderValue};

use crate::language::Line;
use crate::template::Target;

/// What a rule does.
#[derive(Debug, Clone)]
pub enum Effect {
    /// Sends the visitor on.
    Redirect(Redirect),
    /// Answers 410.
    Gone,
    /// Leaves the URL to another service, which may be named.
    Elsewhere(Option<Box<str>>),
    /// Shows a file with 200; boxed, so that a redirect, of which there may be very many, is no
    /// larger.
    File(Box<FileEffect>),
    /// Shows a file with 404 when nothing answers.
    NotFoundPage(Target),
    /// Changes headers of the answer.
    Headers(Box<HeaderEffect>),
}

/// Where a redirect leads, and how.
#[derive(Debug, Clone)]
pub struct Redirect {
    /// Where it leads.
    pub target: Target,
    /// 301, 302, 303, 307 or 308.
    pub status: u16,
    /// Whether parameters that the pattern does not name are left behind.
    pub drop_query: bool,
}

impl Redirect {
    /// Whether browsers may remember it (RFC 9110, section 15.4).
    pub fn is_permanent(&self) -> bool {
        matches!(self.status, 301 | 308)
    }
}

/// Which file is shown, and when.
#[derive(Debug, Clone)]
pub struct FileEffect {
    /// The path that the file is looked up by.
    pub path: Target,
    /// When it is looked up.
    pub role: FileRole,
}

/// When a rule's file is looked up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileRole {
    /// Instead of the file that the URL names.
    Rewrite,
    /// When the URL names no file.
    Fallback {
        /// Whether URLs that end in the extension of a known file type get it too.
        even_files: bool,
    },
}

/// What a `headers` statement does, and to which answers.
#[derive(Debug, Clone)]
pub struct HeaderEffect {
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
    /// All but 400, 414, 421, URLs outside the site and what another service answers.
    All,
}

impl On {
    /// The word that a rules file has for it.
    pub fn as_str(self) -> &'static str {
        match self {
            On::Served => "served",
            On::Missing => "missing",
            On::Redirects => "redirects",
            On::All => "all",
        }
    }
}

/// One indented line of a `headers` statement.
#[derive(Debug, Clone)]
pub enum HeaderOp {
    /// Replaces every header of the name.
    Set(HeaderName, HeaderValue, Line),
    /// Adds a header.
    Add(HeaderName, HeaderValue, Line),
    /// Removes every header of the name.
    Drop(HeaderName, Line),
}
