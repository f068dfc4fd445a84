//! Lines of a text by byte.

/// The line, from 1, on which a byte stands.
pub(super) fn line_of(text: &str, at: usize) -> u32 {
    let at = at.min(text.len());
    1 + memchr::memchr_iter(b'\n', &text.as_bytes()[..at]).count() as u32
}
