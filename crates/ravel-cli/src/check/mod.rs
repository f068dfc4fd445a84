//! `ravel check`: mistakes in the rules and in the built files.

mod entry;
mod page;
mod reports;
mod sarif;

use std::io::{self, Write};
use std::path::Path;
use std::str::FromStr;

use ravel::finding::{Finding, FindingExample};
use ravel::language::nearest;
use ravel::rules::{Code, Severity};
use ravel::serial::Data;
use ravel_check::{Audit, EntryPoint, EntryPointEnd, EntryPoints, Report, Shadowing};
use serde::Serialize;

use entry::FileEdit;

use crate::diagnostic::write_folded;
use crate::load::LoadedSite;
use crate::progress::Progress;
use crate::report::{Reports, forms, write_all};
use crate::style::{FAINT, STRONG, count, in_style};
use crate::{ExitStatus, Failure, findings};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Explain a finding by its name, with an example
    #[arg(long, value_name = "NAME")]
    why: Option<String>,
    /// Show every finding, each for itself
    #[arg(long)]
    all: bool,
    /// Show notes, too: habits such as a capture that is not used
    #[arg(long)]
    notes: bool,
    /// Show only these findings
    #[arg(long, value_name = "NAME", value_delimiter = ',', value_parser = code, conflicts_with = "except")]
    only: Vec<Code>,
    /// Leave these findings out
    #[arg(long, value_name = "NAME", value_delimiter = ',', value_parser = code)]
    except: Vec<Code>,
    /// Show also rules that earlier ones shadow in part, with a URL that still reaches them
    #[arg(long)]
    shadowed: bool,
    /// Exit with 1 for these: severities or names of findings
    #[arg(long, value_name = "LIST", value_delimiter = ',', default_value = "error")]
    fail_on: Vec<FailOn>,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    reports: Reports,
}

forms!(pub(super) Sarif "sarif" "SARIF 2.1.0", Html "html" "HTML", Markdown "md" "Markdown", Csv "csv" "CSV");

/// What `--fail-on` can name.
#[derive(Clone, Copy)]
enum FailOn {
    /// This severity and those that are graver.
    Severity(Severity),
    Code(Code),
}

impl FromStr for FailOn {
    type Err = String;

    fn from_str(text: &str) -> Result<FailOn, String> {
        let severity = Severity::ALL.iter().find(|severity| severity.as_str() == text);
        match (severity, text.parse()) {
            (Some(severity), _) => Ok(FailOn::Severity(*severity)),
            (None, Ok(code)) => Ok(FailOn::Code(code)),
            (None, Err(_)) => Err(match Code::renamed(text).is_some() {
                true => unknown(text),
                false => "write error, warning, note, or the name of a finding".to_owned(),
            }),
        }
    }
}

impl FailOn {
    fn is(self, finding: &Finding) -> bool {
        match self {
            FailOn::Severity(severity) => finding.code().severity() <= severity,
            FailOn::Code(code) => finding.code() == code,
        }
    }
}

/// A finding by its name.
fn code(text: &str) -> Result<Code, String> {
    text.parse().map_err(|_| unknown(text))
}

/// The help for a name that no finding has.
fn unknown(name: &str) -> String {
    let names = Code::ALL.iter().map(|code| code.name());
    match Code::renamed(name).map(Code::name).or_else(|| nearest(name, names)) {
        Some(nearest) => format!("did you mean `{nearest}`?"),
        None => {
            let names: Vec<&str> = Code::ALL.iter().map(|code| code.name()).collect();
            format!("the names are {}", names.join(", "))
        }
    }
}

/// What each finding means, with an example; shown by `--why`.
const MEANINGS: &str = include_str!("../../findings.md");

/// All that was found out.
struct CheckResults<'f> {
    /// Those that are to be shown.
    findings: Vec<&'f Finding>,
    accepted: usize,
    entry_points: &'f EntryPoints,
    shadowed: Vec<Shadowing>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    if let Some(name) = &arguments.why {
        return why(name, out);
    }
    let reports = arguments.reports.of_forms::<ReportForm>()?;
    let loaded = match LoadedSite::read(rules) {
        Err(Failure::Rules(problems, texts)) => {
            write_all(&reports, |form| Ok(reports::of_unreadable(form, &problems)))?;
            return Err(Failure::Rules(problems, texts));
        }
        loaded => loaded?,
    };
    let mut audit = Audit::new(loaded.edge());
    let (report, entry_points) = look_over(&loaded, &mut audit);
    let mut shadowed = if arguments.shadowed { audit.shadowings() } else { Vec::new() };
    shadowed.retain(|shadowing| !shadowing.taken_by().is_empty());
    let found = CheckResults {
        findings: report.findings().iter().filter(|one| arguments.shows(one)).collect(),
        accepted: report.accepted(),
        entry_points: &entry_points,
        shadowed,
    };
    write_all(&reports, |form| Ok(reports::of(form, &loaded, &found.findings)))?;
    match arguments.json {
        true => print_json(&loaded, &found, out)?,
        false => print(&loaded, &found, arguments.all, out)?,
    }
    let fails = |finding: &&Finding| arguments.fail_on.iter().any(|on| on.is(finding));
    Ok(if found.findings.iter().any(fails) { ExitStatus::Found } else { ExitStatus::Well })
}

impl Arguments {
    /// Whether a finding was asked for.
    fn shows(&self, finding: &Finding) -> bool {
        let code = finding.code();
        match self.only.is_empty() {
            false => self.only.contains(&code),
            true => {
                let wanted = code.severity() < Severity::Note || self.notes;
                let fails = self.fail_on.iter().any(|on| on.is(finding));
                (wanted || fails) && !self.except.contains(&code)
            }
        }
    }
}

