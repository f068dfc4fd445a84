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
    pub(crate) target: Target,
    pub(crate) status: u16,
    pub(crate) drop_query: bool,
}

impl Redirect {
    /// Whether browsers may remember it (RFC 9110, section 15.4).
    pub fn is_permanent(&self) -> bool {
        matches!(self.status, 301 | 308)
    }

    /// Where it leads.
    pub fn target(&self) -> &Target {
        &self.target
    }

    /// 301, 302, 303, 307 or 308.
    pub fn status(&self) -> u16 {
        self.status
    }

    /// Whether parameters that the pattern does not name are left behind.
    pub fn drop_query(&self) -> bool {
        self.drop_query
    }
}

/// Which file is shown, and when.
#[derive(Debug, Clone)]
pub struct FileEffect {
    pub(crate) path: Target,
    pub(crate) role: FileRole,
}

impl FileEffect {
    /// The path that the file is looked up by.
    pub fn path(&self) -> &Target {
        &self.path
    }

    /// When it is looked up.
    pub fn role(&self) -> FileRole {
        self.role
    }
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
    pub(crate) on: HeaderScope,
    pub(crate) ops: Vec<HeaderOp>,
}

impl HeaderEffect {
    /// Which answers.
    pub fn on(&self) -> HeaderScope {
        self.on
    }

    /// What is done, in order.
    pub fn ops(&self) -> &[HeaderOp] {
        &self.ops
    }
}

/// Which answers a `headers` statement is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HeaderScope {
    /// Answers that show a file with 200.
    Served,
    /// 404 and 410.
    Missing,
    /// Redirects.
    Redirects,
    /// All but 400, 414, 421, URLs outside the site and what another service answers.
    All,
}

impl HeaderScope {
    /// The word that a rules file has for it.
    ///
    /// ```
    /// assert_eq!(ravel::program::HeaderScope::Missing.as_str(), "missing");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            HeaderScope::Served => "served",
            HeaderScope::Missing => "missing",
            HeaderScope::Redirects => "redirects",
            HeaderScope::All => "all",
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
