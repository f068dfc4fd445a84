//! `ravel draft`: the first rules of a site, from what its build shows.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use ravel::FileList;
use ravel_draft::{Draft, OldSite};
use ravel_serve::Site;
use serde_json::json;

use crate::file::{unwritable, write_new};
use crate::progress::Progress;
use crate::style::{FAINT, NOTE, count, in_style};
use crate::urls::UrlSources;
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The folder with the built files
    #[arg(value_name = "FOLDER")]
    folder: PathBuf,
    /// The URL that the site will have, with its base path
    #[arg(long, value_name = "URL")]
    at: String,
    /// What the site was asked for before: a list, a table as CSV or TSV, a sitemap, or the folder
    /// that was published; redirects are drafted for those that are missing now. May be given several times
    #[arg(long, value_name = "SOURCE")]
    old: Vec<String>,
    /// The folder that was published before, of which the pages are compared with those of now
    #[arg(long, value_name = "FOLDER")]
    old_files: Option<PathBuf>,
    /// The URL that the site had before, with its base path, if it was another
    #[arg(long, value_name = "URL")]
    old_at: Option<String>,
    /// Only the redirects for old URLs that are missing now, for rules that are there already
    #[arg(long, conflicts_with = "write")]
    moves: bool,
    /// Write the rules to a file that is not there yet
    #[arg(long, value_name = "FILE")]
    write: Option<PathBuf>,
    /// Output JSON
    #[arg(long, conflicts_with = "write")]
    pub(crate) json: bool,
}

pub(crate) fn run(arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let folder = &arguments.folder;
    let files = Site::files_of(folder)?;
    let named = folder_from(arguments.write.as_deref(), folder)?;
    let old = old_site(arguments)?;
    let progress = Progress::new(number_read(&files) + old.len(), "files and old URLs");
    let read = read_with(&progress, folder);
    let looked_at = |_: &str| progress.step();
    let draft = Draft::after(&arguments.at, &named, files.names(), read, &old, &looked_at)
        .map_err(|error| Failure::Message(error.to_string()))?;
    drop(progress);
    if arguments.json {
        writeln!(out, "{:#}", json!({ "rules": draft.rules(), "moves": draft.moves() }))?;
        return Ok(ExitStatus::Well);
    }
    if arguments.moves {
        out.write_all(draft.moves().as_bytes())?;
        return Ok(ExitStatus::Well);
    }
    let Some(file) = &arguments.write else {
        out.write_all(draft.rules().as_bytes())?;
        return Ok(ExitStatus::Well);
    };
    let name = file.display();
    // Nobody's rules are written over, not even those that come meanwhile.
    write_new(file, draft.rules().as_bytes()).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => Failure::Message(format!(
            "`{name}` is there already; write to another file, and compare the two"
        )),
        _ => unwritable(file, &error),
    })?;
    let next = format!("ravel --rules {name} test, ravel --rules {name} check");
    writeln!(out, "{name}  {}", in_style(FAINT, next))?;
    Ok(ExitStatus::Well)
}

/// How many files a draft reads.
fn number_read(files: &FileList) -> usize {
    files.names().iter().filter(|name| ravel_draft::reads(name)).count()
}

/// Reads files of a folder, and says so.
fn read_with<'p>(
    progress: &'p Progress,
    folder: &'p Path,
) -> impl Fn(&str) -> io::Result<Vec<u8>> + Sync + 'p {
    |name| {
        progress.step();
        std::fs::read(folder.join(name))
    }
}

/// What was published before, or asked for.
fn old_site(arguments: &Arguments) -> Result<OldSite, Failure> {
    let at = arguments.old_at.as_deref().unwrap_or(&arguments.at);
    let mut old = OldSite::default();
    let folders = arguments.old.iter().map(Path::new).filter(|source| source.is_dir());
    for folder in folders.chain(arguments.old_files.as_deref()) {
        let files = Site::files_of(folder)?;
        let progress = Progress::new(number_read(&files), "files of the site before");
        old.extend(OldSite::of_build(at, files.names(), read_with(&progress, folder)));
    }
    let sources: Vec<&String> =
        arguments.old.iter().filter(|source| !Path::new(source).is_dir()).collect();
    let (mut urls, mut unread) = (Vec::new(), Vec::new());
    for source in sources {
        UrlSources::default().read(source, &mut |hit| {
            match hit {
                Ok(hit) => urls.push(hit.url().to_owned()),
                Err(why) => unread.push(why),
            }
            Ok(())
        })?;
    }
    if let Some(first) = unread.first() {
        let lines = count(unread.len(), "line cannot", "lines cannot");
        anstream::eprintln!("{}: {lines} be read: {first}", in_style(NOTE, "warning"));
    }
    let (known, others) = OldSite::of_urls(at, urls.iter().map(String::as_str));
    if others > 0 {
        let urls = count(others, "URL is", "URLs are");
        let said = format!("{urls} not below {at}; name another place with `--old-at`");
        anstream::eprintln!("{}: {said}", in_style(NOTE, "warning"));
    }
    old.extend(known);
    Ok(old)
}

/// The folder as the rules name it, from the place of their file.
fn folder_from(rules: Option<&Path>, folder: &Path) -> Result<String, Failure> {
    let unnamed = || Failure::Message(format!("`{}` cannot be named in rules", folder.display()));
    let place = rules.and_then(Path::parent).filter(|place| !place.as_os_str().is_empty());
    let Some(place) = place else {
        let text = folder.to_str().ok_or_else(unnamed)?.trim_end_matches('/');
        let text = text.strip_prefix("./").unwrap_or(text);
        return Ok(if text.is_empty() { ".".to_owned() } else { text.to_owned() });
    };
    let whole = |path: &Path| {
        path.canonicalize()
            .map_err(|error| Failure::Message(format!("cannot read `{}`: {error}", path.display())))
    };
    let (place, folder) = (whole(place)?, whole(folder)?);
    let mut up = place.as_path();
    let mut steps = String::new();
    while !folder.starts_with(up) {
        steps.push_str("../");
        up = up.parent().ok_or_else(unnamed)?;
    }
    let rest = folder.strip_prefix(up).ok().and_then(Path::to_str).ok_or_else(unnamed)?;
    let text = format!("{steps}{rest}");
    Ok(if text.is_empty() { ".".to_owned() } else { text.trim_end_matches('/').to_owned() })
}
