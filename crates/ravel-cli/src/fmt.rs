//! `ravel fmt`: the canonical form of rules files.

use std::collections::HashMap;
use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use ravel::language::{Problems, format};

use crate::load::{text_of, write_or_say};
use crate::{ExitStatus, Failure, problems};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The files to bring to their canonical form; the rules file when left out, standard input
    /// with `-`
    #[arg(value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Change nothing; name the files that would change and exit with 1
    #[arg(long)]
    check: bool,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let standard = [rules.to_owned()];
    let files = if arguments.files.is_empty() { &standard[..] } else { &arguments.files };
    let mut changed = false;
    for path in files {
        let from_input = path.as_os_str() == "-";
        let name =
            if from_input { "standard input".to_owned() } else { path.display().to_string() };
        let text =
            if from_input { text_of(read_input()?, &name)? } else { text_of(read(path)?, &name)? };
        let formatted = format(&text).map_err(|found| {
            let found = Problems::of(&name, found);
            anstream::eprintln!(
                "{}",
                problems::render(&found, &HashMap::from([(name.clone(), text.clone())]))
            );
            Failure::Message(String::new())
        })?;
        let differs = formatted != text;
        changed |= differs;
        match (from_input, arguments.check) {
            (true, false) => write!(out, "{formatted}")?,
            (_, true) if differs => {
                writeln!(out, "{name} is not in canonical form; `ravel fmt` brings it there")?
            }
            (false, false) if differs => {
                write_or_say(path, formatted.as_bytes())?;
                writeln!(out, "{name}")?;
            }
            _ => {}
        }
    }
    Ok(if arguments.check && changed { ExitStatus::Found } else { ExitStatus::Well })
}

fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    fs::read(path)
        .map_err(|error| Failure::Message(format!("`{}` cannot be read: {error}", path.display())))
}

fn read_input() -> Result<Vec<u8>, Failure> {
    let mut bytes = Vec::new();
    match std::io::stdin().lock().read_to_end(&mut bytes) {
        Ok(_) => Ok(bytes),
        Err(error) => Err(Failure::Message(format!("standard input cannot be read: {error}"))),
    }
}
