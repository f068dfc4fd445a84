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
use ravel::language::Line;
use ravel_check::verify_all;
use ravel_serve::{Reach, Visitor};
use serde::Serialize;

use crate::load::{Loaded, write_or_say};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, in_style};
use crate::{Ended, Failure};

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

/// What came of an expectation.
struct Outcome {
    line: Line,
    asked: String,
    failures: Vec<Mismatch>,
    /// The line that decided.
    decided: Option<Line>,
    /// What the rules say to it, where a running site says something else than expected.
    rules: Option<String>,
    /// Why it was not asked of a running site.
    not_asked: Option<String>,
    /// How many addresses stood for all.
    sampled: Option<usize>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let (loaded, outcomes) = match arguments.live {
        false => {
            let loaded = Loaded::read(rules)?;
            let outcomes = of_rules(&loaded);
            (loaded, outcomes)
        }
        true => {
            let runtime = tokio::runtime::Runtime::new()?;
            runtime.block_on(of_site(rules, arguments))?
        }
    };
    let failed = outcomes.iter().filter(|outcome| !outcome.failures.is_empty()).count();
    if let Some(path) = &arguments.junit {
        let text = junit(&loaded, &outcomes, arguments.live).to_string();
        let text =
            text.map_err(|error| Failure::Message(format!("JUnit XML can not be made: {error}")))?;
        write_or_say(path, text.as_bytes())?;
    }
    match arguments.json {
        true => print_json(&loaded, &outcomes, failed, out)?,
        false => print(&loaded, &outcomes, failed, arguments.live, out)?,
    }
    Ok(if failed == 0 { Ended::Well } else { Ended::Found })
}

fn of_rules(loaded: &Loaded) -> Vec<Outcome> {
    let outcome = |verdict: ravel::expect::Verdict| Outcome {
        line: verdict.line(),
        asked: verdict.asked().to_owned(),
        failures: verdict.failures().to_vec(),
        decided: verdict.decided(),
        rules: None,
        not_asked: None,
        sampled: None,
    };
    verify_all(loaded.edge()).into_iter().map(outcome).collect()
}

/// Asks the running site; a terminal shows how far it is.
async fn of_site(rules: &Path, arguments: &Arguments) -> Result<(Loaded, Vec<Outcome>), Failure> {
    let loaded = Loaded::read(rules)?;
    let authority = match &arguments.authority {
        Some(path) => {
            let bytes = std::fs::read(path);
            Some(bytes.map_err(|error| {
                Failure::Message(format!("`{}` can not be read: {error}", path.display()))
            })?)
        }
        None => None,
    };
    let reach = Reach::new(Duration::from_secs(arguments.timeout.max(1)))
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
    let all = loaded.rules().expectations().len() + loaded.rules().universals().len();
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
        let why = if verdict.rules_hold() {
            "the site answers otherwise than these rules do: an older version, a cache, or another host"
        } else {
            "these rules do not do it, either"
        };
        outcomes.push(Outcome {
            line: verdict.line(),
            asked: verdict.asked().to_owned(),
            rules: (!verdict.failures().is_empty()).then(|| format!("{}; {why}", verdict.rules())),
            failures: verdict.failures().to_vec(),
            decided: None,
            not_asked: verdict.not_asked().map(str::to_owned),
            sampled: verdict.sampled(),
        });
    }
    bar.finish_and_clear();
    Ok((loaded, outcomes))
}

fn print(
    loaded: &Loaded,
    outcomes: &[Outcome],
    failed: usize,
    live: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let skipped: Vec<&Outcome> =
        outcomes.iter().filter(|outcome| outcome.not_asked.is_some()).collect();
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
    for outcome in outcomes.iter().filter(|outcome| !outcome.failures.is_empty()) {
        let place = in_style(FAINT, loaded.name(outcome.line));
        writeln!(out, "\n  {place}  {}", in_style(STRONG, &outcome.asked))?;
        for failure in &outcome.failures {
            writeln!(out, "    expected  {}", failure.expected())?;
            writeln!(out, "    got       {}", in_style(BAD, failure.got()))?;
        }
        if let Some(rules) = &outcome.rules {
            let (says, why) = rules.rsplit_once("; ").unwrap_or((rules, ""));
            writeln!(out, "    rules     {says}")?;
            writeln!(out, "              {}", in_style(NOTE, why))?;
        }
        if let Some(line) = outcome.decided {
            writeln!(out, "    by        {}", loaded.name(line))?;
        }
    }
    let sampled: usize = outcomes.iter().filter_map(|outcome| outcome.sampled).sum();
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
        let why = outcome.not_asked.as_deref().unwrap_or_default();
        writeln!(
            out,
            "{}",
            in_style(
                FAINT,
                format_args!("not asked: {}  {}: {why}", loaded.name(outcome.line), outcome.asked)
            )
        )?;
    }
    Ok(())
}

fn junit(loaded: &Loaded, outcomes: &[Outcome], live: bool) -> Junit {
    let mut suite =
        TestSuite::new(if live { "expectations of the running site" } else { "expectations" });
    for outcome in outcomes {
        let status = if let Some(why) = &outcome.not_asked {
            let mut status = TestCaseStatus::skipped();
            status.set_message(why.as_str());
            status
        } else if outcome.failures.is_empty() {
            TestCaseStatus::success()
        } else {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
            let part = |failure: &Mismatch| {
                format!("expected {}\ngot      {}", failure.expected(), failure.got())
            };
            let mut text = outcome.failures.iter().map(part).collect::<Vec<_>>().join("\n");
            if let Some(rules) = &outcome.rules {
                text.push_str(&format!("\nrules    {rules}"));
            }
            status
                .set_message(format!("{} at {}", outcome.asked, loaded.name(outcome.line)))
                .set_description(text);
            status
        };
        let mut case =
            TestCase::new(format!("{} {}", loaded.name(outcome.line), outcome.asked), status);
        case.set_classname(loaded.source(outcome.line));
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
    #[serde(skip_serializing_if = "Option::is_none")]
    rules: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    not_asked: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sampled: Option<usize>,
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

fn print_json(
    loaded: &Loaded,
    outcomes: &[Outcome],
    failed: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let verdict = |outcome| data(loaded, outcome);
    let report = Report {
        expectations: outcomes.len(),
        failed,
        verdicts: outcomes.iter().map(verdict).collect(),
    };
    serde_json::to_writer_pretty(&mut *out, &report)?;
    writeln!(out)
}

fn data<'a>(loaded: &'a Loaded, outcome: &'a Outcome) -> VerdictData<'a> {
    let failures = outcome
        .failures
        .iter()
        .map(|failure| FailureData { expected: failure.expected(), got: failure.got() });
    VerdictData {
        source: loaded.source(outcome.line),
        line: outcome.line.number(),
        asked: &outcome.asked,
        holds: outcome.failures.is_empty() && outcome.not_asked.is_none(),
        failures: failures.collect(),
        decided: outcome
            .decided
            .map(|line| Place { source: loaded.source(line), line: line.number() }),
        rules: outcome.rules.as_deref(),
        not_asked: outcome.not_asked.as_deref(),
        sampled: outcome.sampled,
    }
}
