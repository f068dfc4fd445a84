//! `ravel test`: the expectations of the rules file, held against the rules or against the live
//! site.

mod coverage;
mod junit;

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use anstyle::Style;
use futures_util::StreamExt;
use indicatif::{ProgressBar, ProgressDrawTarget};
use ravel::serial::Data;
use ravel_check::{RuleCoverage, verify_all};
use ravel_serve::{ConnectOptions, LiveVerdict, Visitor};
use serde::Serialize;

use crate::load::LoadedSite;
use crate::report::{Reports, forms, write_all};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, in_style};
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Ask the live site instead of the rules
    #[arg(long)]
    live: bool,
    /// Connect to this place for every host, as before the DNS changes
    #[arg(long, value_name = "HOST:PORT", requires = "live", value_parser = place)]
    connect: Option<String>,
    /// Connect to this place for plain HTTP, if its port is another
    #[arg(long, value_name = "HOST:PORT", requires = "live", value_parser = place)]
    connect_http: Option<String>,
    /// Trust the certificate authorities in this file [default: those that this machine trusts]
    #[arg(long, value_name = "FILE", requires = "live")]
    ca: Option<PathBuf>,
    /// How long to wait for an answer, in seconds
    #[arg(long, value_name = "SECONDS", requires = "live", default_value_t = 15)]
    timeout: u64,
    /// Show also which rules no expectation exercises, and which could be changed without one
    /// failing
    #[arg(long, conflicts_with = "live")]
    coverage: bool,
    /// Exit with 1 also for rules that are uncovered, or for changes that are unnoticed
    #[arg(long, value_name = "LIST", value_delimiter = ',', requires = "coverage")]
    fail_on: Vec<FailOn>,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    reports: Reports,
}

/// What `--fail-on` can name.
#[derive(Clone, Copy, clap::ValueEnum)]
enum FailOn {
    /// A rule that no expectation exercises
    Uncovered,
    /// A rule that could be changed without an expectation failing
    Unnoticed,
}

/// A host and a port.
fn place(text: &str) -> Result<String, String> {
    let is_whole = text.rsplit_once(':').is_some_and(|(host, port)| {
        let is_host = !host.contains(':') || (host.starts_with('[') && host.ends_with(']'));
        !host.is_empty() && is_host && port.parse::<u16>().is_ok_and(|port| port > 0)
    });
    let host = text.trim_matches(['[', ']']);
    match (is_whole, host.contains(':')) {
        (true, _) => Ok(text.to_owned()),
        (false, true) => Err(format!("write a host and a port, as in `[{host}]:443`")),
        (false, false) => Err(format!("write a port, too, as in `{host}:443`")),
    }
}

forms!(Junit "xml" "JUnit");

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let reports = arguments.reports.of_forms::<ReportForm>()?;
    let loaded = match LoadedSite::read(rules) {
        Err(Failure::Rules(problems, texts)) => {
            write_all(&reports, |ReportForm::Junit| junit::of_unreadable(&problems))?;
            return Err(Failure::Rules(problems, texts));
        }
        loaded => loaded?,
    };
    let all = loaded.rules().expectations().len() + loaded.rules().every_expectations().len();
    if all == 0 {
        let file = &loaded.rules().sources()[0];
        let message =
            format!("{file} has no expectation; add one, as in `expect / serves /index.html`");
        return Err(Failure::Message(message));
    }
    let outcomes = match arguments.live {
        false => verify_all(loaded.edge()).into_iter().map(LiveVerdict::from).collect(),
        true => tokio::runtime::Runtime::new()?.block_on(of_site(&loaded, all, arguments))?,
    };
    let failed = outcomes.iter().filter(|outcome| !outcome.verdict().holds()).count();
    write_all(&reports, |ReportForm::Junit| junit::of(&loaded, &outcomes, arguments.live))?;
    let coverage = arguments.coverage.then(|| ravel_check::coverage(loaded.edge()));
    match arguments.json {
        true => print_json(&loaded, &outcomes, failed, coverage.as_deref(), out)?,
        false => {
            print(&loaded, &outcomes, failed, arguments.live, out)?;
            if let Some(coverage) = &coverage {
                coverage::print(&loaded, coverage, out)?;
            }
        }
    }
    let is_missed = |rule: &RuleCoverage| {
        arguments.fail_on.iter().any(|on| match on {
            FailOn::Uncovered => coverage::is_uncovered(rule),
            FailOn::Unnoticed => !rule.unnoticed().is_empty(),
        })
    };
    let missed = coverage.iter().flatten().any(is_missed);
    Ok(if failed == 0 && !missed { ExitStatus::Well } else { ExitStatus::Found })
}

