//! An edition of a site: its rules and the list of its built files, from disk or from a revision.

mod revision;

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use ravel::files::Omission;
use ravel::language::Line;
use ravel::{Edge, FileList, Rules};
use ravel_serve::Site;

use revision::Revision;

use crate::Failure;
use crate::load::text_of;

/// One edition of a site.
pub(crate) struct Edition {
    pub(crate) name: String,
    pub(crate) edge: Edge,
}

/// Rules whose built files are still to be found.
pub(crate) struct EditionRules<'p> {
    name: String,
    rules: Rules,
    /// The folder that the rules file is in, on disk.
    folder: Option<PathBuf>,
    revision: Option<Revision<'p>>,
}

impl<'p> EditionRules<'p> {
    /// Reads the rules of OLD or NEW; `usual` is the rules file that is meant where a folder or a
    /// revision alone is named.
    pub(crate) fn read(text: &str, usual: &'p Path) -> Result<EditionRules<'p>, Failure> {
        let forced = text.strip_prefix("git:");
        let path = Path::new(text);
        if forced.is_none() && path.exists() {
            let file = match path.is_dir() {
                true => path.join(usual.file_name().unwrap_or_default()),
                false => path.to_owned(),
            };
            return EditionRules::on_disk(&file);
        }
        let at = usual.parent().unwrap_or(Path::new(""));
        let file = usual.file_name().unwrap_or_default().to_string_lossy();
        let revision = Revision::find(forced.unwrap_or(text), at, &file)?;
        let bytes = revision.rules_text()?;
        let name = format!("{}:{}", revision.name, revision.rules);
        // Lines are named with the revision: the file of the working tree may be another.
        let inside = format!("{}:", revision.name);
        let rules = parse(&name, text_of(bytes, &name)?, |path| {
            revision.bytes_within(path.strip_prefix(&inside).unwrap_or(path))
        })?;
        Ok(EditionRules { name, rules, folder: None, revision: Some(revision) })
    }

    pub(crate) fn on_disk(file: &Path) -> Result<EditionRules<'p>, Failure> {
        let site = Site::read_rules(file)?;
        let rules = site.rules().clone();
        let folder = Some(site.folder().clone());
        Ok(EditionRules { name: file.display().to_string(), rules, folder, revision: None })
    }

    /// The built files: those that are named, those of the revision, or those of the folder that the
    /// rules name. None where a revision does not have them.
    pub(crate) fn files(&self, named: Option<&Path>) -> Result<Option<FileList>, Failure> {
        if let Some(path) = named {
            return listed(path).map(Some);
        }
        let Some(folder) = self.rules.site().files() else { return Ok(Some(FileList::default())) };
        match (&self.revision, &self.folder) {
            (Some(revision), _) => Ok(revision.files(folder)),
            (None, Some(at)) => {
                Ok(Some(self.without_own(Site::files_of(&at.join(folder))?, folder)))
            }
            (None, None) => Ok(None),
        }
    }

    /// Rules files that are in the folder are not published.
    fn without_own(&self, files: FileList, folder: &str) -> FileList {
        if folder != "." {
            return files;
        }
        let within = self.rules.folder();
        let own = self.rules.sources().iter();
        let own = own.map(|source| source.strip_prefix(within).unwrap_or(source));
        files.without(own, Omission::Rules)
    }

    pub(crate) fn with_files(self, files: FileList) -> Edition {
        Edition { name: self.name, edge: Edge::new(&self.rules, files) }
    }

    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    pub(crate) fn rules(&self) -> &Rules {
        &self.rules
    }
}

impl Edition {
    /// A line as people name it.
    pub(crate) fn line(&self, line: Line) -> String {
        self.edge.rules().line_name(line)
    }
}

/// A folder of built files, or a list of their names, one a line.
fn listed(path: &Path) -> Result<FileList, Failure> {
    if path.is_dir() {
        return Ok(Site::files_of(path)?);
    }
    let name = path.display().to_string();
    let bytes = std::fs::read(path)
        .map_err(|error| Failure::Message(format!("cannot read `{name}`: {error}")))?;
    let text = text_of(bytes, &name)?;
    let names = text.lines().map(|line| line.trim().trim_start_matches("./"));
    Ok(names.filter(|name| !name.is_empty()).collect())
}

fn parse(
    name: &str,
    text: String,
    read: impl Fn(&str) -> Result<Vec<u8>, String>,
) -> Result<Rules, Failure> {
    let mut texts: HashMap<String, String> = HashMap::from([(name.to_owned(), text.clone())]);
    let parsed = Rules::read(name, &text, |wanted| {
        let bytes = read(wanted)?;
        texts.insert(wanted.to_owned(), String::from_utf8_lossy(&bytes).into_owned());
        Ok::<_, String>(bytes)
    });
    parsed.map_err(|problems| Failure::Rules(problems, texts))
}
