//! A folder that is written whole: at every moment it is the old one or the new one.
//!
//! ```text
//!   OUT                 the old folder, then the new one
//!   .OUT.3f1c…          the new folder, until it takes the place of OUT; then the old one, until it is removed
//!   .OUT.made           the record: whose folder OUT is, what was made in it, what is to be removed
//! ```
//!
//! Both stand beside the folder, so that nothing of them is published. The folder that all of them are in is locked
//! meanwhile: who builds at the same time waits. Only what the record knows by its name and its identity is ever
//! removed: whatever else has such a name is somebody's.
//!
//! A folder on which another file system is mounted cannot be renamed. It is written inside, each file whole: first
//! what pages need, then the pages, and then what is no more is removed.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use crate::file::random_name;
use crate::record::{Digest, FolderId, Record};

/// What belongs to a version control system, and is kept whatever happens.
const KEPT: [&str; 3] = [".git", ".hg", ".svn"];

/// Names of foreign files that an error shows.
const MAX_SHOWN: usize = 3;

/// A folder to be written, which nobody else writes meanwhile.
pub(crate) struct OutFolder {
    /// Where it really is, if the path is a symbolic link.
    path: PathBuf,
    name: String,
    record: Record,
    /// Keeps the lock.
    _lock: Option<File>,
}

impl OutFolder {
    /// Takes the folder, and changes nothing.
    pub(crate) fn take(path: &Path) -> io::Result<OutFolder> {
        let path = match fs::canonicalize(path) {
            Ok(real) => real,
            Err(error) if error.kind() == io::ErrorKind::NotFound => path.to_owned(),
            Err(error) => return Err(error),
        };
        let name = path.file_name().ok_or_else(|| io::Error::other("it has no name of its own"))?;
        let name = name.to_string_lossy().into_owned();
        let parent = parent_of(&path);
        fs::create_dir_all(parent)?;
        let lock = lock(parent)?;
        let record = Record::read(parent.join(format!(".{name}.made")))?;
        Ok(OutFolder { record, name, _lock: lock, path })
    }

    /// The files in it that no build has made, or that were changed since, but for those of version
    /// control; in order.
    pub(crate) fn foreign(&self) -> io::Result<Vec<String>> {
        let mut names = if self.path.exists() { files_in(&self.path)? } else { Vec::new() };
        let is_ours = FolderId::of(&self.path).is_ok_and(|id| self.record.is_of(id));
        let inside = self.record.leftovers().filter(|(place, _)| place.starts_with(&self.path));
        let inside: Vec<PathBuf> = inside.map(|(place, _)| place).collect();
        names.retain(|(name, path)| {
            let is_made = || {
                let known = name.as_deref().map_or(&[][..], |name| self.record.digests(name));
                !known.is_empty() && Digest::of_file(path).is_ok_and(|now| known.contains(&now))
            };
            let is_kept = name.as_deref().is_some_and(|name| KEPT.contains(&top(name)));
            let is_left_over = inside.iter().any(|place| path.starts_with(place));
            !(is_kept || is_left_over || is_ours && is_made())
        });
        let shown = |(name, path): Entry| {
            let below = path.strip_prefix(&self.path).unwrap_or(&path);
            name.unwrap_or_else(|| below.to_string_lossy().into_owned())
        };
        let mut names: Vec<String> = names.into_iter().map(shown).collect();
        names.sort();
        Ok(names)
    }

    /// Foreign files in words, a few by their names.
    pub(crate) fn in_words(names: &[String]) -> String {
        let shown: Vec<String> =
            names.iter().take(MAX_SHOWN).map(|name| format!("`{name}`")).collect();
        match names.len().saturating_sub(MAX_SHOWN) {
            0 => shown.join(", "),
            more => format!("{} and {more} more", shown.join(", ")),
        }
    }

    /// Writes it: `fill` puts files into an empty folder, which takes the place of this one. What an
    /// interrupted build has left is removed.
    pub(crate) fn write(mut self, fill: impl FnOnce(&Path) -> io::Result<()>) -> io::Result<()> {
        self.clear()?;
        let is_mounted = is_mount_point(&self.path);
        let fresh = match is_mounted {
            true => self.path.join(format!(".{}", random_name())),
            false => self.beside(),
        };
        let id = self.record.make_leftover(&fresh)?;
        let written = fill(&fresh).and_then(|()| {
            let made =
                files_in(&fresh)?.into_iter().filter_map(|(name, place)| Some((name?, place)));
            let made = made.map(|(name, place)| Ok((name, Digest::of_file(&place)?)));
            let made: BTreeMap<String, Digest> = made.collect::<io::Result<_>>()?;
            let old = FolderId::of(&self.path).ok();
            let own = old.filter(|_| is_mounted).unwrap_or(id);
            // Whichever of both folders stands there in the end, its files are known.
            self.record.expect(&made, own, old)?;
            match old {
                Some(_) if is_mounted => self.move_in(&fresh, &made)?,
                Some(old) => {
                    self.record.add_leftover(&fresh, old, false)?;
                    self.exchange(&fresh, old)?;
                }
                None => fs::rename(&fresh, &self.path)?,
            }
            Ok((made, own))
        });
        match written {
            Ok((made, id)) => {
                self.clear()?;
                self.record.hold(made, id)
            }
            Err(error) => {
                let _ = self.clear();
                Err(error)
            }
        }
    }

    /// A place beside the folder that nobody has.
    fn beside(&self) -> PathBuf {
        let short: String = self.name.chars().take(40).collect();
        parent_of(&self.path).join(format!(".{short}.{}", random_name()))
    }

