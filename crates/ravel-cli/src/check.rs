//! `ravel check`: what is wrong with the rules and the folder.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget};
use ravel::rules::{Code, Severity};
use ravel::serial::Data;
use ravel_check::{Audit, EntryPoint, EntryPointEnd, EntryPoints, Report, Shadowing};
use serde::Serialize;

use crate::findings::excerpt;
use crate::load::{LoadedSite, write_or_say};
use crate::style::{BAD, FAINT, GOOD, STRONG, count, in_style};
use crate::{ExitStatus, Failure, findings, sarif};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Explain a finding by its name, with an example
    #[arg(long, value_name = "CODE")]
    why: Option<String>,
    /// Show also what is left of rules that earlier ones take a part of
    #[arg(long)]
    left: bool,
    /// Let advice fail too
    #[arg(long)]
    strict: bool,
    /// Print data for programs
    #[arg(long)]
    json: bool,
    /// Write the findings as SARIF 2.1.0
    #[arg(long, value_name = "FILE")]
    sarif: Option<PathBuf>,
}

/// What each finding means, with an example; shown by `--why`.
const MEANINGS: &str = include_str!("../findings.md");

/// Work that takes longer shows on a terminal how far it is.
const LONG_WORK: Duration = Duration::from_secs(1);

/// All that was found out.
struct CheckResults {
    report: Report,
    ways: EntryPoints,
    left: Vec<Shadowing>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    if let Some(name) = &arguments.why {
        return why(name, out);
    }
    let loaded = LoadedSite::read(rules)?;
    let mut audit = Audit::new(loaded.edge());
    let (report, ways) = look_over(&loaded, &mut audit);
    let mut left = if arguments.left { audit.shadowings() } else { Vec::new() };
    left.retain(|remainder| !remainder.taken_by().is_empty());
    let found = CheckResults { report, ways, left };
    if let Some(path) = &arguments.sarif {
        let text = sarif::of(&loaded, found.report.findings());
        write_or_say(path, text.as_bytes())?;
    }
    match arguments.json {
        true => print_json(&loaded, &found, out)?,
        false => print(&loaded, &found, out)?,
    }
    let fails = match arguments.strict {
        true => !found.report.findings().is_empty(),
        false => found.report.count(Severity::Problem) > 0,
    };
    Ok(if fails { ExitStatus::Found } else { ExitStatus::Well })
}

/// Shows the section of a finding.
fn why(name: &str, out: &mut dyn Write) -> crate::Outcome {
    let Ok(code) = name.parse::<Code>() else {
        let names = Code::ALL.iter().map(|code| code.name()).collect::<Vec<_>>().join(", ");
        return Err(Failure::Message(format!(
            "`{name}` is the name of no finding; it is one of {names}"
        )));
    };
    let head = format!("### {code}\n");
    let section = MEANINGS.split_once(&head).map_or("", |(_, rest)| rest);
    let section = section
        .split("\n### ")
        .next()
        .unwrap_or_default()
        .split("\n## ")
        .next()
        .unwrap_or_default();
    writeln!(out, "{} ({})\n", in_style(STRONG, code), code.severity().as_str())?;
    let mut indent = "";
    for line in section.trim().lines() {
        let label = match line.strip_prefix("```") {
            Some("folder") => "the folder:",
            Some("wrong") => "rules that have it:",
            Some("said") => "what is said:",
            Some("fixed") => "fixed:",
            Some("fixed-folder") => "the folder, fixed:",
            Some("zone") => "its zone:",
            Some("fixed-zone") => "the zone, fixed:",
            Some(_) => {
                indent = "";
                continue;
            }
            None => {
                writeln!(out, "{}", format!("{indent}{line}").trim_end())?;
                continue;
            }
        };
        indent = "  ";
        writeln!(out, "{}", in_style(FAINT, label))?;
    }
    Ok(ExitStatus::Well)
}