/// Shows the section of a finding.
fn why(name: &str, out: &mut dyn Write) -> crate::Outcome {
    let Ok(code) = name.parse::<Code>() else {
        return Err(Failure::Message(format!("unknown finding `{name}`; {}", unknown(name))));
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
    let severity = in_style(findings::style_of(code.severity()), code.severity().as_str());
    writeln!(out, "{severity}[{}]\n", in_style(STRONG, code))?;
    let mut indent = "";
    for line in section.trim().lines() {
        let label = match line.strip_prefix("```") {
            Some("folder") => "the folder:",
            Some("wrong") => "rules that have it:",
            Some("output") => "what `ravel check` says:",
            Some("fixed") => "fixed:",
            Some("fixed-folder") => "the folder, fixed:",
            Some("zone") => "its zone:",
            Some("fixed-zone") => "the zone, fixed:",
            Some(_) => {
                indent = "";
                continue;
            }
            None => {
                // What a block shows stays as it is.
                match indent {
                    "" => write_folded(line, "", "", out)?,
                    _ => writeln!(out, "{}", format!("{indent}{line}").trim_end())?,
                }
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
    let progress = Progress::new(files, "files");
    let read = |name: &str| {
        progress.step();
        loaded.bytes(name)
    };
    audit.all(read, loaded.domain_findings())
}

fn print(
    loaded: &LoadedSite,
    found: &CheckResults<'_>,
    all: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    findings::print(loaded, &found.findings, all, out)?;
    for shadowing in &found.shadowed {
        let by: Vec<String> = shadowing.taken_by().iter().map(|line| loaded.name(*line)).collect();
        let (place, example) = (loaded.name(shadowing.line()), shadowing.example());
        let options = match findings::options(&FindingExample::from(example)) {
            options if options.is_empty() => options,
            options => format!(", with{options},"),
        };
        let url = example.url();
        writeln!(
            out,
            "{}  partially shadowed by {}; {url}{options} still reaches it",
            in_style(STRONG, place),
            by.join(", ")
        )?;
    }
    if !found.shadowed.is_empty() {
        writeln!(out)?;
    }
    print_entry_points(loaded, found.entry_points, out)?;
    findings::print_counts(&found.findings, found.accepted, out)
}

fn print_entry_points(
    loaded: &LoadedSite,
    entry_points: &EntryPoints,
    out: &mut dyn Write,
) -> io::Result<()> {
    let points = entry_points.points();
    let url = |point: &EntryPoint| point.first().asked().to_owned();
    let width = points.iter().map(|point| url(point).chars().count()).max().unwrap_or(0).max(12);
    let canonical = points.first().map_or("", |point| origin_of(point.first().url()));
    let certificates = loaded.certificate_judgements();
    let title = format!("{:<width$}  home page", "entry points");
    let deep = entry_points.deep().map(|deep| format!(", {deep}")).unwrap_or_default();
    write_folded(&in_style(FAINT, format!("{title}{deep}")), "", "    ", out)?;
    for point in points {
        let first = end_in_words(point.first(), canonical);
        let deep = point.deep().map(|end| end_in_words(end, canonical));
        let both = match deep {
            Some(deep) if deep != first => format!("{first}; {deep}"),
            _ => first,
        };
        let host = point.origin().strip_prefix("https://");
        let certificate = host
            .and_then(|host| certificates.get(host))
            .map(|judgement| format!("  {}", in_style(FAINT, judgement)))
            .unwrap_or_default();
        let row = format!("{:<width$}  {both}{certificate}", url(point));
        write_folded(&row, "", "    ", out)?;
    }
    writeln!(out)
}

/// `200` for what is answered at once, else where it ends.
fn end_in_words(end: &EntryPointEnd, canonical: &str) -> String {
    let status =
        end.status().map_or_else(|| "another site".to_owned(), |status| status.to_string());
    let place = match origin_of(end.url()) {
        origin if origin == canonical => String::new(),
        origin => format!(" at {origin}"),
    };
    match end.hops() {
        0 => status,
        hops => format!("{status} after {}{place}", count(hops, "hop", "hops")),
    }
}

fn origin_of(url: &str) -> &str {
    let start = url.find("://").map_or(0, |at| at + 3);
    &url[..url[start..].find('/').map_or(url.len(), |at| start + at)]
}

#[derive(Serialize)]
struct FindingData<'a> {
    #[serde(flatten)]
    finding: Data<'a, Finding>,
    edits: Vec<FileEdit>,
}

#[derive(Serialize)]
struct FoundData<'a> {
    errors: usize,
    warnings: usize,
    notes: usize,
    accepted: usize,
    findings: Vec<FindingData<'a>>,
    entry_points: &'a [EntryPoint],
    shadowed: Data<'a, [Shadowing]>,
}

fn print_json(
    loaded: &LoadedSite,
    found: &CheckResults<'_>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let rules = loaded.rules();
    let number = |severity| {
        found.findings.iter().filter(|finding| finding.code().severity() == severity).count()
    };
    let data = FoundData {
        errors: number(Severity::Error),
        warnings: number(Severity::Warning),
        notes: number(Severity::Note),
        accepted: found.accepted,
        findings: found
            .findings
            .iter()
            .map(|finding| FindingData {
                finding: rules.data(*finding),
                edits: FileEdit::all(loaded, finding),
            })
            .collect(),
        entry_points: found.entry_points.points(),
        shadowed: rules.data(&*found.shadowed),
    };
    serde_json::to_writer_pretty(&mut *out, &data)?;
    writeln!(out)
}
