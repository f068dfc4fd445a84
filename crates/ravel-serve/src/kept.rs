//! What is kept of files that were sent, until they change.

use std::collections::HashMap;
use std::fs::Metadata;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use bytes::Bytes;

use crate::watch::FileId;

/// Files of which something is kept.
const MAX_FILES: usize = 4_096;
/// Their contents together, in bytes.
const MAX_BYTES: usize = 32 * 1024 * 1024;
/// A file that was written within the moment of its time could be another already.
const MOMENT: Duration = Duration::from_secs(2);

/// The tags of files, and the contents of small ones.
#[derive(Debug, Default)]
pub(crate) struct KeptFiles(Mutex<KeptState>);

#[derive(Debug, Default)]
struct KeptState {
    files: HashMap<FileId, (FileVersion, KeptFile)>,
    bytes: usize,
}

/// What is kept of a file.
#[derive(Debug, Clone)]
pub(crate) struct KeptFile {
    /// Made of its content.
    pub(crate) tag: Arc<str>,
    /// All of it, where it is small.
    pub(crate) content: Option<Bytes>,
}

/// What changes with a file's content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct FileVersion {
    pub(crate) modified: SystemTime,
    pub(crate) bytes: u64,
    changed: SystemTime,
}

impl FileVersion {
    pub(crate) fn of(data: &Metadata) -> FileVersion {
        let modified = data.modified().unwrap_or(SystemTime::UNIX_EPOCH);
        FileVersion { modified, bytes: data.len(), changed: changed(data).unwrap_or(modified) }
    }
}

/// When a file was changed, by a clock that programs that copy times do not set.
#[cfg(unix)]
fn changed(data: &Metadata) -> Option<SystemTime> {
    use std::os::unix::fs::MetadataExt;
    let (seconds, nanos) = (data.ctime().try_into().ok()?, data.ctime_nsec().try_into().ok()?);
    SystemTime::UNIX_EPOCH.checked_add(Duration::new(seconds, nanos))
}

#[cfg(not(unix))]
fn changed(_: &Metadata) -> Option<SystemTime> {
    None
}

impl KeptFiles {
    /// What is kept of a file, where it is as it was.
    pub(crate) fn get(&self, path: &Path, data: &Metadata) -> Option<KeptFile> {
        let state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (version, kept) = state.files.get(&FileId::of_data(data, path))?;
        (*version == FileVersion::of(data)).then(|| kept.clone())
    }

    /// Keeps what was read of a file since `data` was read; nothing of one that may be written now.
    pub(crate) fn put(&self, path: &Path, data: &Metadata, read_at: SystemTime, kept: KeptFile) {
        let version = FileVersion::of(data);
        let is_old = |time: SystemTime| read_at.duration_since(time).is_ok_and(|age| age >= MOMENT);
        let bytes = kept.content.as_ref().map_or(0, Bytes::len);
        if !is_old(version.changed) || !is_old(version.modified) || bytes as u64 > version.bytes {
            return;
        }
        let mut state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if state.files.len() >= MAX_FILES || state.bytes + bytes > MAX_BYTES {
            *state = KeptState::default();
        }
        state.bytes += bytes;
        let before = state.files.insert(FileId::of_data(data, path), (version, kept));
        state.bytes -= before.and_then(|(_, kept)| kept.content).map_or(0, |content| content.len());
    }
}
