//! Paths in the one form that they are compared in, and what is percent-encoded where.

use std::borrow::Cow;
use std::hash::Hasher;

use rustc_hash::FxHasher;

use super::UrlError;

const HEX: &[u8; 16] = b"0123456789ABCDEF";

/// Whether a byte stands for itself everywhere in a URL (RFC 3986, section 2.3).
pub(crate) fn is_unreserved(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b'_' | b'~')
}

/// Whether a byte stands for itself in a path segment: `pchar` of RFC 3986, section 3.3.
///
/// ```
/// assert!(ravel::address::is_path_byte(b'~') && !ravel::address::is_path_byte(b' '));
/// ```
pub fn is_path_byte(byte: u8) -> bool {
    PATH_BYTES[usize::from(byte)]
}

/// Whether a byte stands for itself in a query: all but the query percent-encode set of special
/// URLs (WHATWG URL, section 1.3).
pub(crate) fn is_query_byte(byte: u8) -> bool {
    byte.is_ascii_graphic() && !matches!(byte, b'"' | b'#' | b'<' | b'>' | b'\'')
}

/// Whether a byte stands for itself in a fragment (WHATWG URL, section 1.3).
pub(crate) fn is_fragment_byte(byte: u8) -> bool {
    byte.is_ascii_graphic() && !matches!(byte, b'"' | b'<' | b'>' | b'`')
}

const PATH_BYTES: [bool; 256] = {
    let mut table = [false; 256];
    let mut byte = 0;
    while byte < 128 {
        table[byte] = (byte as u8).is_ascii_alphanumeric();
        byte += 1;
    }
    let others = b"-._~!$&'()*+,;=:@";
    let mut at = 0;
    while at < others.len() {
        table[others[at] as usize] = true;
        at += 1;
    }
    table
};

/// Whether two bytes stand next to each other; without branches, since paths are short.
pub(crate) fn has_pair(path: &[u8], [first, second]: [u8; 2]) -> bool {
    let next = path.get(1..).unwrap_or_default();
    path.iter().zip(next).fold(false, |found, (a, b)| found | ((*a == first) & (*b == second)))
}

/// The hash that paths are looked up by.
pub(crate) fn path_hash(path: &[u8]) -> u64 {
    let mut hasher = FxHasher::default();
    hasher.write(path);
    hasher.finish()
}

/// Appends `bytes`, percent-encoding (upper-case hex) all that `keep` does not keep.
///
/// ```
/// use ravel::address::{encode, is_path_byte};
///
/// let mut out = String::from("/");
/// encode("two words".as_bytes(), is_path_byte, &mut out);
/// assert_eq!(out, "/two%20words");
/// ```
pub fn encode(bytes: &[u8], keep: fn(u8) -> bool, out: &mut String) {
    for &byte in bytes {
        if keep(byte) {
            out.push(char::from(byte));
        } else {
            out.push('%');
            out.push(char::from(HEX[usize::from(byte >> 4)]));
            out.push(char::from(HEX[usize::from(byte & 15)]));
        }
    }
}

/// Percent-decodes; a broken escape stays as text.
///
/// ```
/// assert_eq!(&*ravel::address::decode("/caf%C3%A9"), "/café".as_bytes());
/// ```
pub fn decode(text: &str) -> Cow<'_, [u8]> {
    Cow::from(percent_encoding::percent_decode_str(text))
}

/// Brings a path to the one spelling that paths are compared in: escapes of `pchar` bytes decoded,
/// all else percent-encoded in upper case, `.` and `..` segments removed (RFC 3986, sections 5.2.4
/// and 6.2.2). `%2F` stays as it is. Borrows when there is nothing to do.
pub(crate) fn normalize(path: &str) -> Result<Cow<'_, str>, UrlError> {
    let bytes = path.as_bytes();
    if bytes.first() != Some(&b'/') {
        return Err(UrlError::PathStart);
    }
    let mut previous = 0;
    let plain = bytes.iter().all(|&byte| {
        let dot_segment_may_start = byte == b'.' && previous == b'/';
        previous = byte;
        byte == b'/' || (is_path_byte(byte) && !dot_segment_may_start)
    });
    if plain {
        return Ok(Cow::Borrowed(path));
    }
    let spelled = respell(bytes)?;
    Ok(Cow::Owned(remove_dot_segments(&spelled)))
}

