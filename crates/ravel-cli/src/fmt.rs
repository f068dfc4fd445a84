//! `ravel fmt`: formats rules files.

use std::collections::HashMap;
use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use ravel::language::{Problems, format};
use serde_json::json;

use crate::file::write_or_say;
use crate::load::text_of;
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The files to format; the rules file when left out, standard input with `-`
    #[arg(value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Change nothing; list the files that would change, and exit with 1 if there are any
    #[arg(long)]
    check: bool,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let standard = [rules.to_owned()];
    let files = if arguments.files.is_empty() { &standard[..] } else { &arguments.files };
    let mut list = Vec::new();
    for path in files {
        let from_input = path.as_os_str() == "-";
        let name =
            if from_input { "standard input".to_owned() } else { path.display().to_string() };
        let text =
            if from_input { text_of(read_input()?, &name)? } else { text_of(read(path)?, &name)? };
        let formatted = format(&text).map_err(|found| {
            let texts = HashMap::from([(name.clone(), text.clone())]);
            Failure::Rules(Problems::of(&name, found), texts)
        })?;
        let differs = formatted != text;
        if differs && !from_input && !arguments.check {
            write_or_say(path, formatted.as_bytes())?;
        }
        match (from_input, arguments.check) {
            _ if arguments.json => {}
            (true, false) => write!(out, "{formatted}")?,
            (_, true) if differs => writeln!(out, "{name} is not formatted; run `ravel fmt`")?,
            (false, false) if differs => writeln!(out, "{name}")?,
            _ => {}
        }
        list.push(json!({ "file": name, "changed": differs }));
    }
    let changed = list.iter().any(|file| file["changed"] == true);
    if arguments.json {
        writeln!(out, "{:#}", json!({ "files": list }))?;
    }
    Ok(if arguments.check && changed { ExitStatus::Found } else { ExitStatus::Well })
}

fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    fs::read(path)
        .map_err(|error| Failure::Message(format!("cannot read `{}`: {error}", path.display())))
}

fn read_input() -> Result<Vec<u8>, Failure> {
    let mut bytes = Vec::new();
    match std::io::stdin().lock().read_to_end(&mut bytes) {
        Ok(_) => Ok(bytes),
        Err(error) => Err(Failure::Message(format!("cannot read standard input: {error}"))),
    }
}
