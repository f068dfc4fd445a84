//! `ravel demo`: the demo site, and the whole job done with it.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use clap::Parser;
use include_dir::{Dir, DirEntry, include_dir};
use serde_json::{Value, json};

use crate::diagnostic::write_folded;
use crate::file::write_beside;
use crate::style::{FAINT, STRONG, in_style};
use crate::{Command, ExitStatus, Failure};

static SITE: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/demo/lantern-ferries");

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The folder that the demo site is put in; what is there already is left as it is
    #[arg(long, value_name = "FOLDER", default_value = "lantern-ferries")]
    into: PathBuf,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
    /// One command to run on the demo site, as `explain /summer`
    #[arg(value_name = "COMMAND", trailing_var_arg = true, allow_hyphen_values = true)]
    command: Vec<String>,
}

/// The way through the job: what is asked, and the command that answers.
const WALK: &[(&str, &[&str])] = &[
    (
        "What the built folder alone shows: the rules that it would begin with.",
        &["draft", "dist", "--at", "https://lanternferries.example/"],
    ),
    (
        "Four ways lead in: plain HTTP and HTTPS, with and without www. All end at one address, in one hop.",
        &[
            "explain",
            "--brief",
            "http://www.lanternferries.example/fleet",
            "https://www.lanternferries.example/fleet",
            "http://lanternferries.example/fleet",
            "https://lanternferries.example/fleet",
        ],
    ),
    (
        "A short link, as it stands on a poster.",
        &["explain", "http://www.lanternferries.example/summer"],
    ),
    (
        "A deep link into the booking app: no such file exists, and the app answers.",
        &["explain", "/book/seat/14A"],
    ),
    (
        "A missing page is 404 and shows the site's own page for that.",
        &["explain", "/no-such-page"],
    ),
    (
        "What must hold is stated in the same file; `expect every` is proven for every address.",
        &["test"],
    ),
    (
        "The zone as it was found: what is there, what is needed, what is wrong; and what a cut-over would have looked like.",
        &["domain", "plan", "2027-03-01T06:00:00Z", "--zone", "dns/before.zone"],
    ),
    (
        "An access log of two years: what its visitors would get now, by how often they came.",
        &["tally", "access.log.gz", "--top", "5"],
    ),
    (
        "A redesign, with rules of its own: what visitors would lose by it, decided for every URL.",
        &["diff", "edge.ravel", "redesign.ravel", "--only", "missing,loop"],
    ),
    (
        "Where its pages have gone, by what they say: redirects to begin with.",
        &[
            "draft",
            "redesign",
            "--at",
            "https://lanternferries.example/",
            "--old",
            "dist",
            "--moves",
        ],
    ),
    (
        "The same with redirects for what has moved: nothing that was answered is lost.",
        &[
            "diff",
            "edge.ravel",
            "redesign-kept.ravel",
            "--only",
            "missing,loop",
            "--fail-on",
            "missing,loop",
        ],
    ),
    (
        "The visitors of the same two years on the redesign, with these redirects.",
        &["tally", "access.log.gz", "--top", "5", "--rules", "redesign-kept.ravel"],
    ),
    (
        "What is wrong, or could be better, is found before anybody visits; and where each entry point ends.",
        &["check"],
    ),
];