    /// Removes what builds have left, but for what belongs to version control; where the folder
    /// itself was set aside and nothing came in its place, it is put back.
    fn clear(&mut self) -> io::Result<()> {
        let left: Vec<(PathBuf, Option<FolderId>)> = self.record.leftovers().collect();
        for (place, id) in left {
            let there = FolderId::of(&place).ok();
            match (there, id) {
                (Some(there), Some(id)) if there == id => {
                    if !self.path.exists() && self.record.is_set_aside(&place) {
                        fs::rename(&place, &self.path)?;
                        continue;
                    }
                    self.keep_repository(&place)?;
                    fs::remove_dir_all(&place)?;
                }
                // Made at the moment at which a build was ended: nothing is in it yet.
                (Some(_), None) => drop(fs::remove_dir(&place)),
                _ => {}
            }
        }
        self.record.forget_leftovers()
    }

    fn keep_repository(&self, folder: &Path) -> io::Result<()> {
        for name in KEPT {
            let (from, to) = (folder.join(name), self.path.join(name));
            if from.exists() && !to.exists() {
                fs::create_dir_all(&self.path)?;
                fs::rename(from, to)?;
            }
        }
        Ok(())
    }

    /// Each takes the place of the other, at one moment where the system can do that.
    fn exchange(&mut self, fresh: &Path, old: FolderId) -> io::Result<()> {
        if exchange_at_once(fresh, &self.path)? {
            return Ok(());
        }
        let aside = self.beside();
        self.record.add_leftover(&aside, old, true)?;
        fs::rename(&self.path, &aside)?;
        fs::rename(fresh, &self.path).inspect_err(|_| drop(fs::rename(&aside, &self.path)))
    }

    /// Moves files to their places in the folder that their own folder is in; pages come last.
    fn move_in(&self, fresh: &Path, made: &BTreeMap<String, Digest>) -> io::Result<()> {
        let mut names: Vec<&String> = made.keys().collect();
        names.sort_by_key(|name| (name.ends_with(".html"), *name));
        for name in names {
            let place = self.path.join(name);
            self.make_room(name, &place)?;
            fs::rename(fresh.join(name), place)?;
        }
        for (name, path) in files_in(&self.path)? {
            let stays = path.starts_with(fresh)
                || name.is_some_and(|name| made.contains_key(&name) || KEPT.contains(&top(&name)));
            if !stays {
                fs::remove_file(&path)?;
                // What is not empty stays.
                let above = path.ancestors().skip(1).take_while(|above| *above != self.path);
                let _ = above.map(fs::remove_dir).take_while(Result::is_ok).count();
            }
        }
        Ok(())
    }

    /// Folders for a file, where files may have been, and the other way round.
    fn make_room(&self, name: &str, place: &Path) -> io::Result<()> {
        for (at, _) in name.match_indices('/') {
            let above = self.path.join(&name[..at]);
            if fs::symlink_metadata(&above).is_ok_and(|data| !data.is_dir()) {
                fs::remove_file(&above)?;
            }
        }
        fs::create_dir_all(place.parent().unwrap_or(&self.path))?;
        if fs::symlink_metadata(place).is_ok_and(|data| data.is_dir()) {
            fs::remove_dir_all(place)?;
        }
        Ok(())
    }
}

fn parent_of(path: &Path) -> &Path {
    path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn top(name: &str) -> &str {
    name.split('/').next().unwrap_or(name)
}

/// A file in a folder: its name with `/`, where that is UTF-8, and its place.
type Entry = (Option<String>, PathBuf);

/// Every file below a folder.
fn files_in(folder: &Path) -> io::Result<Vec<Entry>> {
    let mut files = Vec::new();
    walk(folder, Some(""), &mut files)?;
    Ok(files)
}

fn walk(folder: &Path, before: Option<&str>, out: &mut Vec<Entry>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let own = entry.file_name();
        let name = before.zip(own.to_str()).map(|(before, own)| format!("{before}{own}"));
        match entry.file_type()?.is_dir() {
            true => {
                let below = name.map(|name| format!("{name}/"));
                walk(&entry.path(), below.as_deref(), out)?;
            }
            false => out.push((name, entry.path())),
        }
    }
    Ok(())
}

#[cfg(unix)]
fn lock(parent: &Path) -> io::Result<Option<File>> {
    let folder = File::open(parent)?;
    rustix::fs::flock(&folder, rustix::fs::FlockOperation::LockExclusive)?;
    Ok(Some(folder))
}

#[cfg(not(unix))]
fn lock(_: &Path) -> io::Result<Option<File>> {
    Ok(None)
}

/// Whether a folder cannot be renamed because it is the root of a file system, or of a part of one.
#[cfg(target_os = "linux")]
fn is_mount_point(path: &Path) -> bool {
    use rustix::fs::{AtFlags, CWD, StatxAttributes, StatxFlags, statx};

    let known = |path| statx(CWD, path, AtFlags::empty(), StatxFlags::BASIC_STATS).ok();
    let (Some(own), Some(above)) = (known(path), known(parent_of(path))) else { return false };
    let device = |known: &rustix::fs::Statx| (known.stx_dev_major, known.stx_dev_minor);
    own.stx_attributes.contains(StatxAttributes::MOUNT_ROOT) || device(&own) != device(&above)
}

#[cfg(not(target_os = "linux"))]
fn is_mount_point(_: &Path) -> bool {
    false
}

/// Whether both could take each other's place at one moment.
#[cfg(target_os = "linux")]
fn exchange_at_once(one: &Path, other: &Path) -> io::Result<bool> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};

    match renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE) {
        Ok(()) => Ok(true),
        // Some file systems cannot.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

#[cfg(not(target_os = "linux"))]
fn exchange_at_once(_: &Path, _: &Path) -> io::Result<bool> {
    Ok(false)
}
