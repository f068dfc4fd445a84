//! The command `ravel`: reads a rules file and a folder of built files, asks the library, prints
//! what it says.

mod build;
mod check;
mod demo;
mod diagnostic;
mod diff;
mod domain;
mod draft;
mod edition;
mod explain;
mod file;
mod findings;
mod fmt;
mod folder;
mod load;
mod page;
mod problems;
mod progress;
mod record;
mod report;
mod serve;
mod serve_zone;
mod shell;
mod style;
mod tally;
mod test;
mod urls;

use std::collections::HashMap;
use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, Subcommand};
use ravel::language::Problems;

/// Write and test the edge routing rules of a static site before publishing them.
#[derive(Parser)]
#[command(
    name = "ravel",
    version,
    max_term_width = 100,
    after_help = EXIT_STATUS,
    help_template = HELP,
    subcommand_required = false
)]
struct Arguments {
    /// The rules file
    #[arg(long, global = true, value_name = "FILE", default_value = "edge.ravel")]
    rules: PathBuf,
    #[command(subcommand)]
    command: Option<Command>,
}

/// What each exit status means, in the help of every command.
const EXIT_STATUS: &str = "Exit status: 0 if all is as wanted, 1 if an answer is not, \
2 if the command cannot run.";

/// The help of `ravel` alone: the commands by what they are for.
const HELP: &str = "\
{about}

{usage-heading} {usage}

Write:
  draft    Write a first rules file from what a built folder shows
  fmt      Format rules files
  check    Find mistakes in the rules and in the built files

Ask:
  explain  Show what URLs get, hop by hop, and why
  test     Run the expectations, against the rules or the live site

Compare:
  diff     Show what a change of the rules or the files does to visitors
  tally    Count what visitors would get, from access logs and other URLs
  domain   Compare the DNS and certificates with what the site needs

See:
  serve    Serve the site as the rules answer, and show each request
  demo     Try all of this on a demo site

Publish:
  build    Write what is published, for hosts that run code or serve files

Options:
{options}

{after-help}
";

#[derive(Subcommand)]
enum Command {
    /// Write a first rules file from what a built folder shows
    #[command(after_help = EXIT_STATUS)]
    Draft(draft::Arguments),
    /// Show what URLs get, hop by hop, and why
    #[command(after_help = EXIT_STATUS)]
    Explain(explain::Arguments),
    /// Run the expectations, against the rules or the live site
    #[command(after_help = EXIT_STATUS)]
    Test(test::Arguments),
    /// Find mistakes in the rules and in the built files
    #[command(after_help = EXIT_STATUS)]
    Check(check::Arguments),
    /// Compare the DNS and certificates with what the site needs
    #[command(after_help = EXIT_STATUS)]
    Domain(domain::Arguments),
    /// Show what a change of the rules or the files does to visitors
    #[command(after_help = EXIT_STATUS)]
    Diff(diff::Arguments),
    /// Count what visitors would get, from access logs and other URLs
    #[command(after_help = EXIT_STATUS)]
    Tally(tally::Arguments),
    /// Write what is published, for hosts that run code or only serve files
    #[command(after_help = EXIT_STATUS)]
    Build(build::Arguments),
    /// Serve the site as the rules answer, and show each request
    #[command(after_help = EXIT_STATUS)]
    Serve(serve::Arguments),
    /// Format rules files
    #[command(after_help = EXIT_STATUS)]
    Fmt(fmt::Arguments),
    /// Try all of this on a demo site
    #[command(after_help = EXIT_STATUS)]
    Demo(demo::Arguments),
    /// Write the completions of a shell
    #[command(hide = true)]
    Completions(shell::Completions),
    /// Write the manual pages to a folder
    #[command(hide = true)]
    Man(shell::Man),
}

impl Command {
    /// Whether data is printed for programs.
    fn is_json(&self) -> bool {
        match self {
            Command::Draft(draft) => draft.json,
            Command::Explain(explain) => explain.json,
            Command::Test(test) => test.json,
            Command::Check(check) => check.json,
            Command::Domain(domain) => domain.is_json(),
            Command::Diff(diff) => diff.json,
            Command::Tally(tally) => tally.json,
            Command::Build(build) => build.json,
            Command::Serve(serve) => serve.json,
            Command::Fmt(fmt) => fmt.json,
            Command::Demo(demo) => demo.json,
            Command::Completions(_) | Command::Man(_) => false,
        }
    }

