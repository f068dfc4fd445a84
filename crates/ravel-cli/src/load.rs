//! Reading sites, and writing files.

use std::fs;
use std::ops::Deref;
use std::path::Path;
use std::sync::Arc;

use ravel_serve::{ReadError, Site};

use crate::{Failure, problems};

/// A site that was read.
pub(crate) struct LoadedSite(Arc<Site>);

impl Deref for LoadedSite {
    type Target = Site;

    fn deref(&self) -> &Site {
        &self.0
    }
}

impl LoadedSite {
    /// Takes in the text of a file that the rules do not name themselves.
    pub(crate) fn know(&mut self, name: &str, text: &str) {
        if let Some(site) = Arc::get_mut(&mut self.0) {
            site.know(name, text);
        }
    }

    /// The site, to be shared.
    pub(crate) fn shared(&self) -> &Arc<Site> {
        &self.0
    }

    /// Reads a rules file and its folder; problems are shown on standard error.
    pub(crate) fn read(path: &Path) -> Result<LoadedSite, Failure> {
        Site::read(path).map(|site| LoadedSite(Arc::new(site))).map_err(|error| match error {
            ReadError::Rules(found, texts) => {
                anstream::eprintln!("{}", problems::render(&found, &texts));
                Failure::Message(String::new())
            }
            error => Failure::Message(error.to_string()),
        })
    }
}

/// The text of a file, which must be UTF-8.
pub(crate) fn text_of(bytes: Vec<u8>, name: &str) -> Result<String, Failure> {
    ravel_serve::text_of(bytes, name).map_err(Failure::Message)
}

/// Writes a file that was asked for; says why where it cannot.
pub(crate) fn write_or_say(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    write_beside(path, bytes).map_err(|error| {
        Failure::Message(format!("`{}` cannot be written: {error}", path.display()))
    })
}

/// Writes a file beside its place and renames it, so that it is never half there.
pub(crate) fn write_beside(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = path.with_file_name(format!(".{name}.{}", std::process::id()));
    fs::write(&beside, bytes)?;
    fs::rename(&beside, path).inspect_err(|_| drop(fs::remove_file(&beside)))
}
