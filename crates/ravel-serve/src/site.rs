//! Reading rules files and folders from disk.

use std::collections::HashMap;
use std::fmt;
use std::fs;
use std::io::ErrorKind;
use std::path::{Component, Path, PathBuf};

use ravel::files::Omission;
use ravel::finding::Finding;
use ravel::language::{Line, Problems};
use ravel::rules::Domain;
use ravel::{Edge, FileList, Rules};
use std::time::SystemTime;
use walkdir::WalkDir;

/// A rules file with the folder it speaks of, read and compiled.
#[derive(Debug)]
pub struct Site {
    pub(crate) rules: Rules,
    pub(crate) edge: Edge,
    pub(crate) texts: HashMap<String, String>,
    pub(crate) root: Option<PathBuf>,
    pub(crate) folder: PathBuf,
}

/// Why a site could not be read.
#[derive(Debug)]
#[non_exhaustive]
pub enum ReadError {
    /// The rules have problems; with the texts that they stand in.
    Rules(Problems, HashMap<String, String>),
    /// A file or a folder; the message says what to do.
    Disk(String),
}

impl fmt::Display for ReadError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ReadError::Rules(problems, _) => problems.fmt(f),
            ReadError::Disk(message) => f.write_str(message),
        }
    }
}

impl std::error::Error for ReadError {}

impl Site {
    /// Takes in the text of a file that the rules do not name themselves, so that it can be shown.
    pub fn know(&mut self, name: &str, text: &str) {
        self.texts.insert(name.to_owned(), text.to_owned());
    }

    /// Reads a rules file and the folder of files that it names.
    ///
    /// ```no_run
    /// let site = ravel_serve::Site::read("edge.ravel".as_ref())?;
    /// println!("{} files", site.edge().files().names().len());
    /// # Ok::<(), ravel_serve::ReadError>(())
    /// ```
    ///
    /// # Errors
    /// Every problem of the rules, or what could not be read.
    pub fn read(path: &Path) -> Result<Site, ReadError> {
        Site::read_without(path, None)
    }

    /// Reads a rules file alone, as if its folder were empty: it need not be built.
    ///
    /// # Errors
    /// Every problem of the rules, or what could not be read.
    pub fn read_rules(path: &Path) -> Result<Site, ReadError> {
        let (rules, texts) = rules(path)?;
        let root = rules.site().files().as_ref().map(|folder| parent(path).join(&**folder));
        let edge = Edge::new(&rules, FileList::default());
        Ok(Site { rules, edge, texts, root, folder: parent(path).to_owned() })
    }

    /// The files of a folder.
    ///
    /// ```no_run
    /// let files = ravel_serve::Site::files_of("dist".as_ref())?;
    /// println!("{} files", files.names().len());
    /// # Ok::<(), ravel_serve::ReadError>(())
    /// ```
    ///
    /// # Errors
    /// What could not be read.
    pub fn files_of(folder: &Path) -> Result<FileList, ReadError> {
        list(folder, None, "no such folder; build the site first, or correct the name")
    }

    /// The same without the files of a folder.
    pub(crate) fn read_without(path: &Path, private: Option<&Path>) -> Result<Site, ReadError> {
        let (rules, texts) = rules(path)?;
        let root = rules.site().files().as_ref().map(|folder| parent(path).join(&**folder));
        let files = match &root {
            Some(root) => {
                let own = own_names(&rules, path, root);
                list(root, private, NO_FILES)?
                    .without(own.iter().map(String::as_str), Omission::Rules)
            }
            None => FileList::default(),
        };
        let edge = Edge::new(&rules, files);
        Ok(Site { rules, edge, texts, root, folder: parent(path).to_owned() })
    }

    /// Whether a folder is among the files, or would be.
    pub(crate) fn serves(&self, folder: &Path) -> bool {
        let there = folder.ancestors().find_map(|folder| folder.canonicalize().ok());
        let root = self.root.as_ref().and_then(|root| root.canonicalize().ok());
        there.zip(root).is_some_and(|(there, root)| there.starts_with(root))
    }

    /// The same files, answered for by other rules.
    pub(crate) fn answering(&self, rules: Rules) -> Site {
        let edge = Edge::new(&rules, self.edge.files().clone());
        Site {
            rules,
            edge,
            texts: self.texts.clone(),
            root: self.root.clone(),
            folder: self.folder.clone(),
        }
    }