/// Looks the site over; a terminal shows how far the reading of its files is.
fn look_over(loaded: &LoadedSite, audit: &mut Audit<'_>) -> (Report, EntryPoints) {
    let files =
        loaded.edge().files().names().iter().filter(|name| ravel_check::reads(name)).count();
    let bar = ProgressBar::with_draw_target(Some(files as u64), ProgressDrawTarget::hidden());
    let start = Instant::now();
    let found = audit.all(
        |name| {
            if bar.is_hidden() && start.elapsed() > LONG_WORK && io::stderr().is_terminal() {
                bar.set_draw_target(ProgressDrawTarget::stderr());
            }
            bar.inc(1);
            loaded.bytes(name)
        },
        loaded.domain_findings(),
    );
    bar.finish_and_clear();
    found
}

fn print(loaded: &LoadedSite, found: &CheckResults, out: &mut dyn Write) -> io::Result<()> {
    findings::print(loaded, found.report.findings(), out)?;
    for remainder in &found.left {
        let by: Vec<String> = remainder.taken_by().iter().map(|line| loaded.name(*line)).collect();
        writeln!(
            out,
            "{}  {} take a part of it; left is {}, for example",
            in_style(STRONG, loaded.name(remainder.line())),
            by.join(", "),
            remainder.example().url()
        )?;
        excerpt(loaded, remainder.line(), out)?;
        writeln!(out)?;
    }
    print_ways(&found.ways, out)?;
    print_count(&found.report, out)
}

fn print_ways(ways: &EntryPoints, out: &mut dyn Write) -> io::Result<()> {
    let deep = ways.deep().unwrap_or_default();
    let width = ways.ways().iter().map(|way| way.origin().len()).max().unwrap_or(0).max(8);
    let end_width =
        ways.ways().iter().map(|way| end_in_words(way.first()).len()).max().unwrap_or(0).max(10);
    writeln!(
        out,
        "{}",
        in_style(
            FAINT,
            format_args!("{:<width$}  {:<end_width$}  {deep}", "entry points", "first page")
        )
    )?;
    for way in ways.ways() {
        let deep = way.deep().map(end_in_words).unwrap_or_default();
        let first = end_in_words(way.first());
        writeln!(out, "{:<width$}  {first:<end_width$}  {deep}", way.origin())?;
    }
    writeln!(out)
}

/// `200` for what is answered at once, else where it ends.
fn end_in_words(end: &EntryPointEnd) -> String {
    let status =
        end.status().map_or_else(|| "another site".to_owned(), |status| status.to_string());
    match end.hops() {
        0 => status,
        hops => format!("{}, {status} at {}", count(hops, "hop", "hops"), origin_of(end.url())),
    }
}

fn origin_of(url: &str) -> &str {
    let start = url.find("://").map_or(0, |at| at + 3);
    &url[..url[start..].find('/').map_or(url.len(), |at| start + at)]
}

fn print_count(report: &Report, out: &mut dyn Write) -> io::Result<()> {
    let problems = report.count(Severity::Problem);
    let advice = report.count(Severity::Advice);
    let accepted = if report.accepted() > 0 {
        format!(", {} accepted", report.accepted())
    } else {
        String::new()
    };
    let text = format!(
        "{}, {}{accepted}",
        count(problems, "problem", "problems"),
        count(advice, "piece of advice", "pieces of advice")
    );
    let style = if problems == 0 { GOOD } else { BAD };
    writeln!(out, "{}", in_style(style, text))?;
    if let Some(first) = report.findings().first() {
        writeln!(
            out,
            "{}",
            in_style(
                FAINT,
                format_args!("ravel check --why {} explains that finding", first.code())
            )
        )?;
    }
    Ok(())
}

#[derive(Serialize)]
struct FoundData<'a> {
    #[serde(flatten)]
    report: Data<'a, Report>,
    ways_in: &'a [EntryPoint],
    left: Data<'a, [Shadowing]>,
}

fn print_json(loaded: &LoadedSite, found: &CheckResults, out: &mut dyn Write) -> io::Result<()> {
    let rules = loaded.rules();
    let data = FoundData {
        report: rules.data(&found.report),
        ways_in: found.ways.ways(),
        left: rules.data(&*found.left),
    };
    serde_json::to_writer_pretty(&mut *out, &data)?;
    writeln!(out)
}
