//! A folder that is written whole: at every moment it is the old one or the new one.
//!
//! ```text
//!   .OUT.building/    the new folder, until it takes the place of OUT; then the old one, until it is removed
//!   .OUT.made         the files that were made, a line each
//! ```
//!
//! Both stand beside the folder, so that nothing of them is published. The folder that all of them are in is locked
//! meanwhile: who builds at the same time waits.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

/// What belongs to a version control system, and is kept whatever happens.
const KEPT: [&str; 3] = [".git", ".hg", ".svn"];

/// Names of foreign files that an error shows.
const MAX_SHOWN: usize = 3;

/// A folder to be written, which nobody else writes meanwhile.
pub(crate) struct OutFolder {
    /// Where it really is, if the path is a symbolic link.
    path: PathBuf,
    building: PathBuf,
    list: PathBuf,
    made: BTreeSet<String>,
    /// Keeps the lock.
    _lock: Option<File>,
}

impl OutFolder {
    /// Takes the folder; what an interrupted build has left is removed.
    pub(crate) fn take(path: &Path) -> io::Result<OutFolder> {
        let path = match fs::canonicalize(path) {
            Ok(real) => real,
            Err(error) if error.kind() == io::ErrorKind::NotFound => path.to_owned(),
            Err(error) => return Err(error),
        };
        let name = path.file_name().ok_or_else(|| io::Error::other("it has no name of its own"))?;
        let beside = |end: &str| path.with_file_name(format!(".{}.{end}", name.to_string_lossy()));
        let (building, list) = (beside("building"), beside("made"));
        let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty());
        let parent = parent.unwrap_or(Path::new("."));
        fs::create_dir_all(parent)?;
        let lock = lock(parent)?;
        let made = match fs::read_to_string(&list) {
            Ok(text) => text.lines().map(str::to_owned).collect(),
            Err(_) => BTreeSet::new(),
        };
        let folder = OutFolder { building, made, _lock: lock, path, list };
        folder.clear()?;
        Ok(folder)
    }

    /// The files in it that no build has made, but for those of version control; in order.
    pub(crate) fn foreign(&self) -> io::Result<Vec<String>> {
        let mut names = Vec::new();
        if self.path.exists() {
            walk(&self.path, "", &mut names)?;
        }
        names.retain(|name| !self.made.contains(name) && !KEPT.contains(&top(name)));
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

    /// Writes it: `fill` puts these files into an empty folder, which takes the place of this one.
    pub(crate) fn write(
        &self,
        names: impl Iterator<Item = String>,
        fill: impl FnOnce(&Path) -> io::Result<()>,
    ) -> io::Result<()> {
        fs::create_dir(&self.building)?;
        let names: BTreeSet<String> = names.collect();
        let written = fill(&self.building).and_then(|()| {
            // Whichever of both folders stands there in the end, its files are listed.
            self.keep_list(self.made.union(&names))?;
            match self.path.exists() {
                true => exchange(&self.building, &self.path),
                false => fs::rename(&self.building, &self.path),
            }
        });
        if written.is_err() {
            let _ = fs::remove_dir_all(&self.building);
        }
        written?;
        self.clear()?;
        self.keep_list(names.iter())
    }

    /// Removes what is beside the folder, but for what belongs to version control.
    fn clear(&self) -> io::Result<()> {
        let set_aside = set_aside(&self.building);
        if set_aside.exists() && !self.path.exists() {
            fs::rename(&set_aside, &self.path)?;
        }
        self.remove(&set_aside)?;
        self.remove(&self.building)
    }

    fn remove(&self, folder: &Path) -> io::Result<()> {
        if !folder.exists() {
            return Ok(());
        }
        for name in KEPT {
            let (from, to) = (folder.join(name), self.path.join(name));
            if from.exists() && !to.exists() {
                fs::create_dir_all(&self.path)?;
                fs::rename(from, to)?;
            }
        }
        fs::remove_dir_all(folder)
    }

    /// A list that is cut short would make files foreign, so it is renamed, too.
    fn keep_list<'n>(&self, names: impl Iterator<Item = &'n String>) -> io::Result<()> {
        let text: String = names.map(|name| format!("{name}\n")).collect();
        let fresh = self.list.with_extension("made.new");
        fs::write(&fresh, text)?;
        fs::rename(fresh, &self.list)
    }
}

fn top(name: &str) -> &str {
    name.split('/').next().unwrap_or(name)
}

/// Every file below a folder, by its path with `/`; what is not UTF-8 is shown as good as it can be.
fn walk(folder: &Path, before: &str, out: &mut Vec<String>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let name = format!("{before}{}", entry.file_name().to_string_lossy());
        match entry.file_type()?.is_dir() {
            true => walk(&entry.path(), &format!("{name}/"), out)?,
            false => out.push(name),
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

/// Each takes the place of the other, at one moment where the system can do that.
#[cfg(target_os = "linux")]
fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};

    match renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE) {
        // Some file systems cannot.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => exchange_by_names(one, other),
        result => result.map_err(io::Error::from),
    }
}

#[cfg(not(target_os = "linux"))]
fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    exchange_by_names(one, other)
}

/// Where the old folder is for a moment, where a system cannot exchange two.
fn set_aside(building: &Path) -> PathBuf {
    building.with_extension("old")
}

fn exchange_by_names(one: &Path, other: &Path) -> io::Result<()> {
    let third = set_aside(one);
    fs::rename(other, &third)?;
    fs::rename(one, other).inspect_err(|_| drop(fs::rename(&third, other)))?;
    fs::rename(third, one)
}