    /// The bytes of a file of the list.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub fn bytes(&self, name: &str) -> std::io::Result<Vec<u8>> {
        read_file(&self.root.as_deref().unwrap_or(Path::new("")).join(name))
    }

    /// The bytes of a file that the rules name. A zone and a certificate may be anywhere; what a zone
    /// includes must be in the repository, or without one in the folder of the rules file.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub fn named(&self, path: &str) -> std::io::Result<Vec<u8>> {
        let files = |domain: &Domain| [domain.zone().cloned(), domain.certificate().cloned()];
        let mut named = self.rules.domains().iter().flat_map(files).flatten();
        match named.any(|file| file.path() == path) {
            true => read_file(Path::new(path)),
            false => read_within(&self.folder, Path::new(path)),
        }
    }

    /// What is wrong with the site's zones and certificates now.
    pub fn domain_findings(&self) -> Vec<Finding> {
        ravel_dns::findings(&self.rules, SystemTime::now().into(), |path| self.named(path))
    }

    /// A line as people name it: `edge.ravel:9`.
    pub fn name(&self, line: Line) -> String {
        self.rules.line_name(line)
    }

    /// The file of a line.
    pub fn source(&self, line: Line) -> &str {
        self.rules.source(line)
    }

    /// The rules.
    pub fn rules(&self) -> &Rules {
        &self.rules
    }

    /// What answers.
    pub fn edge(&self) -> &Edge {
        &self.edge
    }

    /// The texts of the rules' files, by their names.
    pub fn texts(&self) -> &HashMap<String, String> {
        &self.texts
    }

    /// The folder of files, if the rules name one.
    pub fn root(&self) -> Option<&PathBuf> {
        self.root.as_ref()
    }

    /// The folder of the rules file.
    pub fn folder(&self) -> &PathBuf {
        &self.folder
    }
}

/// The text of a file.
///
/// ```
/// assert_eq!(ravel_serve::text_of(b"site".to_vec(), "edge.ravel"), Ok("site".to_owned()));
/// ```
///
/// # Errors
/// The line on which it is no UTF-8.
pub fn text_of(bytes: Vec<u8>, name: &str) -> Result<String, String> {
    String::from_utf8(bytes).map_err(|error| {
        let good = &error.as_bytes()[..error.utf8_error().valid_up_to()];
        let line = 1 + good.iter().filter(|byte| **byte == b'\n').count();
        format!("`{name}` is not UTF-8 on line {line}; save it as UTF-8")
    })
}

fn parent(path: &Path) -> &Path {
    path.parent().unwrap_or(Path::new(""))
}

fn rules(path: &Path) -> Result<(Rules, HashMap<String, String>), ReadError> {
    let name = named_from_here(path);
    let bytes = fs::read(path).map_err(|error| match error.kind() {
        ErrorKind::NotFound => ReadError::Disk(format!(
            "cannot read `{}`: no such file; write it, or name another with `--rules FILE`",
            path.display()
        )),
        _ => ReadError::Disk(format!("cannot read `{}`: {error}", path.display())),
    })?;
    let text = text_of(bytes, &path.display().to_string()).map_err(ReadError::Disk)?;
    let mut texts: HashMap<String, String> = HashMap::from([(name.clone(), text.clone())]);
    let parsed = Rules::read(&name, &text, |wanted| {
        let bytes = read_within(parent(path), Path::new(wanted))?;
        texts.insert(wanted.to_owned(), String::from_utf8_lossy(&bytes).into_owned());
        Ok::<_, std::io::Error>(bytes)
    });
    match parsed {
        Ok(rules) => Ok((rules, texts)),
        Err(found) => Err(ReadError::Rules(found, texts)),
    }
}

/// The name of a file in what people and editors read: its path from the current folder.
fn named_from_here(path: &Path) -> String {
    let text = path.to_string_lossy();
    let text = if cfg!(windows) { text.replace('\\', "/") } else { text.into_owned() };
    text.strip_prefix("./").map_or(&*text, |rest| rest).to_owned()
}

/// The names that the rules' own files have in the folder, if they are there.
fn own_names(rules: &Rules, path: &Path, root: &Path) -> Vec<String> {
    let Ok(root) = root.canonicalize() else { return Vec::new() };
    let named = rules.sources().iter().skip(1).map(|source| PathBuf::from(&**source));
    std::iter::once(path.to_owned())
        .chain(named)
        .filter_map(|name| name.canonicalize().ok())
        .filter_map(|full| Some(slashed(full.strip_prefix(&root).ok()?)))
        .collect()
}

/// What is not a file, and no trouble: a link that leads nowhere, or back to a folder it is in; what a
/// build takes away while it is at work.
fn is_passed_over(error: &walkdir::Error) -> bool {
    let is_gone = || error.io_error().is_some_and(|why| why.kind() == ErrorKind::NotFound);
    error.loop_ancestor().is_some()
        || error.path().is_some_and(Path::is_symlink)
        || (error.depth() > 0 && is_gone())
}

