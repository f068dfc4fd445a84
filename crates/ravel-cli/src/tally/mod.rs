//! `ravel tally`: what the visitors of years would get, by how often they came.

mod data;
mod page;
mod picture;
mod piped;
mod reading;
mod words;

use std::fs::File;
use std::io::{self, BufReader, IsTerminal, Write};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use ravel::{Edge, Rules};
use ravel_draft::{DraftError, Move, OldSite};
use ravel_traffic::{Ending, JsonKeys, Tally, TallyOptions, TallyReport};

use reading::{ReadSource, Reading};

use crate::file::write_or_say;
use crate::load::LoadedSite;
use crate::progress::Progress;
use crate::report::{Reports, forms, write_all};
use crate::style::{NOTE, in_style};
use crate::urls::UrlSources;
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Access logs, or lists, tables and sitemaps with URLs, each also with gzip or Zstandard; `-` is
    /// standard input
    #[arg(value_name = "SOURCE", required_unless_present = "merge")]
    sources: Vec<String>,
    /// Where requests were made that do not say it: scheme and host; the canonical ones unless it is
    /// said
    #[arg(long, value_name = "ORIGIN")]
    at: Option<String>,
    /// Leave out the queries of URLs
    #[arg(long)]
    no_query: bool,
    /// The key of JSON lines, or the column of a table, that has the URL
    #[arg(long, value_name = "NAME")]
    url: Option<String>,
    /// The key of JSON lines that has the method
    #[arg(long, value_name = "NAME")]
    method: Option<String>,
    /// The key of JSON lines that has the status
    #[arg(long, value_name = "NAME")]
    status: Option<String>,
    /// The key of JSON lines, or the column of a table, that says how often
    #[arg(long, value_name = "NAME")]
    count: Option<String>,
    /// Show so many URLs in each list
    #[arg(long, value_name = "NUMBER", default_value_t = 10)]
    top: usize,
    /// Exit with 1 if more requests end so: `missing`, `missing=100`, `missing=0.1%`
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = limit)]
    fail_on: Vec<Limit>,
    /// Write redirects for missing URLs to a file that is not there yet
    #[arg(long, value_name = "FILE")]
    suggest: Option<PathBuf>,
    /// Write what was counted to a file, to be merged with others
    #[arg(long, value_name = "FILE")]
    partial: Option<PathBuf>,
    /// Add what `--partial` wrote; may be given several times
    #[arg(long, value_name = "FILE", num_args = 1..)]
    merge: Vec<PathBuf>,
    /// Read only the lines that begin at so many bytes, as `START+LENGTH`
    #[arg(long, value_name = "RANGE", value_parser = range)]
    range: Option<Range<u64>>,
    /// The most memory that distinct URLs may take, as `512MiB`
    #[arg(long, value_name = "SIZE", default_value = "1GiB", value_parser = size)]
    memory: usize,
    /// Read with so many threads; one for each core unless it is said
    #[arg(long, value_name = "NUMBER")]
    threads: Option<usize>,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    reports: Reports,
}

/// The most requests that may end so.
#[derive(Debug, Clone, Copy)]
struct Limit {
    ending: Ending,
    most: Most,
}

#[derive(Debug, Clone, Copy)]
enum Most {
    Requests(u64),
    /// Of all.
    Share(f64),
}

fn limit(text: &str) -> Result<Limit, String> {
    let (name, most) = text.split_once('=').unwrap_or((text, "0"));
    let ending = Ending::ALL.into_iter().find(|ending| ending.as_str() == name);
    let all = || Ending::ALL.map(Ending::as_str).join(", ");
    let ending = ending.ok_or_else(|| format!("write one of {}", all()))?;
    let wrong = || format!("`{most}` is no number of requests and no share, as `0.1%`");
    let most = match most.strip_suffix('%') {
        Some(share) => {
            let share: f64 = share.parse().map_err(|_| wrong())?;
            (0.0..=100.0)
                .contains(&share)
                .then_some(Most::Share(share / 100.0))
                .ok_or_else(wrong)?
        }
        None => Most::Requests(most.parse().map_err(|_| wrong())?),
    };
    Ok(Limit { ending, most })
}

impl Limit {
    fn is_passed(&self, report: &TallyReport) -> bool {
        let requests = report.ending(self.ending);
        match self.most {
            Most::Requests(most) => requests > most,
            Most::Share(share) => requests as f64 > share * report.requests() as f64,
        }
    }
}

