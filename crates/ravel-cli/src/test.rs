//! `ravel test`: the expectations of the rules file, held against the rules or against a running
//! site.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use indicatif::{ProgressBar, ProgressDrawTarget};
use quick_junit::{NonSuccessKind, Report as Junit, TestCase, TestCaseStatus, TestSuite};
use ravel::expect::Failure as Mismatch;
use ravel::serial::Data;
use ravel_check::verify_all;
use ravel_serve::{ConnectOptions, LiveVerdict, Visitor};
use serde::Serialize;

use crate::load::{LoadedSite, write_or_say};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, in_style};
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Ask the running site instead of the rules
    #[arg(long)]
    live: bool,
    /// Send every name to this place, as before the DNS is switched
    #[arg(long, value_name = "HOST:PORT", requires = "live")]
    connect: Option<String>,
    /// The same for plain HTTP, where that is another port
    #[arg(long, value_name = "HOST:PORT", requires = "live")]
    connect_http: Option<String>,
    /// Trust this certificate authority, too (PEM)
    #[arg(long, value_name = "FILE", requires = "live")]
    authority: Option<PathBuf>,
    /// Wait so long for an answer, in seconds
    #[arg(long, value_name = "SECONDS", requires = "live", default_value_t = 15)]
    timeout: u64,
    /// Write what came of each expectation as JUnit XML
    #[arg(long, value_name = "FILE")]
    junit: Option<PathBuf>,
    /// Print data for programs
    #[arg(long)]
    json: bool,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let (loaded, outcomes) = match arguments.live {
        false => {
            let loaded = LoadedSite::read(rules)?;
            let outcomes = of_rules(&loaded);
            (loaded, outcomes)
        }
        true => {
            let runtime = tokio::runtime::Runtime::new()?;
            runtime.block_on(of_site(rules, arguments))?
        }
    };
    let failed = outcomes.iter().filter(|outcome| !outcome.verdict().holds()).count();
    if let Some(path) = &arguments.junit {
        let text = junit(&loaded, &outcomes, arguments.live).to_string();
        let text =
            text.map_err(|error| Failure::Message(format!("JUnit XML cannot be made: {error}")))?;
        write_or_say(path, text.as_bytes())?;
    }
    match arguments.json {
        true => print_json(&loaded, &outcomes, failed, out)?,
        false => print(&loaded, &outcomes, failed, arguments.live, out)?,
    }
    Ok(if failed == 0 { ExitStatus::Well } else { ExitStatus::Found })
}

fn of_rules(loaded: &LoadedSite) -> Vec<LiveVerdict> {
    verify_all(loaded.edge()).into_iter().map(LiveVerdict::from).collect()
}

/// Asks the running site; a terminal shows how far it is.
async fn of_site(
    rules: &Path,
    arguments: &Arguments,
) -> Result<(LoadedSite, Vec<LiveVerdict>), Failure> {
    let loaded = LoadedSite::read(rules)?;
    let authority = match &arguments.authority {
        Some(path) => {
            let bytes = std::fs::read(path);
            Some(bytes.map_err(|error| {
                Failure::Message(format!("`{}` cannot be read: {error}", path.display()))
            })?)
        }
        None => None,
    };
    let reach = ConnectOptions::new(Duration::from_secs(arguments.timeout.max(1)))
        .with_connect(arguments.connect.clone())
        .with_connect_http(arguments.connect_http.clone())
        .with_authority(authority);
    let wrong = |why| {
        Failure::Message(format!(
            "`{}`: {why}",
            arguments.authority.as_deref().unwrap_or(Path::new("")).display()
        ))
    };
    let visitor = Visitor::new(Arc::clone(loaded.shared()), reach).map_err(wrong)?;
    visitor.find().await.map_err(Failure::Message)?;
    let all = loaded.rules().expectations().len() + loaded.rules().every_expectations().len();
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
    Ok((loaded, outcomes))
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
    if outcomes.is_empty() {
        return writeln!(
            out,
            "{} states no expectation; add one with `expect`",
            loaded.rules().sources()[0]
        );
    }
    let expectations = count(all, "expectation", "expectations");
    let site = if live { " on the running site" } else { "" };
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
        let place = in_style(FAINT, loaded.name(outcome.verdict().line()));
        writeln!(out, "\n  {place}  {}", in_style(STRONG, outcome.verdict().asked()))?;
        for failure in outcome.verdict().failures() {
            writeln!(out, "    expected  {}", failure.expected())?;
            writeln!(out, "    got       {}", in_style(BAD, failure.got()))?;
        }
        if let Some((says, why)) = outcome.rules() {
            writeln!(out, "    rules     {says}")?;
            writeln!(out, "              {}", in_style(NOTE, why))?;
        }
        if let Some(line) = outcome.verdict().decided() {
            writeln!(out, "    by        {}", loaded.name(line))?;
        }
    }
    let sampled: usize = outcomes.iter().filter_map(|outcome| outcome.sampled()).sum();
    if sampled > 0 || !skipped.is_empty() {
        writeln!(out)?;
    }
    if sampled > 0 {
        let addresses = count(sampled, "address", "addresses");
        writeln!(
            out,
            "{}",
            in_style(
                FAINT,
                format_args!(
                    "`expect every` was sampled, with {addresses}; `ravel test` proves it of the rules"
                )
            )
        )?;
    }
    for outcome in skipped {
        let why = outcome.not_asked().unwrap_or_default();
        writeln!(
            out,
            "{}",
            in_style(
                FAINT,
                format_args!(
                    "not asked: {}  {}: {why}",
                    loaded.name(outcome.verdict().line()),
                    outcome.verdict().asked()
                )
            )
        )?;
    }
    Ok(())
}

fn junit(loaded: &LoadedSite, outcomes: &[LiveVerdict], live: bool) -> Junit {
    let mut suite =
        TestSuite::new(if live { "expectations of the running site" } else { "expectations" });
    for outcome in outcomes {
        let status = if let Some(why) = outcome.not_asked() {
            let mut status = TestCaseStatus::skipped();
            status.set_message(why);
            status
        } else if outcome.verdict().holds() {
            TestCaseStatus::success()
        } else {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
            let part = |failure: &Mismatch| {
                format!("expected {}\ngot      {}", failure.expected(), failure.got())
            };
            let mut text =
                outcome.verdict().failures().iter().map(part).collect::<Vec<_>>().join("\n");
            if let Some((says, why)) = outcome.rules() {
                text.push_str(&format!("\nrules    {says}; {why}"));
            }
            status
                .set_message(format!(
                    "{} at {}",
                    outcome.verdict().asked(),
                    loaded.name(outcome.verdict().line())
                ))
                .set_description(text);
            status
        };
        let mut case = TestCase::new(
            format!("{} {}", loaded.name(outcome.verdict().line()), outcome.verdict().asked()),
            status,
        );
        case.set_classname(loaded.source(outcome.verdict().line()));
        suite.add_test_case(case);
    }
    let mut report = Junit::new("ravel test");
    report.add_test_suite(suite);
    report
}

#[derive(Serialize)]
struct Report<'a> {
    expectations: usize,
    failed: usize,
    verdicts: Data<'a, [LiveVerdict]>,
}

fn print_json(
    loaded: &LoadedSite,
    outcomes: &[LiveVerdict],
    failed: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let report =
        Report { expectations: outcomes.len(), failed, verdicts: loaded.rules().data(outcomes) };
    serde_json::to_writer_pretty(&mut *out, &report)?;
    writeln!(out)
}