fn respell(bytes: &[u8]) -> Result<String, UrlError> {
    let mut out = String::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let mut byte = bytes[at];
        match byte {
            b'/' => out.push('/'),
            b'\\' => return Err(UrlError::Backslash),
            0..0x20 | 0x7f => return Err(UrlError::Control),
            _ => {
                if byte == b'%' {
                    byte = escaped(&bytes[at + 1..]).ok_or(UrlError::Escape)?;
                    at += 2;
                }
                encode(&[byte], is_path_byte, &mut out);
            }
        }
        at += 1;
    }
    Ok(out)
}

fn escaped(digits: &[u8]) -> Option<u8> {
    let value = |digit: u8| char::from(digit).to_digit(16);
    Some((value(*digits.first()?)? * 16 + value(*digits.get(1)?)?) as u8)
}

fn remove_dot_segments(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    let mut segments = path[1..].split('/').peekable();
    while let Some(segment) = segments.next() {
        let last = segments.peek().is_none();
        match segment {
            "." => {}
            ".." => out.truncate(out.rfind('/').unwrap_or(0)),
            _ => {
                out.push('/');
                out.push_str(segment);
                continue;
            }
        }
        if last {
            out.push('/');
        }
    }
    if out.is_empty() {
        out.push('/');
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn paths_have_one_spelling() {
        let cases = [
            ("/", Ok("/")),
            ("/a/b", Ok("/a/b")),
            ("/%61%2Fb", Ok("/a%2Fb")),
            ("/%2fb", Ok("/%2Fb")),
            ("/[id].js", Ok("/%5Bid%5D.js")),
            ("/%5bid%5d.js", Ok("/%5Bid%5D.js")),
            ("/a%20b c", Ok("/a%20b%20c")),
            ("/caf\u{e9}", Ok("/caf%C3%A9")),
            ("/a/./b/../c", Ok("/a/c")),
            ("/a/%2E%2e/b", Ok("/b")),
            ("/../../a", Ok("/a")),
            ("/a/..", Ok("/")),
            ("/a/b/.", Ok("/a/b/")),
            ("/a//../b", Ok("/a/b")),
            ("//a", Ok("//a")),
            ("/.well-known/x", Ok("/.well-known/x")),
            ("/a%25b", Ok("/a%25b")),
            ("/a:@!$&'()*+,;=", Ok("/a:@!$&'()*+,;=")),
            ("/%3A%40%21", Ok("/:@!")),
            ("", Err(UrlError::PathStart)),
            ("a", Err(UrlError::PathStart)),
            ("/a\\b", Err(UrlError::Backslash)),
            ("/a\nb", Err(UrlError::Control)),
            ("/a\u{7f}", Err(UrlError::Control)),
            ("/a%", Err(UrlError::Escape)),
            ("/a%4", Err(UrlError::Escape)),
            ("/a%zz", Err(UrlError::Escape)),
            ("/a%+1", Err(UrlError::Escape)),
        ];
        for (text, expected) in cases {
            assert_eq!(normalize(text).as_deref(), expected.as_ref().map(|path| *path), "{text:?}");
        }
    }

    proptest! {
        #[test]
        fn normalizing_twice_is_normalizing_once(text in "/([a./%2eEfF\\[é ]|%2[eEfF]|\\PC){0,24}") {
            if let Ok(once) = normalize(&text) {
                let twice = normalize(&once);
                prop_assert_eq!(twice.as_deref(), Ok(&*once));
                prop_assert!(!once.split('/').any(|segment| segment == "." || segment == ".."));
            }
        }

        #[test]
        fn no_text_panics(text in any::<String>()) {
            let _ = normalize(&text);
        }
    }
}
