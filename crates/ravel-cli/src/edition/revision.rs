//! Files as a revision of a git repository has them.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

use ravel::FileList;

use crate::Failure;

/// A revision, with the path of the rules file from the root of the repository.
pub(super) struct Revision<'p> {
    /// A folder of the working tree.
    at: &'p Path,
    pub(super) name: String,
    pub(super) rules: String,
}

impl<'p> Revision<'p> {
    /// Finds `REV` or `REV:PATH`; without a path it is that of the rules file `usual` in the folder.
    pub(super) fn find(text: &str, at: &'p Path, usual: &str) -> Result<Revision<'p>, Failure> {
        let (name, path) = match text.split_once(':') {
            Some((name, path)) => (name, Some(path)),
            None => (text, None),
        };
        let fail = |message: String| Err(Failure::Message(message));
        if name.is_empty() || name.starts_with('-') {
            return fail(format!("`{text}` is not a git revision: write `REV` or `REV:PATH`"));
        }
        let prefix = match git(at, &["rev-parse", "--show-prefix"]) {
            Ok(prefix) => String::from_utf8_lossy(&prefix).trim_end_matches('\n').to_owned(),
            Err(GitError::Missing) => {
                return fail(format!("cannot read the revision `{name}`: there is no `git` here"));
            }
            Err(GitError::Refused(_)) => {
                return fail(format!(
                    "`{text}` is not a file or a folder, and `{}` is not in a git repository",
                    shown(at)
                ));
            }
        };
        let commit = format!("{name}^{{commit}}");
        if git(at, &["rev-parse", "--verify", "--quiet", "--end-of-options", &commit]).is_err() {
            return fail(unknown(at, name));
        }
        let rules = match path {
            None => joined(&prefix, usual),
            Some(path) if path.starts_with("./") || path.starts_with("../") => {
                joined(&prefix, path)
            }
            Some(path) => joined("", path),
        };
        let Some(rules) = rules else {
            return fail(format!("`{text}` is outside of the repository"));
        };
        Ok(Revision { at, name: name.to_owned(), rules })
    }

    /// A file by its path from the root.
    fn bytes(&self, path: &str) -> Result<Vec<u8>, String> {
        let object = format!("{}:{path}", self.name);
        let listed = git(self.at, &["ls-tree", "-z", "--full-tree", &self.name, "--", path]);
        // Links are followed as far as they stay in the revision.
        if listed.is_ok_and(|listed| !listed.starts_with(b"100")) && !path.contains('\n') {
            return self.behind_links(&object);
        }
        git(self.at, &["cat-file", "blob", &object]).map_err(GitError::words)
    }

    fn behind_links(&self, object: &str) -> Result<Vec<u8>, String> {
        let arguments = ["cat-file", "--batch", "--follow-symlinks"];
        let said =
            git_with(self.at, &arguments, &format!("{object}\n")).map_err(GitError::words)?;
        let end = said.iter().position(|byte| *byte == b'\n').unwrap_or(said.len());
        let head = String::from_utf8_lossy(&said[..end]).into_owned();
        let rest = said.get(end + 1..).unwrap_or_default();
        match *head.split(' ').collect::<Vec<_>>() {
            [_, "blob", length] => {
                let length = length.parse().unwrap_or(rest.len()).min(rest.len());
                Ok(rest[..length].to_vec())
            }
            ["symlink", _] => {
                let to = String::from_utf8_lossy(rest);
                Err(format!(
                    "it is a link that leads to `{}`, out of the repository",
                    to.trim_end()
                ))
            }
            ["dangling" | "loop" | "notdir", _] => {
                Err("it is a link that leads nowhere".to_owned())
            }
            _ => Err(format!("there is no such file in `{}`", self.name)),
        }
    }

    /// The text of the rules file.
    pub(super) fn rules_text(&self) -> Result<Vec<u8>, Failure> {
        self.bytes(&self.rules).map_err(|why| {
            let others = self.others();
            let help = match &others[..] {
                [] => format!("git says: {why}"),
                [one] => format!("it has `{one}`: write `{}:{one}`", self.name),
                some => format!("it has {}: write `{}:PATH`", list(some), self.name),
            };
            Failure::Message(format!("`{}` has no file `{}`; {help}", self.name, self.rules))
        })
    }

    /// A file that the rules name, by its path from the root.
    pub(super) fn bytes_within(&self, path: &str) -> Result<Vec<u8>, String> {
        match path.starts_with("../") {
            true => Err("it is outside of the repository".to_owned()),
            false => self.bytes(path),
        }
    }

    /// The built files that are part of the revision, in a folder by its path from the rules' folder;
    /// none where the folder is not part of it.
    pub(super) fn files(&self, path: &str) -> Option<FileList> {
        let path = joined(folder(&self.rules), path)?;
        let tree = format!("{}:{path}", self.name);
        let listed = git(self.at, &["ls-tree", "-r", "-z", "--full-tree", &tree]).ok()?;
        let listed = String::from_utf8_lossy(&listed).into_owned();
        // Links and submodules are not files.
        let files = listed.split('\0').filter(|entry| entry.starts_with("100"));
        let names: Vec<&str> = files.filter_map(|entry| Some(entry.split_once('\t')?.1)).collect();
        let rules = self.rules.strip_prefix(&format!("{path}/"));
        let is_own = |name: &&&str| rules != Some(**name);
        (!names.is_empty()).then(|| names.iter().filter(is_own).collect())
    }

    /// Rules files of other names.
    fn others(&self) -> Vec<String> {
        let listed =
            git(self.at, &["ls-tree", "-r", "-z", "--full-tree", "--name-only", &self.name]);
        let listed = String::from_utf8_lossy(&listed.unwrap_or_default()).into_owned();
        let rules = listed.split('\0').filter(|name| name.ends_with(".ravel"));
        rules.map(str::to_owned).collect()
    }
}

/// Why there is no such revision.
fn unknown(at: &Path, name: &str) -> String {
    let says = |arguments: &[&str]| {
        git(at, arguments).is_ok_and(|said| String::from_utf8_lossy(&said).trim() == "true")
    };
    if git(at, &["rev-parse", "--verify", "--quiet", "HEAD"]).is_err() {
        return format!("`{name}` is not a revision: this branch has no commit yet");
    }
    if says(&["rev-parse", "--is-shallow-repository"]) {
        return format!(
            "`{name}` is not a revision that is here: this clone is shallow; fetch more of it with `git fetch --unshallow`"
        );
    }
    format!("`{name}` is not a file, a folder or a git revision")
}

enum GitError {
    Missing,
    Refused(String),
}

impl GitError {
    fn words(self) -> String {
        match self {
            GitError::Missing => "there is no `git` here".to_owned(),
            GitError::Refused(why) => why,
        }
    }
}

/// What git answers. It is asked in no language but its own, and takes no locks.
fn git(at: &Path, arguments: &[&str]) -> Result<Vec<u8>, GitError> {
    git_with(at, arguments, "")
}

/// The same with a short input.
fn git_with(at: &Path, arguments: &[&str], input: &str) -> Result<Vec<u8>, GitError> {
    let folder = if at.as_os_str().is_empty() { Path::new(".") } else { at };
    let run = Command::new("git")
        .arg("-C")
        .arg(folder)
        .args(arguments)
        .env("GIT_OPTIONAL_LOCKS", "0")
        .env("LC_ALL", "C")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .and_then(|mut git| {
            // What does not read it says why itself.
            let _ = git.stdin.take().map(|mut stdin| stdin.write_all(input.as_bytes()));
            git.wait_with_output()
        });
    match run {
        Err(_) => Err(GitError::Missing),
        Ok(run) if run.status.success() => Ok(run.stdout),
        Ok(run) => {
            let why = String::from_utf8_lossy(&run.stderr).trim().to_owned();
            Err(GitError::Refused(why.trim_start_matches("fatal: ").to_owned()))
        }
    }
}

fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// A path below a folder, both from the root, without `.` and `..`; none where it leads out of the
/// root.
fn joined(folder: &str, path: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()?),
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

fn list(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}

fn shown(at: &Path) -> String {
    if at.as_os_str().is_empty() { ".".to_owned() } else { at.display().to_string() }
}
