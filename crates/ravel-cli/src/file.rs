//! Files that are written: beside their place, and renamed, so that none is ever half there.

use std::fs::{self, File, OpenOptions};
use std::hash::{BuildHasher, RandomState};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use crate::Failure;

/// As many as systems follow.
const MAX_LINKS: usize = 40;

/// Writes a file that was asked for; says why where it cannot.
pub(crate) fn write_or_say(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    write_beside(path, bytes).map_err(|error| unwritable(path, &error))
}

pub(crate) fn unwritable(path: &Path, error: &io::Error) -> Failure {
    Failure::Message(format!("cannot write `{}`: {error}", path.display()))
}

/// Writes a file, whether or not there is one. A link stays one, and what it leads to is written,
/// whether or not that is there; a file's permissions stay; a pipe or a device is written as it is.
pub(crate) fn write_beside(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let place = behind_links(path)?;
    let before = fs::metadata(&place).ok();
    if before.as_ref().is_some_and(|data| !data.is_file()) {
        return OpenOptions::new().write(true).open(&place)?.write_all(bytes);
    }
    let fresh = Fresh::beside(&place, bytes)?;
    if let Some(data) = before {
        fs::set_permissions(&fresh.0, data.permissions())?;
    }
    fs::rename(&fresh.0, &place)
}

/// Writes a file where there is none, not even one that comes meanwhile.
///
/// # Errors
/// [`AlreadyExists`](io::ErrorKind::AlreadyExists) where there is one.
pub(crate) fn write_new(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let place = behind_links(path)?;
    if fs::symlink_metadata(&place).is_ok() {
        return Err(io::ErrorKind::AlreadyExists.into());
    }
    let fresh = Fresh::beside(&place, bytes)?;
    match fs::hard_link(&fresh.0, &place) {
        // Some file systems have no second names.
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::Unsupported | io::ErrorKind::PermissionDenied
            ) =>
        {
            File::create_new(&place)?.write_all(bytes)
        }
        result => result,
    }
}

/// A name that nobody else has.
pub(crate) fn random_name() -> String {
    format!("{:016x}", RandomState::new().hash_one(std::process::id()))
}

/// A file under a name of its own, which is removed unless it was renamed.
struct Fresh(PathBuf);

impl Fresh {
    fn beside(place: &Path, bytes: &[u8]) -> io::Result<Fresh> {
        let name =
            place.file_name().ok_or_else(|| io::Error::other("it has no name of its own"))?;
        // A name as long as systems take leaves no room for more.
        let short: String = name.to_string_lossy().chars().take(40).collect();
        let path = place.with_file_name(format!(".{short}.{}", random_name()));
        let mut file = File::create_new(&path)?;
        let fresh = Fresh(path);
        file.write_all(bytes)?;
        Ok(fresh)
    }
}

impl Drop for Fresh {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

/// Where a path leads, whether or not something is there.
fn behind_links(path: &Path) -> io::Result<PathBuf> {
    let mut path = path.to_owned();
    for _ in 0..MAX_LINKS {
        match fs::read_link(&path) {
            // What is no link, and what is not there.
            Err(_) => return Ok(path),
            Ok(to) => path = path.parent().unwrap_or(Path::new("")).join(to),
        }
    }
    Err(io::Error::other("it is a link that leads to itself"))
}