pub(crate) fn run(arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let folder = &arguments.into;
    let fresh = !folder.join("edge.ravel").exists();
    unpack(&SITE, folder).map_err(|error| {
        Failure::Message(format!("the demo site cannot be put in `{}`: {error}", folder.display()))
    })?;
    let enter = || {
        std::env::set_current_dir(folder).map_err(|error| {
            Failure::Message(format!("cannot go to `{}`: {error}", folder.display()))
        })
    };
    if !arguments.command.is_empty() {
        enter()?;
        let json = arguments.json.then(|| "--json".to_owned());
        let typed: Vec<String> = arguments.command.iter().cloned().chain(json).collect();
        return command(&typed, out);
    }
    if arguments.json {
        enter()?;
        return walk_in_json(folder, out);
    }
    let state = if fresh { "The demo site is in" } else { "The demo site is already in" };
    let place = in_style(STRONG, folder.display());
    let head = format!(
        "{state} {place}: Lantern Ferries, a ferry company with five ports. Its rules are edge.ravel, \
         its built files are dist. The rules begin:"
    );
    write_folded(&head, "", "", out)?;
    writeln!(out)?;
    show_rules(&folder.join("edge.ravel"), out)?;
    writeln!(out, "\n{}", in_style(FAINT, format_args!("$ cd {}", folder.display())))?;
    enter()?;
    for (why, typed) in WALK {
        writeln!(out)?;
        write_folded(&in_style(STRONG, why), "", "", out)?;
        writeln!(out, "{}\n", in_style(FAINT, format_args!("$ ravel {}", typed.join(" "))))?;
        let typed: Vec<String> = typed.iter().map(|&word| word.to_owned()).collect();
        command(&typed, out)?;
    }
    writeln!(out, "\nNow change a line of {}/edge.ravel and ask again:", folder.display())?;
    writeln!(out, "{}", in_style(FAINT, format_args!("$ cd {} && ravel test", folder.display())))?;
    Ok(ExitStatus::Well)
}

/// The way through the job, each command with its result.
fn walk_in_json(folder: &Path, out: &mut dyn Write) -> crate::Outcome {
    let mut steps = Vec::new();
    for (about, typed) in WALK {
        let typed: Vec<String> = typed
            .iter()
            .filter(|word| **word != "--brief")
            .map(|&word| word.to_owned())
            .chain(["--json".to_owned()])
            .collect();
        let mut result = Vec::new();
        command(&typed, &mut result)?;
        let results = serde_json::Deserializer::from_slice(&result).into_iter::<Value>();
        let results = results.collect::<Result<Vec<_>, _>>().map_err(io::Error::from)?;
        steps.push(json!({ "about": about, "command": typed, "results": results }));
    }
    let document = json!({ "folder": folder.display().to_string(), "steps": steps });
    serde_json::to_writer_pretty(&mut *out, &document).map_err(io::Error::from)?;
    writeln!(out)?;
    Ok(ExitStatus::Well)
}

/// Runs one command, as it would be typed in the folder of the demo site.
fn command(typed: &[String], out: &mut dyn Write) -> crate::Outcome {
    let name = "ravel".to_owned();
    let arguments = match crate::Arguments::try_parse_from(std::iter::once(&name).chain(typed)) {
        Ok(arguments) => arguments,
        Err(error) => {
            out.flush()?;
            error.exit()
        }
    };
    if matches!(arguments.command, Some(Command::Demo(_))) {
        return Err(Failure::Message("the demo is already running".to_owned()));
    }
    crate::run(arguments, out)
}

/// Writes what is not there yet; each file beside its place, then renamed.
fn unpack(from: &Dir<'_>, to: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in from.entries() {
        let name = entry.path().file_name().unwrap_or_default();
        let place = to.join(name);
        match entry {
            DirEntry::Dir(folder) => unpack(folder, &place)?,
            DirEntry::File(_) if place.exists() => {}
            DirEntry::File(file) => write_beside(&place, file.contents())?,
        }
    }
    Ok(())
}

/// The rules up to the first blank line behind the site statement.
fn show_rules(path: &Path, out: &mut dyn Write) -> Result<(), Failure> {
    let text = fs::read_to_string(path)
        .map_err(|error| Failure::Message(format!("cannot read `{}`: {error}", path.display())))?;
    let mut in_site = false;
    for line in text.lines() {
        in_site |= line.starts_with("site ");
        if in_site && line.trim().is_empty() {
            break;
        }
        writeln!(out, "    {}", in_style(FAINT, line))?;
    }
    Ok(())
}
