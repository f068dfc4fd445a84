//! What surrounds the commands: where to begin, completions of shells, manual pages.

use std::io::Write;
use std::path::{Path, PathBuf};

use clap::CommandFactory;

use crate::file::write_or_say;
use crate::{Arguments, ExitStatus, Failure, Outcome};

#[derive(clap::Args)]
pub(crate) struct Completions {
    /// The shell
    #[arg(value_name = "SHELL")]
    shell: clap_complete::Shell,
}

#[derive(clap::Args)]
pub(crate) struct Man {
    /// The folder to write them to; `ravel.1` is written to standard output when left out
    #[arg(value_name = "FOLDER")]
    folder: Option<PathBuf>,
}

/// What to do first: `ravel` alone.
pub(crate) fn begin(rules: &Path, out: &mut dyn Write) -> Outcome {
    if rules.exists() {
        let mut help = Arguments::command();
        write!(out, "{}", help.render_help().ansi())?;
        return Ok(ExitStatus::Well);
    }
    Err(Failure::Message(format!(
        "cannot read `{rules}`: no such file\n\nTo begin here, or to see it all on a demo site:\n\n  \
         echo 'site https://harbour.example/' > {rules}\n  ravel demo\n\n\
         `ravel --help` lists the commands.",
        rules = rules.display()
    )))
}

pub(crate) fn completions(arguments: &Completions, out: &mut dyn Write) -> Outcome {
    let mut script = Vec::new();
    clap_complete::generate(arguments.shell, &mut Arguments::command(), "ravel", &mut script);
    out.write_all(&script)?;
    Ok(ExitStatus::Well)
}

pub(crate) fn man(arguments: &Man, out: &mut dyn Write) -> Outcome {
    let page = |name: &str, command: &clap::Command| {
        let mut page = Vec::new();
        clap_mangen::Man::new(command.clone()).title(name).render(&mut page).map(|()| page)
    };
    let mut whole = Arguments::command();
    whole.build();
    let Some(folder) = &arguments.folder else {
        out.write_all(&page("ravel", &whole)?)?;
        return Ok(ExitStatus::Well);
    };
    std::fs::create_dir_all(folder).map_err(|error| {
        Failure::Message(format!("cannot write `{}`: {error}", folder.display()))
    })?;
    write_or_say(&folder.join("ravel.1"), &page("ravel", &whole)?)?;
    for command in whole
        .get_subcommands()
        .filter(|command| !command.is_hide_set() && command.get_name() != "help")
    {
        let name = format!("ravel-{}", command.get_name());
        let path = folder.join(format!("{name}.1"));
        write_or_say(&path, &page(&name, command)?)?;
    }
    Ok(ExitStatus::Well)
}
