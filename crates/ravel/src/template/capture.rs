//! What a pattern captured, and how it is written elsewhere so that it means the same.
//!
//! | from → to | what is written |
//! |---|---|
//! | path → path, query → query | as it was sent |
//! | path → query | decoded, then all but unreserved characters percent-encoded |
//! | query → path | form-decoded, then encoded for one segment; not at all if that is no segment |
//! | any → fragment | as into a path |
//! | any → host | only if it decodes to one host label |

use std::borrow::Cow;

use smallvec::SmallVec;

use crate::address::{decode, encode, form_decode, is_path_byte, is_unreserved};

/// Which part of an address a capture came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// A host label.
    Host,
    /// The path.
    Path,
    /// The query.
    Query,
}

/// A piece of an address, as it was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Captured<'r> {
    /// The text, not decoded.
    pub text: &'r str,
    /// Where it stood.
    pub source: Source,
}

/// What a pattern captured, by slot: host, path, query.
pub type Captures<'r> = SmallVec<[Captured<'r>; 6]>;

impl<'r> Captured<'r> {
    /// The first label of a host.
    pub(crate) fn host_label(label: &'r str) -> Captured<'r> {
        Captured { text: label, source: Source::Host }
    }

    /// What it means: percent-decoded, or form-decoded if it comes from a query.
    pub fn decoded(&self) -> Cow<'r, [u8]> {
        match self.source {
            Source::Host => Cow::Borrowed(self.text.as_bytes()),
            Source::Path => decode(self.text),
            Source::Query => form_decode(self.text),
        }
    }

    /// Writes it into a path or a fragment; `None` if it would not be one piece there.
    pub(super) fn into_path(self, out: &mut String) -> Option<()> {
        if self.source != Source::Query {
            out.push_str(self.text);
            return Some(());
        }
        let decoded = self.decoded();
        let text = std::str::from_utf8(&decoded).ok()?;
        if matches!(text, "." | "..") || text.chars().any(char::is_control) {
            return None;
        }
        encode(text.as_bytes(), is_path_byte, out);
        Some(())
    }

    /// Writes it into a query.
    pub(super) fn into_query(self, out: &mut String) {
        match self.source {
            Source::Query => out.push_str(self.text),
            Source::Host | Source::Path => encode(&self.decoded(), is_unreserved, out),
        }
    }

    /// Writes it as a host label; `None` if it is none.
    pub(super) fn into_label(self, out: &mut String) -> Option<()> {
        let decoded = self.decoded();
        let label = std::str::from_utf8(&decoded).ok()?;
        let wellformed = (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-');
        wellformed.then(|| out.extend(label.chars().map(|c| c.to_ascii_lowercase())))
    }
}
