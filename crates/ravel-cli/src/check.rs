//! `ravel check`: what is wrong with the rules and the folder.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget};
use ravel::audit::{self, Audit, Code, Finding, FindingPlace, Remainder, Report, Way, WayEnd, WaysIn, Weight};
use ravel::language::Line;
use serde::Serialize;

use crate::load::{Loaded, write_beside};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, in_style};
use crate::{Ended, Failure, sarif};

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
const MEANINGS: &str = include_str!("../../../docs/findings.md");

/// Work that takes longer shows on a terminal how far it is.
const LONG_WORK: Duration = Duration::from_secs(1);

/// All that was found out.
struct Found {
    report: Report,
    ways: WaysIn,
    left: Vec<Remainder>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    if let Some(name) = &arguments.why {
        return why(name, out);
    }
    let loaded = Loaded::read(rules)?;
    let mut audit = Audit::new(&loaded.edge);
    let (report, ways) = look_over(&loaded, &mut audit);
    let mut left = if arguments.left { audit.remainders() } else { Vec::new() };
    left.retain(|remainder| !remainder.taken_by.is_empty());
    let found = Found { report, ways, left };
    if let Some(path) = &arguments.sarif {
        let text = sarif::of(&loaded, &found.report.findings);
        write_beside(path, text.as_bytes())
            .map_err(|error| Failure::Message(format!("`{}` can not be written: {error}", path.display())))?;
    }
    match arguments.json {
        true => print_json(&loaded, &found, out)?,
        false => print(&loaded, &found, out)?,
    }
    let fails = match arguments.strict {
        true => !found.report.findings.is_empty(),
        false => found.report.count(Weight::Problem) > 0,
    };
    Ok(if fails { Ended::Found } else { Ended::Well })
}

