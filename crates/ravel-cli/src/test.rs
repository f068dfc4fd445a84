//! `ravel test`: the expectations of the rules file.

use std::io::{self, Write};
use std::path::Path;

use ravel::expect::{Failure as Mismatch, Verdict, verify_all};
use serde::Serialize;

use crate::Ended;
use crate::load::Loaded;
use crate::style::{BAD, FAINT, GOOD, STRONG, count, in_style};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Print data for programs
    #[arg(long)]
    json: bool,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let loaded = Loaded::read(rules)?;
    let verdicts: Vec<Verdict> = verify_all(&loaded.edge);
    let failed = verdicts.iter().filter(|verdict| !verdict.holds()).count();
    match arguments.json {
        true => print_json(&loaded, &verdicts, failed, out)?,
        false => print(&loaded, &verdicts, failed, out)?,
    }
    Ok(if failed == 0 { Ended::Well } else { Ended::Found })
}

fn print(loaded: &Loaded, verdicts: &[Verdict], failed: usize, out: &mut dyn Write) -> io::Result<()> {
    let all = verdicts.len();
    if all == 0 {
        return writeln!(out, "{} states no expectation; add one with `expect`", loaded.rules.sources()[0]);
    }
    let expectations = count(all, "expectation", "expectations");
    if failed == 0 {
        let hold = if all == 1 { "holds" } else { "hold" };
        return writeln!(out, "{}", in_style(GOOD, format_args!("{expectations} {hold}")));
    }
    writeln!(out, "{}", in_style(BAD, format_args!("{failed} of {expectations} failed")))?;
    for verdict in verdicts.iter().filter(|verdict| !verdict.holds()) {
        let place = in_style(FAINT, loaded.name(verdict.line));
        writeln!(out, "\n  {place}  {}", in_style(STRONG, &verdict.asked))?;
        for Mismatch { expected, got } in &verdict.failures {
            writeln!(out, "    expected  {expected}")?;
            writeln!(out, "    got       {}", in_style(BAD, got))?;
        }
        if let Some(line) = verdict.decided {
            writeln!(out, "    by        {}", loaded.name(line))?;
        }
    }
    Ok(())
}

#[derive(Serialize)]
struct Report<'a> {
    expectations: usize,
    failed: usize,
    verdicts: Vec<VerdictData<'a>>,
}

#[derive(Serialize)]
struct VerdictData<'a> {
    source: &'a str,
    line: u32,
    asked: &'a str,
    holds: bool,
    failures: Vec<FailureData<'a>>,
    decided: Option<Place<'a>>,
}

#[derive(Serialize)]
struct FailureData<'a> {
    expected: &'a str,
    got: &'a str,
}

#[derive(Serialize)]
struct Place<'a> {
    source: &'a str,
    line: u32,
}

fn print_json(loaded: &Loaded, verdicts: &[Verdict], failed: usize, out: &mut dyn Write) -> io::Result<()> {
    let verdict = |verdict| data(loaded, verdict);
    let report = Report { expectations: verdicts.len(), failed, verdicts: verdicts.iter().map(verdict).collect() };
    serde_json::to_writer_pretty(&mut *out, &report)?;
    writeln!(out)
}

fn data<'a>(loaded: &'a Loaded, verdict: &'a Verdict) -> VerdictData<'a> {
    let failures = verdict.failures.iter().map(|failure| FailureData { expected: &failure.expected, got: &failure.got });
    VerdictData {
        source: loaded.source(verdict.line),
        line: verdict.line.number,
        asked: &verdict.asked,
        holds: verdict.holds(),
        failures: failures.collect(),
        decided: verdict.decided.map(|line| Place { source: loaded.source(line), line: line.number }),
    }
}
