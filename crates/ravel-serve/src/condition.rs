//! Conditions of a request on the version that a client has (RFC 9110, section 13).

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use http::HeaderMap;
use http::header::{
    HeaderName, IF_MATCH, IF_MODIFIED_SINCE, IF_NONE_MATCH, IF_RANGE, IF_UNMODIFIED_SINCE,
};

/// A version of a representation: its entity tag, a strong one in its quotes, and when it was
/// changed, to the second.
#[derive(Debug, Clone)]
pub(crate) struct Validators {
    tag: String,
    modified: SystemTime,
}

impl Validators {
    pub(crate) fn new(tag: String, modified: SystemTime) -> Validators {
        let seconds = modified.duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        Validators { tag, modified: UNIX_EPOCH + Duration::from_secs(seconds) }
    }

    /// The value of `etag`.
    pub(crate) fn tag(&self) -> &str {
        &self.tag
    }

    /// The value of `last-modified`.
    pub(crate) fn modified(&self) -> String {
        httpdate::fmt_http_date(self.modified)
    }

    /// Whether it is a version that the client wants (section 13.1.1, 13.1.4); else 412.
    pub(crate) fn is_wanted(&self, headers: &HeaderMap) -> bool {
        match tags(headers, IF_MATCH) {
            Some(wanted) => wanted.iter().any(|tag| *tag == "*" || *tag == self.tag),
            None => date(headers, IF_UNMODIFIED_SINCE).is_none_or(|since| self.modified <= since),
        }
    }

    /// Whether the client does not have it yet (section 13.1.2, 13.1.3); else 304.
    pub(crate) fn is_new(&self, headers: &HeaderMap) -> bool {
        match tags(headers, IF_NONE_MATCH) {
            // A weak tag will do.
            Some(known) => !known
                .iter()
                .any(|tag| *tag == "*" || tag.strip_prefix("W/").unwrap_or(tag) == self.tag),
            None => date(headers, IF_MODIFIED_SINCE).is_none_or(|since| self.modified > since),
        }
    }

    /// Whether a part is wanted of this version, if of any (section 13.1.5).
    pub(crate) fn is_in_range(&self, headers: &HeaderMap) -> bool {
        let stated = headers.get(IF_RANGE).map(|value| value.to_str().unwrap_or_default());
        stated.is_none_or(|stated| stated == self.tag || stated == self.modified())
    }
}

/// The entity tags that a header lists, in all its lines; a broken list has those before the break.
fn tags(headers: &HeaderMap, name: HeaderName) -> Option<Vec<&str>> {
    let mut lines = headers.get_all(name).iter().peekable();
    lines.peek()?;
    let mut tags = Vec::new();
    for line in lines {
        let mut rest = line.to_str().unwrap_or_default().trim_matches([' ', '\t', ',']);
        while !rest.is_empty() {
            let opened = if rest.starts_with("W/") { 2 } else { 0 };
            let end = match rest.get(opened + 1..).and_then(|text| text.find('"')) {
                Some(closed) if rest[opened..].starts_with('"') => opened + closed + 2,
                _ if rest == "*" => 1,
                _ => break,
            };
            tags.push(&rest[..end]);
            rest = rest[end..].trim_start_matches([' ', '\t', ',']);
        }
    }
    Some(tags)
}

/// A date; one that cannot be read counts as none.
fn date(headers: &HeaderMap, name: HeaderName) -> Option<SystemTime> {
    httpdate::parse_http_date(headers.get(name)?.to_str().ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_are_read_as_the_standard_says() {
        let modified = UNIX_EPOCH + Duration::from_millis(1_000_000_000_900);
        let version = Validators::new("\"ab\"".to_owned(), modified);
        let (at, before, after) = (
            "Sun, 09 Sep 2001 01:46:40 GMT",
            "Sun, 09 Sep 2001 01:46:39 GMT",
            "Sunday, 09-Sep-01 01:46:41 GMT",
        );
        assert_eq!(version.modified(), at);
        // The header, its lines, and whether it is wanted, new, and in range.
        let cases: &[(HeaderName, &[&str], [bool; 3])] = &[
            (IF_MATCH, &["*"], [true, true, true]),
            (IF_MATCH, &["\"x\", \"ab\""], [true, true, true]),
            (IF_MATCH, &["\"x\"", "\"ab\""], [true, true, true]),
            (IF_MATCH, &["\"x,\"ab\""], [false, true, true]),
            (IF_MATCH, &["W/\"ab\""], [false, true, true]),
            (IF_MATCH, &["ab"], [false, true, true]),
            (IF_MATCH, &[""], [false, true, true]),
            (IF_NONE_MATCH, &["*"], [true, false, true]),
            (IF_NONE_MATCH, &["W/\"ab\""], [true, false, true]),
            (IF_NONE_MATCH, &["\"x\" , ,\"ab\""], [true, false, true]),
            (IF_NONE_MATCH, &["\"abc\", W/\"\""], [true, true, true]),
            (IF_NONE_MATCH, &["W/", "\"", "é"], [true, true, true]),
            (IF_MODIFIED_SINCE, &[at], [true, false, true]),
            (IF_MODIFIED_SINCE, &[before], [true, true, true]),
            (IF_MODIFIED_SINCE, &[after], [true, false, true]),
            (IF_MODIFIED_SINCE, &["yesterday"], [true, true, true]),
            (IF_UNMODIFIED_SINCE, &[at], [true, true, true]),
            (IF_UNMODIFIED_SINCE, &[before], [false, true, true]),
            (IF_UNMODIFIED_SINCE, &["yesterday"], [true, true, true]),
            (IF_RANGE, &["\"ab\""], [true, true, true]),
            (IF_RANGE, &["W/\"ab\""], [true, true, false]),
            (IF_RANGE, &["\"x\""], [true, true, false]),
            (IF_RANGE, &[at], [true, true, true]),
            (IF_RANGE, &[after], [true, true, false]),
        ];
        for (name, lines, expected) in cases {
            let mut headers = HeaderMap::new();
            for line in *lines {
                headers.append(name, http::HeaderValue::from_bytes(line.as_bytes()).unwrap());
            }
            let got = [
                version.is_wanted(&headers),
                version.is_new(&headers),
                version.is_in_range(&headers),
            ];
            assert_eq!(got, *expected, "{name}: {lines:?}");
        }
    }
}
