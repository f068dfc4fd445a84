//! A file as it is sent: its versions, its parts, and what a client has of it already (RFC 9110,
//! sections 8.8, 13 and 14).

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use bytes::Bytes;
use http::header::RANGE;
use http::{HeaderMap, Method};
use http_range_header::{EndPosition, StartPosition};
use ring::digest;

use crate::condition::Validators;
use crate::encoding::Encoding;
use crate::kept::{FileVersion, KeptFile, KeptFiles};

/// Files up to this size are read at once, and kept, in bytes.
const MAX_WHOLE_BYTES: u64 = 1024 * 1024;
/// Larger ones are read in pieces of this size, in bytes.
pub(crate) const PIECE_BYTES: usize = 256 * 1024;
/// Parts of one answer; a client that asks for more gets the whole file.
const MAX_PARTS: usize = 16;
/// A file to send.
#[derive(Debug)]
pub(crate) struct OpenFile {
    pub(crate) content: FileContent,
    pub(crate) bytes: u64,
    modified: SystemTime,
    /// Made of its content.
    pub(crate) tag: Arc<str>,
}

/// What a file is read from.
#[derive(Debug)]
pub(crate) enum FileContent {
    /// All of it, where it is small.
    Whole(Bytes),
    Open(File),
}

/// Why a file is not shown.
#[derive(Debug)]
pub(crate) enum FileError {
    /// It is not there any more, or leads out of the folder.
    Missing,
    Unreadable(io::Error),
}

impl OpenFile {
    /// A small file that is as it was when it was last read. It never waits for a disk that has
    /// been read.
    pub(crate) fn kept(path: &Path, kept: &KeptFiles) -> Option<OpenFile> {
        let data = path.metadata().ok()?;
        let KeptFile { tag, content } = kept.get(path, &data)?;
        let (content, modified) = (content?, FileVersion::of(&data).modified);
        let bytes = content.len() as u64;
        Some(OpenFile { content: FileContent::Whole(content), bytes, modified, tag })
    }

    /// Opens a file of a folder.
    pub(crate) fn open(path: &Path, root: &Path, kept: &KeptFiles) -> Result<OpenFile, FileError> {
        let beneath = path.strip_prefix(root).ok().and_then(|name| open_beneath(root, name));
        let file = match beneath {
            Some(file) => file,
            None => open_checked(path, root)?,
        };
        let read_at = SystemTime::now();
        let data = file.metadata().map_err(missing)?;
        // What is not a file, such as a pipe, is not read.
        if !data.is_file() {
            return Err(FileError::Missing);
        }
        let FileVersion { modified, bytes, .. } = FileVersion::of(&data);
        let mut content = FileContent::Open(file);
        if let (FileContent::Open(file), true) = (&mut content, bytes <= MAX_WHOLE_BYTES) {
            let mut read = Vec::with_capacity(bytes as usize);
            file.read_to_end(&mut read).map_err(missing)?;
            content = FileContent::Whole(read.into());
        }
        let tag = match kept.get(path, &data) {
            Some(known) => known.tag,
            None => {
                let tag = content.tag().map_err(missing)?;
                let content = content.whole().cloned();
                kept.put(path, &data, read_at, KeptFile { tag: Arc::clone(&tag), content });
                tag
            }
        };
        let bytes = content.whole().map_or(bytes, |content| content.len() as u64);
        Ok(OpenFile { content, bytes, modified, tag })
    }

    /// The validators of an encoding, which is a representation of its own.
    pub(crate) fn validators(&self, encoding: Encoding) -> Validators {
        let tag = match encoding.name() {
            Some(name) => format!("\"{}-{name}\"", self.tag),
            None => format!("\"{}\"", self.tag),
        };
        Validators::new(tag, self.modified)
    }

    /// What a client gets of it (RFC 9110, section 13.2.2).
    pub(crate) fn selected(
        &self,
        method: &Method,
        headers: &HeaderMap,
        encoding: Encoding,
    ) -> Selected {
        let version = self.validators(encoding);
        if !version.is_wanted(headers) {
            return Selected::PreconditionFailed;
        }
        if !version.is_new(headers) {
            return Selected::NotModified;
        }
        // Parts are of the file as it is, for GET alone.
        if *method != Method::GET || encoding != Encoding::Identity {
            return Selected::Whole;
        }
        match headers.get(RANGE).and_then(|range| range.to_str().ok()) {
            Some(range) if version.is_in_range(headers) => parts(range, self.bytes),
            _ => Selected::Whole,
        }
    }
}

impl FileContent {
    fn whole(&self) -> Option<&Bytes> {
        match self {
            FileContent::Whole(content) => Some(content),
            FileContent::Open(_) => None,
        }
    }

    /// A part of it.
    pub(crate) fn part(&mut self, from: u64, bytes: u64) -> io::Result<Bytes> {
        match self {
            FileContent::Whole(content) => {
                Ok(content.slice(from as usize..(from + bytes) as usize))
            }
            FileContent::Open(file) => {
                let mut part = Vec::with_capacity(bytes as usize);
                file.seek(SeekFrom::Start(from))?;
                Read::by_ref(file).take(bytes).read_to_end(&mut part)?;
                Ok(part.into())
            }
        }
    }

