//! The command `ravel`: reads a rules file and a folder of built files, asks the library, prints
//! what it says.

mod build;
mod check;
mod demo;
mod domain;
mod explain;
mod findings;
mod fmt;
mod folder;
mod load;
mod problems;
mod sarif;
mod serve;
mod style;
mod test;

use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, Subcommand};

/// Write and test the edge routing rules of a static site before publishing them.
#[derive(Parser)]
#[command(name = "ravel", version, max_term_width = 100)]
struct Arguments {
    /// The rules file
    #[arg(long, global = true, value_name = "FILE", default_value = "edge.ravel")]
    rules: PathBuf,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Say what addresses get, hop by hop, and why
    Explain(explain::Arguments),
    /// Run the expectations of the rules file
    Test(test::Arguments),
    /// Say what is wrong with the rules and the folder, before anybody visits
    Check(check::Arguments),
    /// Show the records that a domain needs beside those it has, and what visitors see while they
    /// change
    Domain(domain::Arguments),
    /// Write what is published: a module for hosts that run code, or pages for hosts that only
    /// serve files
    Build(build::Arguments),
    /// Serve the site as the rules answer it, with a page that shows each request and why
    Serve(serve::Arguments),
    /// Bring rules files to their canonical form
    Fmt(fmt::Arguments),
    /// Put the demo site in a folder and go through the job with it, or run one command on it
    Demo(demo::Arguments),
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
    /// A message for people; nothing where it was shown already.
    Message(String),
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
    let mut out = io::BufWriter::new(anstream::stdout().lock());
    let outcome = run(arguments, &mut out).and_then(|ended| Ok(out.flush().map(|()| ended)?));
    match outcome {
        Ok(ExitStatus::Well) => ExitCode::SUCCESS,
        Ok(ExitStatus::Found) => ExitCode::from(1),
        // Whoever reads the output has seen enough.
        Err(Failure::Output(error)) if error.kind() == io::ErrorKind::BrokenPipe => {
            ExitCode::SUCCESS
        }
        Err(failure) => {
            let message = match failure {
                Failure::Message(message) => message,
                Failure::Output(error) => format!("the output cannot be written: {error}"),
            };
            let _ = out.flush();
            if !message.is_empty() {
                anstream::eprintln!("{}error{:#}: {message}", style::ERROR, style::ERROR);
            }
            ExitCode::from(2)
        }
    }
}

fn run(arguments: Arguments, out: &mut dyn Write) -> Outcome {
    match arguments.command {
        Command::Explain(explain) => explain::run(&arguments.rules, &explain, out),
        Command::Test(test) => test::run(&arguments.rules, &test, out),
        Command::Check(check) => check::run(&arguments.rules, &check, out),
        Command::Domain(domain) => domain::run(&arguments.rules, &domain, out),
        Command::Build(build) => build::run(&arguments.rules, &build, out),
        Command::Serve(serve) => serve::run(&arguments.rules, &serve, out),
        Command::Fmt(fmt) => fmt::run(&arguments.rules, &fmt, out),
        Command::Demo(demo) => demo::run(&demo, out),
    }
}