/// Shows the section of a finding.
fn why(name: &str, out: &mut dyn Write) -> crate::Outcome {
    let Ok(code) = name.parse::<Code>() else {
        let names = Code::ALL.iter().map(|code| code.name()).collect::<Vec<_>>().join(", ");
        return Err(Failure::Message(format!("`{name}` is the name of no finding; it is one of {names}")));
    };
    let head = format!("### {code}\n");
    let section = MEANINGS.split_once(&head).map_or("", |(_, rest)| rest);
    let section = section.split("\n### ").next().unwrap_or_default().split("\n## ").next().unwrap_or_default();
    writeln!(out, "{} ({})\n", in_style(STRONG, code), weight_word(code.weight()))?;
    let mut indent = "";
    for line in section.trim().lines() {
        let label = match line.strip_prefix("```") {
            Some("folder") => "the folder:",
            Some("wrong") => "rules that have it:",
            Some("said") => "what is said:",
            Some("mended") => "mended:",
            Some("mended-folder") => "the folder, mended:",
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
    Ok(Ended::Well)
}

/// Looks the site over; a terminal shows how far the reading of its files is.
fn look_over(loaded: &Loaded, audit: &mut Audit<'_>) -> (Report, WaysIn) {
    let files = loaded.edge.files().names().iter().filter(|name| audit::reads(name)).count();
    let bar = ProgressBar::with_draw_target(Some(files as u64), ProgressDrawTarget::hidden());
    let start = Instant::now();
    let found = audit.all(|name| {
        if bar.is_hidden() && start.elapsed() > LONG_WORK && io::stderr().is_terminal() {
            bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        bar.inc(1);
        loaded.bytes(name)
    });
    bar.finish_and_clear();
    found
}

fn print(loaded: &Loaded, found: &Found, out: &mut dyn Write) -> io::Result<()> {
    let mut file = String::new();
    for finding in &found.report.findings {
        let here = file_of(loaded, finding);
        if here != file {
            writeln!(out, "{}", in_style(STRONG, &here))?;
            file = here;
        }
        print_finding(loaded, finding, out)?;
    }
    for remainder in &found.left {
        let by: Vec<String> = remainder.taken_by.iter().map(|line| loaded.name(*line)).collect();
        writeln!(
            out,
            "{}  {} take a part of it; left is {}, for example",
            in_style(STRONG, loaded.name(remainder.line)),
            by.join(", "),
            remainder.example.url()
        )?;
        excerpt(loaded, remainder.line, out)?;
        writeln!(out)?;
    }
    print_ways(&found.ways, out)?;
    print_count(&found.report, out)
}

fn print_finding(loaded: &Loaded, finding: &Finding, out: &mut dyn Write) -> io::Result<()> {
    let (style, weight) = (weight_style(finding.code.weight()), weight_word(finding.code.weight()));
    writeln!(out, "  {} {}", in_style(style, format_args!("{weight} {}", finding.code)), finding.what)?;
    match &finding.place {
        FindingPlace::Line(line) => excerpt(loaded, *line, out)?,
        FindingPlace::File { name, at: Some((number, range)) } => {
            let text = loaded.bytes(name).unwrap_or_default();
            let text = String::from_utf8_lossy(&text);
            let start = text.get(..range.start).map_or(0, |before| before.rfind('\n').map_or(0, |at| at + 1));
            let line = text.get(start..).unwrap_or_default().lines().next().unwrap_or_default();
            let from = range.start - start;
            marked(*number, line, from..(range.end - start).min(line.len()).max(from), out)?;
        }
        FindingPlace::File { .. } => {}
    }
    for (label, text) in [("visitors", &finding.visitor), ("instead", &finding.instead)] {
        if !text.is_empty() {
            writeln!(out, "       {}  {text}", in_style(FAINT, format_args!("{label:<8}")))?;
        }
    }
    writeln!(out)
}

/// A line of the rules, marked as a whole.
fn excerpt(loaded: &Loaded, line: Line, out: &mut dyn Write) -> io::Result<()> {
    let text = loaded.texts.get(loaded.source(line)).map_or("", String::as_str).trim_start_matches('\u{feff}');
    let text = text.split('\n').nth(line.number.saturating_sub(1) as usize).unwrap_or_default().trim_end();
    let start = text.len() - text.trim_start().len();
    let end = text.find(" #").map_or(text.len(), |at| text[..at].trim_end().len()).max(start);
    marked(line.number, text, start..end, out)
}

/// The widest line that is shown whole, in characters.
const WIDEST: usize = 110;

/// A line with its number, and a piece of it underlined; of a long line what stands around the piece.
fn marked(number: u32, line: &str, piece: std::ops::Range<usize>, out: &mut dyn Write) -> io::Result<()> {
    let boundary = |mut at: usize| {
        while !line.is_char_boundary(at) {
            at -= 1;
        }
        at
    };
    let (start, end) = (boundary(piece.start.min(line.len())), boundary(piece.end.min(line.len())));
    let indent = line.len() - line.trim_start().len();
    let from = if line.len() > WIDEST { boundary(start.saturating_sub(30)).max(indent.min(start)) } else { indent.min(start) };
    let shown: String = line[from..].chars().take(WIDEST).collect();
    let before = line[from..start].chars().count();
    let len = line[start..end].chars().count().clamp(1, WIDEST.saturating_sub(before).max(1));
    writeln!(out, "  {} {}", in_style(FAINT, format_args!("{number:>4}")), shown)?;
    writeln!(out, "       {}{}", " ".repeat(before), in_style(NOTE, "‾".repeat(len)))
}

fn print_ways(ways: &WaysIn, out: &mut dyn Write) -> io::Result<()> {
    let deep = ways.deep.as_deref().unwrap_or_default();
    let width = ways.ways.iter().map(|way| way.origin.len()).max().unwrap_or(0).max(8);
    let end_width = ways.ways.iter().map(|way| end_in_words(&way.first).len()).max().unwrap_or(0).max(10);
    writeln!(out, "{}", in_style(FAINT, format_args!("{:<width$}  {:<end_width$}  {deep}", "ways in", "first page")))?;
    for Way { origin, first, deep, .. } in &ways.ways {
        let deep = deep.as_ref().map(end_in_words).unwrap_or_default();
        writeln!(out, "{origin:<width$}  {:<end_width$}  {deep}", end_in_words(first))?;
    }
    writeln!(out)
}

/// `200` for what is answered at once, else where it ends.
fn end_in_words(end: &WayEnd) -> String {
    let status = match end.status {
        0 => "another site".to_owned(),
        status => status.to_string(),
    };
    match end.hops {
        0 => status,
        hops => format!("{}, {status} at {}", count(hops, "hop", "hops"), origin_of(&end.url)),
    }
}

fn origin_of(url: &str) -> &str {
    let start = url.find("://").map_or(0, |at| at + 3);
    &url[..url[start..].find('/').map_or(url.len(), |at| start + at)]
}

fn print_count(report: &Report, out: &mut dyn Write) -> io::Result<()> {
    let problems = report.count(Weight::Problem);
    let advice = report.count(Weight::Advice);
    let accepted = if report.accepted > 0 { format!(", {} accepted", report.accepted) } else { String::new() };
    let text =
        format!("{}, {}{accepted}", count(problems, "problem", "problems"), count(advice, "piece of advice", "pieces of advice"));
    let style = if problems == 0 { GOOD } else { BAD };
    writeln!(out, "{}", in_style(style, text))?;
    if let Some(first) = report.findings.first() {
        writeln!(out, "{}", in_style(FAINT, format_args!("ravel check --why {} explains that finding", first.code)))?;
    }
    Ok(())
}

fn weight_word(weight: Weight) -> &'static str {
    match weight {
        Weight::Problem => "problem",
        Weight::Advice => "advice",
    }
}

fn weight_style(weight: Weight) -> anstyle::Style {
    match weight {
        Weight::Problem => BAD.bold(),
        Weight::Advice => NOTE.bold(),
    }
}

/// The file that a finding is in, as people name it.
pub(crate) fn file_of(loaded: &Loaded, finding: &Finding) -> String {
    match &finding.place {
        FindingPlace::Line(line) => loaded.source(*line).to_owned(),
        FindingPlace::File { name, .. } => match &loaded.rules.site().files {
            Some(folder) => format!("{folder}/{name}"),
            None => name.to_string(),
        },
    }
}

/// The line that a finding is on, if it is on one.
pub(crate) fn line_number(finding: &Finding) -> Option<u32> {
    match &finding.place {
        FindingPlace::Line(line) => Some(line.number),
        FindingPlace::File { at, .. } => at.as_ref().map(|(number, _)| *number),
    }
}

#[derive(Serialize)]
struct ReportData<'a> {
    problems: usize,
    advice: usize,
    accepted: usize,
    findings: Vec<FindingData<'a>>,
    ways_in: Vec<WayData<'a>>,
    left: Vec<LeftData<'a>>,
}

#[derive(Serialize)]
struct FindingData<'a> {
    code: &'a str,
    weight: &'a str,
    source: String,
    line: Option<u32>,
    what: &'a str,
    visitors: &'a str,
    instead: &'a str,
    example: Option<&'a str>,
    lines: Vec<String>,
}

