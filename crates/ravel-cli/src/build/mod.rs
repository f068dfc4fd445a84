//! `ravel build`: what is published, written to a folder of its own.

mod report;

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use ravel_publish::{self as publish, LineSupport, Page};

use crate::folder::OutFolder;
use crate::load::LoadedSite;
use crate::{ExitStatus, Failure};
use report::Report;

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// For which kind of host
    #[arg(long = "as", value_name = "KIND")]
    kind: Kind,
    /// The folder to write; what is in it must have been made by this command
    #[arg(value_name = "OUT")]
    out: PathBuf,
    /// Remove files from it that this command has not made; a `.git` stays
    #[arg(long)]
    replace: bool,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Kind {
    /// A module for hosts that run code at the edge, a Service Worker, and the table they read
    Module,
    /// The folder with pages for hosts that only serve files
    Files,
    /// The redirects as CSV and JSON Lines, for hosts that read a list
    List,
}

/// What is written, and what becomes there of each line.
struct Output {
    files: BTreeMap<String, Content>,
    left_out: Vec<String>,
    lines: Vec<LineSupport>,
}

impl Output {
    fn of_texts<const N: usize>(texts: [(&str, String); N], lines: Vec<LineSupport>) -> Output {
        let files = texts.map(|(name, text)| (name.to_owned(), Content::Made(text.into_bytes())));
        Output { files: files.into(), left_out: Vec::new(), lines }
    }
}

/// What a file to write holds.
enum Content {
    Made(Vec<u8>),
    Copy(PathBuf),
}

impl Content {
    /// Its size in bytes.
    fn len(&self) -> u64 {
        match self {
            Content::Made(bytes) => bytes.len() as u64,
            Content::Copy(path) => fs::metadata(path).map_or(0, |data| data.len()),
        }
    }
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let loaded = LoadedSite::read(rules)?;
    refuse_sources(&loaded, &arguments.out)?;
    let unwritable = |error: io::Error| {
        Failure::Message(format!("`{}` cannot be written: {error}", arguments.out.display()))
    };
    let folder = OutFolder::take(&arguments.out).map_err(unwritable)?;
    let foreign = folder.foreign().map_err(unwritable)?;
    if !foreign.is_empty() && !arguments.replace {
        return Err(Failure::Message(format!(
            "`{}` holds files that `ravel build` has not made, or that were changed since: {}; name another folder, or write `--replace` to lose them",
            arguments.out.display(),
            OutFolder::in_words(&foreign)
        )));
    }
    let output = match arguments.kind {
        Kind::Module => module(&loaded)?,
        Kind::Files => pages(&loaded)?,
        Kind::List => list(&loaded),
    };
    folder.write(|fresh| fill(fresh, &output.files)).map_err(unwritable)?;
    let report = Report { loaded: &loaded, arguments, output: &output };
    match arguments.json {
        true => report.print_json(out)?,
        false => report.print(out)?,
    }
    Ok(ExitStatus::Well)
}

/// Never into what is read.
fn refuse_sources(loaded: &LoadedSite, out: &Path) -> Result<(), Failure> {
    let refuse = |why: &str| Err(Failure::Message(format!("`{}` {why}", out.display())));
    // What is not there yet has a folder that is.
    let there = out.ancestors().find_map(|folder| {
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        folder.canonicalize().ok()
    });
    let root = loaded.root().as_ref().and_then(|root| root.canonicalize().ok());
    let rules =
        if loaded.folder().as_os_str().is_empty() { Path::new(".") } else { loaded.folder() }
            .canonicalize()
            .ok();
    if let (Some(there), Some(root)) = (&there, &root)
        && there.starts_with(root)
    {
        return refuse("is in the folder of files that is read; name one beside it");
    }
    if !out.is_dir() {
        return if out.exists() { refuse("is not a folder") } else { Ok(()) };
    }
    let holds_sources = [&root, &rules]
        .into_iter()
        .flatten()
        .any(|source| there.as_ref().is_some_and(|there| source.starts_with(there)));
    if holds_sources {
        return refuse("holds the site itself; name a folder beside it");
    }
    Ok(())
}

fn module(loaded: &LoadedSite) -> Result<Output, Failure> {
    let table = publish::table(loaded.edge());
    let pretty = serde_json::to_string_pretty(&table)
        .map_err(|error| Failure::Message(error.to_string()))?;
    let texts = [
        ("edge.mjs", publish::module(&table)),
        ("edge.d.ts", publish::TYPES.to_owned()),
        ("edge.d.mts", "export * from \"./edge.js\";\n".to_owned()),
        ("fetch.mjs", publish::FETCH.to_owned()),
        ("fetch.d.ts", publish::FETCH_TYPES.to_owned()),
        ("fetch.d.mts", "export * from \"./fetch.js\";\n".to_owned()),
        ("service-worker.mjs", publish::SERVICE_WORKER.to_owned()),
        ("table.json", pretty + "\n"),
    ];
    Ok(Output::of_texts(texts, publish::worker_lines(loaded.edge())))
}

fn list(loaded: &LoadedSite) -> Output {
    let list = publish::redirect_list(loaded.edge());
    let texts = [("redirects.csv", list.to_csv()), ("redirects.jsonl", list.to_json_lines())];
    Output::of_texts(texts, list.lines().to_vec())
}

fn pages(loaded: &LoadedSite) -> Result<Output, Failure> {
    let Some(root) = loaded.root() else {
        return Err(Failure::Message(
            "the rules name no folder of built files; add `files FOLDER` to `site`".to_owned(),
        ));
    };
    let unreadable = |name: &str, error: &dyn std::fmt::Display| {
        Failure::Message(format!("cannot read `{name}`: {error}"))
    };
    let lost = match loaded.edge().missing_file() {
        Some(name) => Some(loaded.bytes(name).map_err(|error| unreadable(name, &error))?),
        None => None,
    };
    let published = publish::files(loaded.edge(), lost.as_deref());
    let mut files: BTreeMap<String, Content> = loaded
        .edge()
        .files()
        .names()
        .iter()
        .filter(|name| !published.left_out().contains(&***name))
        .map(|name| (name.to_string(), Content::Copy(root.join(&**name))))
        .collect();
    for (name, page) in published.pages() {
        let content = match page {
            Page::Made(bytes) => Content::Made(bytes.clone()),
            Page::Copy(of) => Content::Copy(root.join(of)),
        };
        files.insert(name.clone(), content);
    }
    let left_out = published.left_out().iter().cloned().collect();
    Ok(Output { files, left_out, lines: published.lines().to_vec() })
}

/// Writes the files into an empty folder.
fn fill(folder: &Path, files: &BTreeMap<String, Content>) -> io::Result<()> {
    for (name, content) in files {
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).map_err(|error| named(name, error))?;
        }
        let written = match content {
            Content::Made(bytes) => fs::write(path, bytes),
            Content::Copy(from) => fs::copy(from, path).map(drop),
        };
        written.map_err(|error| named(name, error))?;
    }
    Ok(())
}

/// An error that says at which file.
fn named(name: &str, error: io::Error) -> io::Error {
    io::Error::new(error.kind(), format!("{name}: {error}"))
}
