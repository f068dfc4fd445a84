//! `ravel build`: what is published, written to a folder of its own.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use ravel_publish::{self as publish, Exactness, Limit, Page};
use serde_json::json;

use crate::folder::OutFolder;
use crate::load::LoadedSite;
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, cut, in_style};
use crate::{ExitStatus, Failure};

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
    /// Print data for programs
    #[arg(long)]
    json: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Kind {
    /// A module for hosts that run code at the edge, a Service Worker, and the table they read
    Module,
    /// The folder with pages for hosts that only serve files
    Files,
}

/// Wider rules are cut, in characters.
const MAX_WIDTH: usize = 52;

/// What a file to write holds.
enum Content {
    Text(String),
    Copy(PathBuf),
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
            "`{}` holds files that `ravel build` has not made: {}; name another folder, or write `--replace` to lose them",
            arguments.out.display(),
            OutFolder::in_words(&foreign)
        )));
    }
    let table = publish::table(loaded.edge());
    let (files, limits) = match arguments.kind {
        Kind::Module => (module(&table)?, Vec::new()),
        Kind::Files => pages(&loaded, &table)?,
    };
    folder.write(files.keys().cloned(), |fresh| fill(fresh, &files)).map_err(unwritable)?;
    match arguments.json {
        true => print_json(&loaded, arguments, &files, &limits, out)?,
        false => print(&loaded, arguments, &files, &limits, out)?,
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

fn module(table: &serde_json::Value) -> Result<BTreeMap<String, Content>, Failure> {
    let pretty =
        serde_json::to_string_pretty(table).map_err(|error| Failure::Message(error.to_string()))?;
    Ok(BTreeMap::from([
        ("edge.mjs".to_owned(), Content::Text(publish::module(table))),
        ("edge.d.ts".to_owned(), Content::Text(publish::TYPES.to_owned())),
        ("edge.d.mts".to_owned(), Content::Text("export * from \"./edge.js\";\n".to_owned())),
        ("fetch.mjs".to_owned(), Content::Text(publish::FETCH.to_owned())),
        ("fetch.d.ts".to_owned(), Content::Text(publish::FETCH_TYPES.to_owned())),
        ("fetch.d.mts".to_owned(), Content::Text("export * from \"./fetch.js\";\n".to_owned())),
        ("service-worker.mjs".to_owned(), Content::Text(publish::SERVICE_WORKER.to_owned())),
        ("table.json".to_owned(), Content::Text(pretty + "\n")),
    ]))
}

fn pages(
    loaded: &LoadedSite,
    table: &serde_json::Value,
) -> Result<(BTreeMap<String, Content>, Vec<Limit>), Failure> {
    let Some(root) = loaded.root() else {
        return Err(Failure::Message(
            "the rules name no folder of built files; add `files FOLDER` to `site`".to_owned(),
        ));
    };
    let unreadable = |name: &str, error: &dyn std::fmt::Display| {
        Failure::Message(format!("`{name}` cannot be read: {error}"))
    };
    let lost = match loaded.edge().missing_file() {
        Some(name) => {
            let bytes = loaded.bytes(name).map_err(|error| unreadable(name, &error))?;
            Some(String::from_utf8(bytes).map_err(|error| unreadable(name, &error))?)
        }
        None => None,
    };
    let published = publish::files(loaded.edge(), table, lost.as_deref());
    let mut files: BTreeMap<String, Content> = loaded
        .edge()
        .files()
        .names()
        .iter()
        .map(|name| (name.to_string(), Content::Copy(root.join(&**name))))
        .collect();
    for (name, page) in published.pages() {
        let content = match page {
            Page::Text(text) => Content::Text(text.clone()),
            Page::Copy(of) => Content::Copy(root.join(of)),
        };
        files.insert(name.clone(), content);
    }
    Ok((files, published.limits().to_vec()))
}

/// Writes the files into an empty folder.
fn fill(folder: &Path, files: &BTreeMap<String, Content>) -> io::Result<()> {
    for (name, content) in files {
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        match content {
            Content::Text(text) => fs::write(path, text)?,
            Content::Copy(from) => drop(fs::copy(from, path)?),
        }
    }
    Ok(())
}

fn size(content: &Content) -> u64 {
    match content {
        Content::Text(text) => text.len() as u64,
        Content::Copy(path) => fs::metadata(path).map_or(0, |data| data.len()),
    }
}

fn print(
    loaded: &LoadedSite,
    arguments: &Arguments,
    files: &BTreeMap<String, Content>,
    limits: &[Limit],
    out: &mut dyn Write,
) -> io::Result<()> {
    let place = arguments.out.display();
    if arguments.kind == Kind::Module {
        for (name, content) in files {
            writeln!(out, "{:>9}  {place}/{name}", bytes(size(content)))?;
        }
        writeln!(
            out,
            "\n{}",
            in_style(
                FAINT,
                "edge.mjs exports decide(request), fetch.mjs handle(request, file); service-worker.mjs runs them in a browser"
            )
        )?;
        return Ok(());
    }
    let made = files.values().filter(|content| matches!(content, Content::Text(_))).count();
    let width = limits.iter().map(|limit| loaded.name(limit.line()).len()).max().unwrap_or(0);
    let widest =
        limits.iter().map(|limit| limit.what().chars().count().min(MAX_WIDTH)).max().unwrap_or(0);
    for (exactness, style, title) in [
        (Exactness::Exact, GOOD, "exactly as on an edge"),
        (Exactness::Near, NOTE, "nearly: the visitor ends where they should, in another way"),
        (Exactness::Not, BAD, "not on a host that only serves files"),
    ] {
        let mut of = limits.iter().filter(|limit| limit.exactness() == exactness).peekable();
        if of.peek().is_none() {
            continue;
        }
        writeln!(out, "{}", in_style(style, title))?;
        for limit in of {
            let line = loaded.name(limit.line());
            let what = cut(limit.what(), MAX_WIDTH);
            writeln!(
                out,
                "  {}  {what:<widest$}  {}",
                in_style(FAINT, format_args!("{line:<width$}")),
                limit.how()
            )?;
        }
        writeln!(out)?;
    }
    writeln!(
        out,
        "{}, {made} of them made for this, in {}",
        count(files.len(), "file", "files"),
        in_style(STRONG, place)
    )?;
    let not = limits.iter().filter(|limit| limit.exactness() == Exactness::Not).count();
    writeln!(
        out,
        "{}",
        in_style(FAINT, format_args!("{} cannot be done there", count(not, "line", "lines")))
    )
}

fn bytes(number: u64) -> String {
    match number {
        0..1_000 => format!("{number} B"),
        1_000..1_000_000 => format!("{:.1} kB", number as f64 / 1e3),
        _ => format!("{:.1} MB", number as f64 / 1e6),
    }
}

fn print_json(
    loaded: &LoadedSite,
    arguments: &Arguments,
    files: &BTreeMap<String, Content>,
    limits: &[Limit],
    out: &mut dyn Write,
) -> io::Result<()> {
    let files: Vec<_> = files
        .iter()
        .map(|(name, content)| json!({ "name": name, "bytes": size(content), "made": matches!(content, Content::Text(_)) }))
        .collect();
    let limits = loaded.rules().data(limits);
    let kind = if arguments.kind == Kind::Module { "module" } else { "files" };
    serde_json::to_writer_pretty(
        &mut *out,
        &json!({ "as": kind, "out": arguments.out.to_string_lossy(), "files": files, "rules": limits }),
    )?;
    writeln!(out)
}