#[derive(Serialize)]
struct WayData<'a> {
    origin: &'a str,
    ends: Vec<EndData<'a>>,
}

#[derive(Serialize)]
struct EndData<'a> {
    asked: &'a str,
    url: &'a str,
    status: Option<u16>,
    hops: usize,
}

#[derive(Serialize)]
struct LeftData<'a> {
    source: &'a str,
    line: u32,
    example: &'a str,
    taken_by: Vec<String>,
}

fn print_json(loaded: &Loaded, found: &Found, out: &mut dyn Write) -> io::Result<()> {
    let findings = found.report.findings.iter().map(|finding| finding_data(loaded, finding)).collect();
    let ways_in = found
        .ways
        .ways
        .iter()
        .map(|way| WayData { origin: &way.origin, ends: std::iter::once(&way.first).chain(&way.deep).map(end_data).collect() });
    let left = found.left.iter().map(|remainder| LeftData {
        source: loaded.source(remainder.line),
        line: remainder.line.number,
        example: remainder.example.url(),
        taken_by: remainder.taken_by.iter().map(|line| loaded.name(*line)).collect(),
    });
    let data = ReportData {
        problems: found.report.count(Weight::Problem),
        advice: found.report.count(Weight::Advice),
        accepted: found.report.accepted,
        findings,
        ways_in: ways_in.collect(),
        left: left.collect(),
    };
    serde_json::to_writer_pretty(&mut *out, &data)?;
    writeln!(out)
}

fn finding_data<'a>(loaded: &Loaded, finding: &'a Finding) -> FindingData<'a> {
    FindingData {
        code: finding.code.name(),
        weight: weight_word(finding.code.weight()),
        source: file_of(loaded, finding),
        line: line_number(finding),
        what: &finding.what,
        visitors: &finding.visitor,
        instead: &finding.instead,
        example: finding.example.as_deref(),
        lines: finding.lines.iter().map(|line| loaded.name(*line)).collect(),
    }
}

fn end_data(end: &WayEnd) -> EndData<'_> {
    EndData { asked: &end.asked, url: &end.url, status: (end.status > 0).then_some(end.status), hops: end.hops }
}
