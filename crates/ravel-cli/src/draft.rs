//! `ravel draft`: the first rules of a site, from what its build shows.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

use ravel_draft::Draft;
use ravel_serve::Site;
use serde_json::json;

use crate::style::{FAINT, in_style};
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The folder with the built files
    #[arg(value_name = "FOLDER")]
    folder: PathBuf,
    /// The URL that the site will have, with its base path
    #[arg(long, value_name = "URL")]
    at: String,
    /// Write the rules to a file that is not there yet
    #[arg(long, value_name = "FILE")]
    write: Option<PathBuf>,
    /// Output JSON
    #[arg(long, conflicts_with = "write")]
    pub(crate) json: bool,
}

impl Arguments {
    /// The same, with paths seen from a folder.
    pub(crate) fn within(mut self, folder: &Path) -> Arguments {
        if !self.folder.is_absolute() {
            self.folder = folder.join(&self.folder);
        }
        self.write = self.write.map(|file| folder.join(file));
        self
    }
}

pub(crate) fn run(arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let folder = &arguments.folder;
    let files = Site::files_of(folder)?;
    let read = |name: &str| std::fs::read(folder.join(name));
    let named = folder_from(arguments.write.as_deref(), folder)?;
    let draft = Draft::of(&arguments.at, &named, files.names(), read)
        .map_err(|error| Failure::Message(error.to_string()))?;
    if arguments.json {
        writeln!(out, "{:#}", json!({ "rules": draft.rules() }))?;
        return Ok(ExitStatus::Well);
    }
    let Some(file) = &arguments.write else {
        out.write_all(draft.rules().as_bytes())?;
        return Ok(ExitStatus::Well);
    };
    let name = file.display();
    // Nobody's rules are written over, not even those that come meanwhile.
    let written = OpenOptions::new()
        .write(true)
        .create_new(true)
        .open(file)
        .and_then(|mut new| new.write_all(draft.rules().as_bytes()));
    written.map_err(|error| {
        Failure::Message(match error.kind() {
            std::io::ErrorKind::AlreadyExists => {
                format!("`{name}` is there already; write to another file, and compare the two")
            }
            _ => format!("cannot write `{name}`: {error}"),
        })
    })?;
    let next = format!("ravel --rules {name} test, ravel --rules {name} check");
    writeln!(out, "{name}  {}", in_style(FAINT, next))?;
    Ok(ExitStatus::Well)
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