fn range(text: &str) -> Result<Range<u64>, String> {
    let wrong = || "write it as `START+LENGTH`, in bytes".to_owned();
    let (start, length) = text.split_once('+').ok_or_else(wrong)?;
    let start: u64 = start.parse().map_err(|_| wrong())?;
    let length: u64 = length.parse().map_err(|_| wrong())?;
    Ok(start..start.checked_add(length).ok_or_else(wrong)?)
}

fn size(text: &str) -> Result<usize, String> {
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let unit = match text[digits..].trim() {
        "" | "B" => 1,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return Err("write a number with `KiB`, `MiB` or `GiB`".to_owned()),
    };
    let number = text[..digits].parse::<usize>().ok().and_then(|number| number.checked_mul(unit));
    number.ok_or_else(|| "write a number with `KiB`, `MiB` or `GiB`".to_owned())
}

impl Arguments {}

forms!(Html "html" "HTML");

/// What is shown.
struct Shown<'s> {
    report: TallyReport,
    sources: Vec<ReadSource>,
    /// Where missing URLs may have gone, by their paths below the base path.
    moves: Vec<Move>,
    loaded: &'s LoadedSite,
    top: usize,
    /// It was stopped before all was read.
    stopped: bool,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let forms = arguments.reports.of_forms::<ReportForm>()?;
    if arguments.range.is_some() && arguments.sources.len() != 1 {
        return Err(Failure::Message("a range is of one source; name one".to_owned()));
    }
    let loaded = LoadedSite::read(rules)?;
    let options = TallyOptions::default()
        .at(arguments.at.clone())
        .without_queries(arguments.no_query)
        .budget(arguments.memory);
    let tally =
        Tally::new(loaded.edge(), &options).map_err(|error| Failure::Message(error.to_string()))?;
    let stopped = Arc::new(AtomicBool::new(false));
    stop_when_asked(&stopped);
    for file in &arguments.merge {
        let failed = |error: &dyn std::fmt::Display| {
            Failure::Message(format!("`{}` {error}", file.display()))
        };
        let input =
            File::open(file).map_err(|error| failed(&format!("cannot be read: {error}")))?;
        tally.merge(BufReader::new(input)).map_err(|error| failed(&error))?;
    }
    let sources = read(arguments, &tally, &stopped)?;
    let stopped = stopped.load(Ordering::Relaxed);
    if let Some(file) = &arguments.partial {
        if stopped {
            // Nobody would see later that it is not all.
            let name = file.display();
            return Err(Failure::Message(format!(
                "stopped before all was read: `{name}` is not written"
            )));
        }
        let mut bytes = Vec::new();
        tally.write_partial(&mut bytes)?;
        write_or_say(file, &bytes)?;
    }
    let report = tally.report(arguments.top);
    let moves = moves(&loaded, &report);
    let shown = Shown { report, sources, moves, loaded: &loaded, top: arguments.top, stopped };
    if let Some(file) = &arguments.suggest {
        suggest(file, &loaded, &tally.report(usize::MAX))?;
    }
    write_all(&forms, |ReportForm::Html| Ok(page::of(&shown)))?;
    match arguments.json {
        true => data::print(&shown, out)?,
        // What is merged later is looked at then.
        false if arguments.partial.is_some() => {}
        false => words::print(&shown, out)?,
    }
    let is_passed = arguments.fail_on.iter().any(|limit| limit.is_passed(&shown.report));
    match is_passed {
        true => Ok(ExitStatus::Found),
        false if stopped && !arguments.fail_on.is_empty() => Err(Failure::Message(
            "stopped before all was read: no limit of `--fail-on` is passed so far".to_owned(),
        )),
        false => Ok(ExitStatus::Well),
    }
}

fn read(
    arguments: &Arguments,
    tally: &Tally<'_>,
    stopped: &AtomicBool,
) -> Result<Vec<ReadSource>, Failure> {
    let keys = JsonKeys::default()
        .with_url(arguments.url.clone())
        .with_method(arguments.method.clone())
        .with_status(arguments.status.clone())
        .with_count(arguments.count.clone());
    let tables = UrlSources::of_columns(arguments.url.clone(), arguments.count.clone());
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let sizes = arguments
        .sources
        .iter()
        .map(|source| std::fs::metadata(source).map_or(0, |known| known.len()));
    let all = arguments.range.as_ref().map_or_else(|| sizes.sum(), |range| range.end - range.start);
    let bar = bar(all);
    let threads = arguments.threads.unwrap_or(cores);
    let reading = Reading { tally, keys: &keys, tables: &tables, threads, bar: &bar, stopped };
    let mut sources = Vec::new();
    for source in &arguments.sources {
        if stopped.load(Ordering::Relaxed) {
            break;
        }
        let read = reading.source(source, arguments.range.as_ref())?;
        if let Some(note) = &read.note {
            anstream::eprintln!("{}: {source}: {note}", in_style(NOTE, "warning"));
        }
        sources.push(read);
    }
    bar.finish_and_clear();
    Ok(sources)
}

