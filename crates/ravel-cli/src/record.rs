//! What `ravel build` remembers of a folder that it has made: which folder, which files, what it has left.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::file::random_name;

/// The record beside a folder, as it is on disk.
pub(crate) struct Record {
    place: PathBuf,
    data: Data,
}

#[derive(Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Data {
    /// Whose files these are: a folder, and while it is written also the one that takes its place.
    folders: Vec<FolderId>,
    /// What is to be removed.
    leftovers: Vec<Leftover>,
    /// What each file held when it was made; while the folder is written also what it will hold.
    files: BTreeMap<String, Vec<Digest>>,
    /// Where the next record is written before it takes the place of this one.
    next: String,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Leftover {
    /// From the folder that the record is in.
    place: PathBuf,
    /// None until it is made.
    id: Option<FolderId>,
    /// Whether it is the folder itself, while another takes its place.
    set_aside: bool,
}

/// Which folder one is, whatever its name.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct FolderId(u64, u64);

impl FolderId {
    #[cfg(unix)]
    pub(crate) fn of(folder: &Path) -> io::Result<FolderId> {
        use std::os::unix::fs::MetadataExt;

        let data = fs::symlink_metadata(folder)?;
        Ok(FolderId(data.dev(), data.ino()))
    }

    /// By the moment at which it was made.
    #[cfg(not(unix))]
    pub(crate) fn of(folder: &Path) -> io::Result<FolderId> {
        let since = fs::symlink_metadata(folder)?.created()?.duration_since(std::time::UNIX_EPOCH);
        let since = since.unwrap_or_default();
        Ok(FolderId(since.as_secs(), since.subsec_nanos().into()))
    }
}

/// What a file holds: its SHA-256 in hex.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Digest(String);

impl Digest {
    pub(crate) fn of_file(path: &Path) -> io::Result<Digest> {
        // What is a link now was not made.
        if fs::symlink_metadata(path)?.is_symlink() {
            return Err(io::ErrorKind::InvalidInput.into());
        }
        let mut file = File::open(path)?;
        let mut context = ring::digest::Context::new(&ring::digest::SHA256);
        let mut block = vec![0; 1 << 16];
        loop {
            match file.read(&mut block)? {
                0 => break,
                read => context.update(&block[..read]),
            }
        }
        let hex = context.finish().as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(Digest(hex))
    }
}

impl Record {
    /// Reads the record; an empty one where there is none.
    ///
    /// # Errors
    /// What is there is something else.
    pub(crate) fn read(place: PathBuf) -> io::Result<Record> {
        let data = match fs::read(&place) {
            // A build was ended when it had made the file.
            Ok(bytes) if bytes.is_empty() => Data::default(),
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|_| {
                io::Error::other(format!(
                    "`{}`, where `ravel build` notes what it has made, holds something else; move it away",
                    place.display()
                ))
            })?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => Data::default(),
            Err(error) => return Err(error),
        };
        Ok(Record { place, data })
    }

    /// Whether it speaks of this folder.
    pub(crate) fn is_of(&self, folder: FolderId) -> bool {
        self.data.folders.contains(&folder)
    }

    /// What a file may hold that was made.
    pub(crate) fn digests(&self, name: &str) -> &[Digest] {
        self.data.files.get(name).map_or(&[], Vec::as_slice)
    }

    /// What builds have left, or leave now, each with its identity if it was made.
    pub(crate) fn leftovers(&self) -> impl Iterator<Item = (PathBuf, Option<FolderId>)> {
        self.data.leftovers.iter().map(|left| (self.folder().join(&left.place), left.id))
    }

    /// Makes a folder that is to be removed: noted before it is there, and known by its identity
    /// before anything is in it.
    pub(crate) fn make_leftover(&mut self, place: &Path) -> io::Result<FolderId> {
        self.note(place, None, false)?;
        fs::create_dir(place)?;
        let id = FolderId::of(place)?;
        self.add_leftover(place, id, false)?;
        Ok(id)
    }

    /// Notes that a folder is to be removed where it stands here; whether it is the folder itself,
    /// set aside for a moment.
    pub(crate) fn add_leftover(
        &mut self,
        place: &Path,
        id: FolderId,
        set_aside: bool,
    ) -> io::Result<()> {
        self.note(place, Some(id), set_aside)
    }

    fn note(&mut self, place: &Path, id: Option<FolderId>, set_aside: bool) -> io::Result<()> {
        let place = place.strip_prefix(self.folder()).unwrap_or(place).to_owned();
        self.data.leftovers.retain(|left| left.place != place || left.id.is_some());
        self.data.leftovers.push(Leftover { place, id, set_aside });
        self.write()
    }

    pub(crate) fn is_set_aside(&self, place: &Path) -> bool {
        let mut left = self.data.leftovers.iter();
        left.any(|left| left.set_aside && self.folder().join(&left.place) == place)
    }

    /// Notes that nothing is left.
    pub(crate) fn forget_leftovers(&mut self) -> io::Result<()> {
        if !self.data.next.is_empty() {
            let _ = fs::remove_file(self.folder().join(&self.data.next));
        }
        if self.data.leftovers.is_empty() {
            return Ok(());
        }
        self.data.leftovers.clear();
        self.write()
    }

    /// Notes what is going to be made in a folder, beside what was made in the one that it replaces.
    pub(crate) fn expect(
        &mut self,
        made: &BTreeMap<String, Digest>,
        fresh: FolderId,
        old: Option<FolderId>,
    ) -> io::Result<()> {
        if !old.is_some_and(|old| self.is_of(old)) {
            self.data.files.clear();
        }
        self.data.folders.retain(|id| Some(*id) == old);
        self.data.folders.push(fresh);
        for (name, digest) in made {
            self.data.files.entry(name.clone()).or_default().push(digest.clone());
        }
        self.write()
    }

    /// Notes that a folder holds these files, and nothing is left.
    pub(crate) fn hold(
        &mut self,
        made: BTreeMap<String, Digest>,
        folder: FolderId,
    ) -> io::Result<()> {
        let files = made.into_iter().map(|(name, digest)| (name, vec![digest])).collect();
        let next = std::mem::take(&mut self.data.next);
        self.data = Data { folders: vec![folder], leftovers: Vec::new(), files, next };
        self.write()
    }

    fn folder(&self) -> &Path {
        self.place.parent().unwrap_or(Path::new(""))
    }

    /// Writes the record beside its place, under a name that the record there knows.
    fn write(&mut self) -> io::Result<()> {
        let next = format!(".{}", random_name());
        let beside = std::mem::replace(&mut self.data.next, next);
        let is_empty = self.data.folders.is_empty() && self.data.leftovers.is_empty();
        if is_empty {
            return match fs::remove_file(&self.place) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
                _ => Ok(()),
            };
        }
        let text = serde_json::to_string_pretty(&self.data)? + "\n";
        // The first is short, and written at once.
        if beside.is_empty() || !self.place.exists() {
            return fs::write(&self.place, text);
        }
        let beside = self.folder().join(beside);
        fs::write(&beside, text)?;
        fs::rename(beside, &self.place)
    }
}