/// Why the folder of the rules cannot be read.
const NO_FILES: &str =
    "no such folder; the rules name it with `files`: build the site first, or correct the name";

/// Every file of a folder; links that lead out of it are left out, and what cannot be read.
fn list(root: &Path, private: Option<&Path>, no_folder: &str) -> Result<FileList, ReadError> {
    let unreadable = |error: &dyn std::fmt::Display| {
        ReadError::Disk(format!("cannot read the folder `{}`: {error}", root.display()))
    };
    let real = match root.canonicalize() {
        Ok(real) => real,
        Err(error) if error.kind() == ErrorKind::NotFound => {
            return Err(unreadable(&no_folder));
        }
        Err(error) => return Err(unreadable(&error)),
    };
    let private = private.and_then(|private| private.canonicalize().ok());
    let (mut names, mut unreadable_names) = (Vec::new(), Vec::new());
    let (mut links, mut unspelled) = (Vec::new(), Vec::new());
    let mut entries = WalkDir::new(&real).follow_links(true).into_iter();
    while let Some(entry) = entries.next() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) if is_passed_over(&error) => continue,
            Err(error) if error.depth() > 0 => {
                let name = error.path().and_then(|path| path.strip_prefix(&real).ok());
                unreadable_names.extend(name.map(slashed));
                continue;
            }
            Err(error) => return Err(unreadable(&error)),
        };
        if private.as_deref() == Some(entry.path()) {
            entries.skip_current_dir();
            continue;
        }
        let leads_out = entry.path_is_symlink()
            && !entry.path().canonicalize().is_ok_and(|target| target.starts_with(&real));
        if leads_out {
            links.extend(entry.path().strip_prefix(&real).map(slashed));
            if entry.file_type().is_dir() {
                entries.skip_current_dir();
            }
            continue;
        }
        if entry.file_type().is_file()
            && let Ok(name) = entry.path().strip_prefix(&real)
        {
            let list = match name.to_str().is_some() {
                true if is_readable(entry.path()) => &mut names,
                true => &mut unreadable_names,
                false => &mut unspelled,
            };
            list.push(slashed(name));
        }
    }
    let files = FileList::from_iter(names);
    let links = links.iter().map(String::as_str);
    Ok(files
        .without(links, Omission::Link)
        .without(unreadable_names.iter().map(String::as_str), Omission::Unreadable)
        .without(unspelled.iter().map(String::as_str), Omission::NotUtf8))
}

/// The bytes of a file; what is none, such as a pipe, could hold its reader up for ever.
fn read_file(path: &Path) -> std::io::Result<Vec<u8>> {
    match fs::metadata(path)?.is_file() {
        true => fs::read(path),
        false => Err(std::io::Error::other("it is not a file")),
    }
}

/// The bytes of a file that another one names.
///
/// # Errors
/// Why it cannot be read, or that it is out of reach.
fn read_within(folder: &Path, path: &Path) -> std::io::Result<Vec<u8>> {
    let here = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let missing = |error: std::io::Error| match error.kind() {
        ErrorKind::NotFound => std::io::Error::new(ErrorKind::NotFound, "there is no such file"),
        _ => error,
    };
    let (real, reach) = (path.canonicalize().map_err(missing)?, reach(&here.canonicalize()?));
    if real.starts_with(&reach) {
        return read_file(&real);
    }
    let what = match reach.join(".git").exists() {
        true => "the repository",
        false => "the folder of the rules file, which is in no repository",
    };
    let leads = match path.components().any(|part| part == Component::ParentDir) {
        true => "it ".to_owned(),
        false => format!("it is a link that leads to `{}`, and that ", real.display()),
    };
    Err(std::io::Error::other(format!("{leads}is outside of {what}: `{}`", reach.display())))
}

/// Where what the rules name may be: the repository that their folder is in, or else that folder.
fn reach(folder: &Path) -> PathBuf {
    let repository = folder.ancestors().find(|above| above.join(".git").exists());
    repository.unwrap_or(folder).to_owned()
}

/// Whether this process may read a file.
fn is_readable(path: &Path) -> bool {
    #[cfg(unix)]
    return rustix::fs::access(path, rustix::fs::Access::READ_OK).is_ok();
    #[cfg(not(unix))]
    return true;
}

/// A relative path with `/` between its parts.
fn slashed(path: &Path) -> String {
    path.components().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}