/// Asks the live site; a terminal shows how far it is.
async fn of_site(
    loaded: &LoadedSite,
    all: usize,
    arguments: &Arguments,
) -> Result<Vec<LiveVerdict>, Failure> {
    let authorities = match &arguments.ca {
        Some(path) => {
            let bytes = std::fs::read(path);
            Some(bytes.map_err(|error| {
                Failure::Message(format!("cannot read `{}`: {error}", path.display()))
            })?)
        }
        None => None,
    };
    let reach = ConnectOptions::new(Duration::from_secs(arguments.timeout.max(1)))
        .with_connect(arguments.connect.clone())
        .with_connect_http(arguments.connect_http.clone())
        .with_authorities(authorities);
    let wrong = |why| {
        Failure::Message(format!(
            "`{}`: {why}",
            arguments.ca.as_deref().unwrap_or(Path::new("")).display()
        ))
    };
    let visitor = Visitor::new(Arc::clone(loaded.shared()), reach).map_err(wrong)?;
    visitor.find().await.map_err(Failure::Message)?;
    let shown = if io::stderr().is_terminal() {
        ProgressDrawTarget::stderr()
    } else {
        ProgressDrawTarget::hidden()
    };
    let bar = ProgressBar::with_draw_target(Some(all as u64), shown);
    let mut verdicts = std::pin::pin!(visitor.verdicts());
    let mut outcomes = Vec::new();
    while let Some(verdict) = verdicts.next().await {
        bar.inc(1);
        outcomes.push(verdict);
    }
    bar.finish_and_clear();
    Ok(outcomes)
}

fn print(
    loaded: &LoadedSite,
    outcomes: &[LiveVerdict],
    failed: usize,
    live: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let skipped: Vec<&LiveVerdict> =
        outcomes.iter().filter(|outcome| outcome.not_asked().is_some()).collect();
    let all = outcomes.len() - skipped.len();
    let expectations = count(all, "expectation", "expectations");
    let site = if live { " on the live site" } else { "" };
    if failed == 0 {
        let hold = if all == 1 { "holds" } else { "hold" };
        writeln!(out, "{}", in_style(GOOD, format_args!("{expectations} {hold}{site}")))?;
    } else {
        writeln!(
            out,
            "{}",
            in_style(BAD, format_args!("{failed} of {expectations} failed{site}"))
        )?;
    }
    for outcome in outcomes.iter().filter(|outcome| !outcome.verdict().holds()) {
        print_failure(loaded, outcome, out)?;
    }
    let sampled: usize = outcomes.iter().filter_map(|outcome| outcome.sampled()).sum();
    if sampled > 0 || !skipped.is_empty() {
        writeln!(out)?;
    }
    if sampled > 0 {
        let urls = count(sampled, "URL", "URLs");
        let text = format!(
            "`expect every` was sampled, with {urls}; `ravel test` verifies it of the rules"
        );
        writeln!(out, "{}", in_style(FAINT, text))?;
    }
    for outcome in skipped {
        let (verdict, why) = (outcome.verdict(), outcome.not_asked().unwrap_or_default());
        let place = loaded.name(verdict.line());
        let text = format!("not asked: {place}  {}: {why}", verdict.asked());
        writeln!(out, "{}", in_style(FAINT, text))?;
    }
    Ok(())
}

/// A text behind its label, wrapped at words behind it.
fn print_words(label: &str, style: Style, text: &str, out: &mut dyn Write) -> io::Result<()> {
    const INDENT: usize = 14;
    let width = crate::diagnostic::width().saturating_sub(INDENT);
    let mut label = label;
    for line in crate::diagnostic::wrapped(text, width) {
        writeln!(out, "    {label:<10}{}", in_style(style, line))?;
        label = "";
    }
    Ok(())
}

/// What was expected beside what was got, and the line that decided.
fn print_failure(
    loaded: &LoadedSite,
    outcome: &LiveVerdict,
    out: &mut dyn Write,
) -> io::Result<()> {
    let place = in_style(FAINT, loaded.name(outcome.verdict().line()));
    writeln!(out, "\n  {place}  {}", in_style(STRONG, outcome.verdict().asked()))?;
    for failure in outcome.verdict().failures() {
        print_words("expected", Style::new(), failure.expected(), out)?;
        print_words("got", BAD, failure.got(), out)?;
    }
    if let Some((says, why)) = outcome.rules() {
        print_words("rules", Style::new(), says, out)?;
        print_words("", NOTE, why, out)?;
    }
    if let Some(line) = outcome.verdict().decided() {
        print_words("by", Style::new(), &loaded.name(line), out)?;
    }
    Ok(())
}

#[derive(Serialize)]
struct Report<'a> {
    expectations: usize,
    failed: usize,
    verdicts: Data<'a, [LiveVerdict]>,
    #[serde(skip_serializing_if = "Option::is_none")]
    coverage: Option<Data<'a, [RuleCoverage]>>,
}

fn print_json(
    loaded: &LoadedSite,
    outcomes: &[LiveVerdict],
    failed: usize,
    coverage: Option<&[RuleCoverage]>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let rules = loaded.rules();
    let report = Report {
        expectations: outcomes.len(),
        failed,
        verdicts: rules.data(outcomes),
        coverage: coverage.map(|coverage| rules.data(coverage)),
    };
    serde_json::to_writer_pretty(&mut *out, &report)?;
    writeln!(out)
}