/// How far it is, for people who wait.
fn bar(all: u64) -> ProgressBar {
    let target = match io::stderr().is_terminal() {
        true => ProgressDrawTarget::stderr_with_hz(4),
        false => ProgressDrawTarget::hidden(),
    };
    let bar = ProgressBar::with_draw_target(Some(all), target);
    // How much another program writes is not known.
    let template = match all {
        0 => "{bytes}  {bytes_per_sec}",
        _ => "{bytes} of {total_bytes}  {bytes_per_sec}  {eta} left",
    };
    match ProgressStyle::with_template(template) {
        Ok(style) => bar.with_style(style),
        Err(_) => bar,
    }
}

/// After Ctrl-C, what was read so far is shown; after the second, nothing.
fn stop_when_asked(stopped: &Arc<AtomicBool>) {
    let stopped = Arc::clone(stopped);
    std::thread::spawn(move || {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else {
            return;
        };
        runtime.block_on(async {
            if tokio::signal::ctrl_c().await.is_ok() {
                stopped.store(true, Ordering::Relaxed);
            }
            if tokio::signal::ctrl_c().await.is_ok() {
                std::process::exit(2);
            }
        });
    });
}

/// Missing URLs, as old ones of the site, with how often it was asked.
fn missing(edge: &Edge, report: &TallyReport) -> OldSite {
    let site = edge.site().url();
    let urls = || report.missing().iter().map(|one| (one.url(), one.requests()));
    OldSite::of_urls(&site, urls().map(|(url, _)| url)).0.with_requests(&site, urls())
}

fn moves(loaded: &LoadedSite, report: &TallyReport) -> Vec<Move> {
    let old = missing(loaded.edge(), report);
    if old.is_empty() {
        return Vec::new();
    }
    let progress = Progress::new(old.len(), "old URLs");
    let looked_at = |_: &str| progress.step();
    ravel_draft::suggestions(loaded.edge(), |name| loaded.bytes(name), &old, &looked_at)
}

fn suggest(file: &Path, loaded: &LoadedSite, report: &TallyReport) -> Result<(), Failure> {
    if file.exists() {
        let name = file.display();
        return Err(Failure::Message(format!(
            "`{name}` is there already; write to another file, and compare the two"
        )));
    }
    let edge = loaded.edge();
    let old = missing(edge, report);
    let names = loaded.rules().sources();
    let name = names.first().map_or("edge.ravel", |name| name);
    let text = loaded.texts().get(name).cloned().unwrap_or_default();
    let with = |more: &str| {
        let load = |wanted: &str| {
            loaded.texts().get(wanted).map(|text| text.clone().into_bytes()).ok_or("no such file")
        };
        let rules = Rules::read(name, &format!("{text}\n{more}"), load)
            .map_err(|problems| DraftError::Rules(problems.to_string()))?;
        Ok(Edge::new(&rules, edge.files().clone()))
    };
    let redirects = ravel_draft::redirects(edge, |name| loaded.bytes(name), &old, &with)
        .map_err(|error| Failure::Message(error.to_string()))?;
    write_or_say(file, redirects.as_bytes())
}

impl Shown<'_> {
    /// Where something that is missing may have gone.
    fn move_of(&self, url: &str) -> Option<&Move> {
        let site = self.loaded.edge().site().url();
        let path = url.strip_prefix(site.trim_end_matches('/'))?.split('?').next()?;
        self.moves.iter().find(|one| one.from() == path)
    }

    /// A URL without the origin and base path of the site.
    fn short<'u>(&self, url: &'u str) -> &'u str {
        let site = self.loaded.edge().site().url();
        url.strip_prefix(site.trim_end_matches('/'))
            .filter(|path| path.starts_with('/'))
            .unwrap_or(url)
    }
}
