//! Types of content, and ranges of them.

use std::fmt;

/// `text/html`, or `text/*`: a type of content, without parameters, in lower case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MediaRange(Box<str>);

impl MediaRange {
    /// Reads `text/html` or `text/*`; none where it is neither (RFC 9110, section 8.3.1).
    pub(crate) fn parse(text: &str) -> Option<MediaRange> {
        let (kind, subtype) = text.split_once('/')?;
        let is_token = |text: &str| {
            let token = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$&-^_.+".contains(&byte);
            !text.is_empty() && text.bytes().all(token)
        };
        (is_token(kind) && (subtype == "*" || is_token(subtype)))
            .then(|| MediaRange(text.to_ascii_lowercase().into()))
    }

    /// Whether a type of content, with or without parameters, is in it.
    pub fn contains(&self, content_type: &str) -> bool {
        let essence = content_type.split(';').next().unwrap_or_default().trim();
        match self.0.strip_suffix('*') {
            Some(kind) => {
                essence.get(..kind.len()).is_some_and(|start| start.eq_ignore_ascii_case(kind))
            }
            None => essence.eq_ignore_ascii_case(&self.0),
        }
    }

    /// The range as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for MediaRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