    fn tag(&mut self) -> io::Result<Arc<str>> {
        let mut context = digest::Context::new(&digest::SHA256);
        match self {
            FileContent::Whole(content) => context.update(content),
            FileContent::Open(file) => {
                let mut piece = vec![0; PIECE_BYTES];
                file.seek(SeekFrom::Start(0))?;
                loop {
                    match file.read(&mut piece)? {
                        0 => break,
                        read => context.update(&piece[..read]),
                    }
                }
                file.seek(SeekFrom::Start(0))?;
            }
        }
        let sum = context.finish();
        let tag: String = sum.as_ref()[..12].iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(tag.into())
    }
}

/// Opens a file of a folder in one step, in which no link leads out of it; none where that is not
/// possible, or where it has to be looked at more closely. It never waits, as for a pipe.
#[cfg(target_os = "linux")]
fn open_beneath(root: &Path, name: &Path) -> Option<File> {
    use rustix::fs::{CWD, Mode, OFlags, ResolveFlags, openat, openat2};
    let folder = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let folder = openat(CWD, root, folder, Mode::empty()).ok()?;
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK;
    let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS;
    openat2(folder, name, flags, Mode::empty(), beneath).ok().map(File::from)
}

#[cfg(not(target_os = "linux"))]
fn open_beneath(_: &Path, _: &Path) -> Option<File> {
    None
}

fn missing(error: io::Error) -> FileError {
    match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => FileError::Missing,
        _ => FileError::Unreadable(error),
    }
}

/// Opens a file once it is known where its links lead.
fn open_checked(path: &Path, root: &Path) -> Result<File, FileError> {
    let real = path.canonicalize().map_err(missing)?;
    let root = root.canonicalize().map_err(missing)?;
    if !real.starts_with(&root) {
        tracing::warn!(file = %path.display(), "the file leads out of the folder and is not shown");
        return Err(FileError::Missing);
    }
    // What is not a file would perhaps never be opened.
    if !real.metadata().map_err(missing)?.is_file() {
        return Err(FileError::Missing);
    }
    File::open(&real).map_err(missing)
}

/// What is sent of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Selected {
    Whole,
    /// From a byte to another, both included.
    Parts(Vec<(u64, u64)>),
    NotModified,
    PreconditionFailed,
    /// No part that is asked for is there.
    Unsatisfiable,
}

/// The parts that a `range` asks for. One that is none of bytes, or malformed, is ignored (RFC
/// 9110, section 14.2).
fn parts(range: &str, bytes: u64) -> Selected {
    let Ok(asked) = http_range_header::parse_range_header(range) else { return Selected::Whole };
    let mut parts = Vec::new();
    for one in &asked.ranges {
        let (from, to) = match (one.start, one.end) {
            // More than there is of it is all of it.
            (StartPosition::FromLast(last), _) => {
                (bytes.saturating_sub(last), bytes.saturating_sub(1))
            }
            (StartPosition::Index(from), EndPosition::Index(to)) => {
                (from, to.min(bytes.saturating_sub(1)))
            }
            (StartPosition::Index(from), EndPosition::LastByte) => (from, bytes.saturating_sub(1)),
        };
        let is_reversed = matches!((one.start, one.end), (StartPosition::Index(from), EndPosition::Index(to)) if from > to);
        if is_reversed {
            return Selected::Whole;
        }
        if from < bytes {
            parts.push((from, to));
        }
    }
    let asked_bytes: u64 = parts.iter().map(|(from, to)| to - from + 1).sum();
    match parts.len() {
        0 => Selected::Unsatisfiable,
        // Many parts, or some that overlap, ask for more work than the file is worth.
        count if count > MAX_PARTS || asked_bytes > bytes => Selected::Whole,
        _ => Selected::Parts(parts),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_standard_says() {
        use Selected::{Parts, Unsatisfiable, Whole};
        let cases = [
            ("bytes=0-9", Parts(vec![(0, 9)])),
            ("bytes=90-", Parts(vec![(90, 99)])),
            ("bytes=90-1000", Parts(vec![(90, 99)])),
            ("bytes=-10", Parts(vec![(90, 99)])),
            ("bytes=-1000", Parts(vec![(0, 99)])),
            ("bytes=0-0, -1", Parts(vec![(0, 0), (99, 99)])),
            ("bytes=50-59,0-9", Parts(vec![(50, 59), (0, 9)])),
            ("bytes=200-300, 0-0", Parts(vec![(0, 0)])),
            ("bytes=100-", Unsatisfiable),
            ("bytes=200-300,400-", Unsatisfiable),
            ("bytes=9-0", Whole),
            ("bytes=0-99,0-99", Whole),
            ("lines=0-9", Whole),
            ("bytes=a-b", Whole),
            ("bytes=", Whole),
            ("bytes 0-9", Whole),
        ];
        for (range, wanted) in cases {
            assert_eq!(parts(range, 100), wanted, "{range}");
        }
        assert_eq!(parts("bytes=0-", 0), Unsatisfiable);
    }
}
