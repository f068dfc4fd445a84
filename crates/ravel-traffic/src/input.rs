//! Bytes as they come: unpacked if they are compressed, and of which the first are known before they
//! are read.

use std::io::{self, BufRead, BufReader, Cursor, Read};

use flate2::bufread::MultiGzDecoder;

use crate::SourceError;
use crate::zstandard::ZstandardReader;

/// So much is looked at to find out what a source is, in bytes.
const MAX_LOOK: u64 = 64 * 1024;

/// A source, unpacked.
pub(crate) type Input<'r> = Box<dyn BufRead + 'r>;

/// How a source is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Compression {
    /// gzip (RFC 1952).
    Gzip,
    /// Zstandard (RFC 8878).
    Zstandard,
}

impl Compression {
    /// How a source is compressed that begins with these bytes, if it is.
    ///
    /// ```
    /// use ravel_traffic::Compression;
    ///
    /// assert_eq!(Compression::of(&[0x1f, 0x8b, 8, 0]), Some(Compression::Gzip));
    /// assert_eq!(Compression::of(b"/a\n"), None);
    /// ```
    pub fn of(first: &[u8]) -> Option<Compression> {
        if first.starts_with(&[0x1f, 0x8b]) {
            return Some(Compression::Gzip);
        }
        first.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]).then_some(Compression::Zstandard)
    }
}

/// A source as it is without its compression, if it has one.
///
/// ```
/// use std::io::Read;
///
/// let mut text = String::new();
/// ravel_traffic::unpacked("/a\n".as_bytes())?.read_to_string(&mut text)?;
/// assert_eq!(text, "/a\n");
/// # Ok::<(), std::io::Error>(())
/// ```
///
/// # Errors
/// Those of the input.
pub fn unpacked<'r>(input: impl Read + 'r) -> io::Result<Box<dyn BufRead + 'r>> {
    let mut input = input;
    let mut first = Vec::new();
    input.by_ref().take(4).read_to_end(&mut first)?;
    let compression = Compression::of(&first);
    let whole = BufReader::new(Cursor::new(first).chain(input));
    Ok(match compression {
        Some(Compression::Gzip) => Box::new(BufReader::new(MultiGzDecoder::new(whole))),
        Some(Compression::Zstandard) => Box::new(BufReader::new(ZstandardReader::new(whole))),
        None => Box::new(whole),
    })
}

/// The first line that is not blank, as UTF-8, and the input from its beginning; a byte order mark
/// is left out.
pub(crate) fn first_line<'r>(mut input: Input<'r>) -> Result<(String, Input<'r>), SourceError> {
    let mut seen = Vec::new();
    loop {
        let from = seen.len();
        let left = MAX_LOOK.saturating_sub(from as u64);
        let read = input.by_ref().take(left).read_until(b'\n', &mut seen)?;
        if from == 0 {
            if seen.starts_with(&[0xff, 0xfe]) || seen.starts_with(&[0xfe, 0xff]) {
                return Err(SourceError::Encoding("it is UTF-16; save it as UTF-8"));
            }
            if seen.starts_with("\u{feff}".as_bytes()) {
                seen.drain(..3);
            }
        }
        let line = String::from_utf8_lossy(&seen[from.min(seen.len())..]).trim().to_owned();
        if !line.is_empty() || read == 0 {
            return Ok((line, Box::new(Cursor::new(seen).chain(input))));
        }
    }
}

/// Reads a line without its end; none at the end of the input. The rest of one that is too long is
/// passed over, and it is said.
pub(crate) fn read_line(
    input: &mut impl BufRead,
    max: usize,
) -> io::Result<Option<Result<String, &'static str>>> {
    let mut line = Vec::new();
    let read = input.by_ref().take(max as u64 + 1).read_until(b'\n', &mut line)?;
    if read == 0 {
        return Ok(None);
    }
    if line.len() > max && line.last() != Some(&b'\n') {
        pass_over_line(input)?;
        return Ok(Some(Err("it is longer than 64 KiB")));
    }
    Ok(Some(String::from_utf8(line).map_err(|_| "it is not UTF-8")))
}

fn pass_over_line(input: &mut impl BufRead) -> io::Result<()> {
    loop {
        let buffer = input.fill_buf()?;
        let (length, ends) = match buffer.iter().position(|byte| *byte == b'\n') {
            Some(at) => (at + 1, true),
            None => (buffer.len(), buffer.is_empty()),
        };
        input.consume(length);
        if ends {
            return Ok(());
        }
    }
}