    /// Whether its exit status says what its reader may not have waited for.
    fn outlives_reader(&self) -> bool {
        match self {
            Command::Test(_)
            | Command::Check(_)
            | Command::Domain(_)
            | Command::Diff(_)
            | Command::Tally(_)
            | Command::Build(_)
            | Command::Draft(_)
            | Command::Fmt(_) => true,
            // It may answer without end, and says itself what it has found.
            Command::Explain(_)
            | Command::Serve(_)
            | Command::Demo(_)
            | Command::Completions(_)
            | Command::Man(_) => false,
        }
    }
}

/// How a command ended, when it could run.
#[derive(Clone, Copy, PartialEq, Eq)]
enum ExitStatus {
    Well,
    /// Something was found, or an expectation failed.
    Found,
}

/// Why a command could not run.
enum Failure {
    Message(String),
    /// The rules cannot be read; with the texts that the errors are in.
    Rules(Problems, HashMap<String, String>),
    Output(io::Error),
}

type Outcome = Result<ExitStatus, Failure>;

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Failure {
        Failure::Output(error)
    }
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let json = arguments.command.as_ref().is_some_and(Command::is_json);
    let outlives = arguments.command.as_ref().is_some_and(Command::outlives_reader);
    let mut out =
        io::BufWriter::new(Output { out: anstream::stdout().lock(), outlives, is_closed: false });
    let outcome = run(arguments, &mut out).and_then(|ended| match out.flush() {
        Err(error) if error.kind() != io::ErrorKind::BrokenPipe => Err(error.into()),
        _ => Ok(ended),
    });
    let failure = match outcome {
        Ok(ExitStatus::Well) => return ExitCode::SUCCESS,
        Ok(ExitStatus::Found) => return ExitCode::from(1),
        Err(failure) => failure,
    };
    match failure {
        // Whoever reads the output has seen enough.
        Failure::Output(error) if error.kind() == io::ErrorKind::BrokenPipe => {
            return ExitCode::SUCCESS;
        }
        Failure::Rules(problems, texts) => {
            if json {
                let _ = problems::print_json(&problems, &mut out);
            }
            let _ = out.flush();
            anstream::eprintln!("{}", problems::render(&problems, &texts));
        }
        Failure::Message(message) => {
            let _ = out.flush();
            say(&message);
        }
        Failure::Output(error) => say(&format!("cannot write the output: {error}")),
    }
    ExitCode::from(2)
}

/// Standard output, whose reader may have seen enough before all is written.
struct Output<W> {
    out: W,
    /// Whether the command goes on then, for its exit status.
    outlives: bool,
    is_closed: bool,
}

impl<W: Write> Output<W> {
    fn unless_closed<T>(&mut self, written: io::Result<T>, instead: T) -> io::Result<T> {
        match written {
            Err(error) if self.outlives && error.kind() == io::ErrorKind::BrokenPipe => {
                self.is_closed = true;
                Ok(instead)
            }
            written => written,
        }
    }
}

impl<W: Write> Write for Output<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.is_closed {
            return Ok(bytes.len());
        }
        let written = self.out.write(bytes);
        self.unless_closed(written, bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let flushed = self.out.flush();
        self.unless_closed(flushed, ())
    }
}

fn say(message: &str) {
    let message = without_error_numbers(message);
    anstream::eprintln!("{}error{:#}: {message}", style::ERROR, style::ERROR);
}

/// A message without the system's own number of each error, which says nothing to its reader.
fn without_error_numbers(message: &str) -> String {
    let mut parts = message.split(" (os error ");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |out, part| {
        let number = part.bytes().take_while(u8::is_ascii_digit).count();
        out + part[number..].strip_prefix(')').unwrap_or(part)
    })
}

fn run(arguments: Arguments, out: &mut dyn Write) -> Outcome {
    let rules = &arguments.rules;
    let Some(command) = arguments.command else { return shell::begin(rules, out) };
    match command {
        Command::Draft(draft) => draft::run(&draft, out),
        Command::Explain(explain) => explain::run(rules, &explain, out),
        Command::Test(test) => test::run(rules, &test, out),
        Command::Check(check) => check::run(rules, &check, out),
        Command::Domain(domain) => domain::run(rules, &domain, out),
        Command::Diff(diff) => diff::run(rules, &diff, out),
        Command::Tally(tally) => tally::run(rules, &tally, out),
        Command::Build(build) => build::run(rules, &build, out),
        Command::Serve(serve) => serve::run(rules, &serve, out),
        Command::Fmt(fmt) => fmt::run(rules, &fmt, out),
        Command::Demo(demo) => demo::run(&demo, out),
        Command::Completions(completions) => shell::completions(&completions, out),
        Command::Man(man) => shell::man(&man, out),
    }
}
