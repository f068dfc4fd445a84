//! What a pattern captured, and how it is written elsewhere so that it means the same.
//!
//! | from → to | what is written |
//! |---|---|
//! | path → path, query → query | as it was sent |
//! | path → query | decoded, then all but unreserved characters percent-encoded |
//! | query → path | form-decoded, then encoded for one segment; not at all if that is no segment |
//! | any → fragment | as into a path |
//! | any → host | only if it decodes to one host label; `xn--` and its like only if it comes from the request's own host |

use std::borrow::Cow;
use std::fmt;

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

/// Why a rule's captures cannot stand where its target has them, so that the rule does not match.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum ExpansionError {
    /// What is put into the host is no label of a host.
    Label,
    /// The host would be longer than 253 bytes.
    HostLength,
    /// What comes from the query is no segment of a path: `.`, `..`, a control character, or not
    /// UTF-8.
    Segment,
}

impl fmt::Display for ExpansionError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            ExpansionError::Label => "what is captured is not a label of a host",
            ExpansionError::HostLength => "the host would be longer than 253 bytes",
            ExpansionError::Segment => "what is captured is not a segment of a path",
        })
    }
}

impl std::error::Error for ExpansionError {}

/// A piece of an address, as it was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CaptureValue<'r> {
    pub(crate) text: &'r str,
    pub(crate) source: Source,
}

/// What a pattern captured, by slot: host, path, query.
pub type Captures<'r> = SmallVec<[CaptureValue<'r>; 6]>;

impl<'r> CaptureValue<'r> {
    /// The first label of a host.
    pub(crate) fn host_label(label: &'r str) -> CaptureValue<'r> {
        CaptureValue { text: label, source: Source::Host }
    }

    /// What it means: percent-decoded, or form-decoded if it comes from a query.
    pub fn decoded(&self) -> Cow<'r, [u8]> {
        match self.source {
            Source::Host => Cow::Borrowed(self.text.as_bytes()),
            Source::Path => decode(self.text),
            Source::Query => form_decode(self.text),
        }
    }

    /// Writes it into a path or a fragment, unless it would not be one segment there.
    pub(super) fn into_path(self, out: &mut String) -> Result<(), ExpansionError> {
        if self.source != Source::Query {
            out.push_str(self.text);
            return Ok(());
        }
        let decoded = self.decoded();
        let text = std::str::from_utf8(&decoded).map_err(|_| ExpansionError::Segment)?;
        if matches!(text, "." | "..") || text.chars().any(char::is_control) {
            return Err(ExpansionError::Segment);
        }
        encode(text.as_bytes(), is_path_byte, out);
        Ok(())
    }

    /// Writes it into a query.
    pub(super) fn into_query(self, out: &mut String) {
        match self.source {
            Source::Query => out.push_str(self.text),
            Source::Host | Source::Path => encode(&self.decoded(), is_unreserved, out),
        }
    }

    /// Writes it as a host label, unless it is none. `--` in places 3 and 4 marks labels that only
    /// IDNA tables can judge.
    pub(super) fn into_label(self, out: &mut String) -> Result<(), ExpansionError> {
        let decoded = self.decoded();
        let wellformed = (1..=63).contains(&decoded.len())
            && decoded.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'-')
            && !decoded.starts_with(b"-")
            && !decoded.ends_with(b"-")
            && (self.source == Source::Host || decoded.get(2..4) != Some(b"--"));
        match wellformed {
            true => {
                out.extend(decoded.iter().map(|byte| char::from(byte.to_ascii_lowercase())));
                Ok(())
            }
            false => Err(ExpansionError::Label),
        }
    }

    /// The text, not decoded.
    pub fn text(&self) -> &'r str {
        self.text
    }

    /// Where it stood.
    pub fn source(&self) -> Source {
        self.source
    }
}
