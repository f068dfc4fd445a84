//! `ravel diff`: what a change does to visitors.

mod data;
mod known;
mod page;
mod words;

use std::cmp::Reverse;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use ravel_check::{Difference, DifferenceKind, compare};

use known::{KnownSummary, KnownUrls};

use crate::diagnostic::write_folded;
use crate::edition::{Edition, EditionRules};
use crate::report::{Reports, forms, write_all};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, in_style};
use crate::urls::UrlSources;
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The old edition: a rules file, a folder with one, or a git revision (`main`, `HEAD~1`,
    /// `REV:path/edge.ravel`); `git:REV` is a revision in any case
    #[arg(value_name = "OLD")]
    old: String,
    /// The new edition; the rules file of the working tree unless it is named
    #[arg(value_name = "NEW")]
    new: Option<String>,
    /// The built files of the old edition: a folder, or a list of names
    #[arg(long, value_name = "PATH")]
    old_files: Option<PathBuf>,
    /// The built files of the new edition
    #[arg(long, value_name = "PATH")]
    new_files: Option<PathBuf>,
    #[command(flatten)]
    known: UrlSources,
    /// Show only these kinds of differences
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = kind)]
    only: Vec<DifferenceKind>,
    /// Exit with 1 for these kinds alone: missing, loop, target, file, hops, status, headers,
    /// lifetime, found, undecided
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = kind)]
    fail_on: Vec<DifferenceKind>,
    /// Compare URLs with empty segments, too, as `//about`, which `pages tidy` corrects
    #[arg(long)]
    empty_segments: bool,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    reports: Reports,
}

impl Arguments {}

forms!(Html "html" "HTML", Markdown "md" "Markdown");

fn kind(text: &str) -> Result<DifferenceKind, String> {
    let named = DifferenceKind::ALL.into_iter().find(|kind| kind.as_str() == text);
    let all = || DifferenceKind::ALL.map(DifferenceKind::as_str).join(", ");
    named.ok_or_else(|| format!("write one of {}", all()))
}

/// What is compared, and the result.
struct Compared<'r> {
    editions: [&'r Edition; 2],
    /// All that counts.
    differences: Vec<&'r Difference>,
    /// So many more are about URLs with empty segments.
    left_out: usize,
    /// What is to say of where built files come from.
    files_from: Option<String>,
    /// What is known of URLs, if sources are named.
    known: Option<KnownSummary>,
    shown: Vec<&'r Difference>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let forms = arguments.reports.of_forms::<ReportForm>()?;
    let old = EditionRules::read(&arguments.old, rules)?;
    let new = match &arguments.new {
        Some(new) => EditionRules::read(new, rules)?,
        None => EditionRules::on_disk(rules)?,
    };
    let old_files = old.files(arguments.old_files.as_deref())?;
    let new_files = new.files(arguments.new_files.as_deref())?;
    let (files, files_from) = match (old_files, new_files) {
        (Some(old), Some(new)) => ([old, new], None),
        (None, Some(files)) => {
            let said =
                format!("{} has no built files: those of {} are used", old.name(), new.name());
            ([files.clone(), files], Some(said))
        }
        (Some(files), None) => {
            let said =
                format!("{} has no built files: those of {} are used", new.name(), old.name());
            ([files.clone(), files], Some(said))
        }
        (None, None) => {
            return Err(Failure::Message(
                "no edition has built files; name them with `--old-files` and `--new-files`"
                    .to_owned(),
            ));
        }
    };
    let [old_files, new_files] = files;
    let editions = [old.with_files(old_files), new.with_files(new_files)];
    let edges = editions.each_ref().map(|edition| &edition.edge);
    let known = KnownUrls::read(&arguments.known, edges[0])?;
    if let Some(unread) = known.as_ref().and_then(KnownUrls::unread) {
        anstream::eprintln!("{}: {unread}", in_style(NOTE, "warning"));
    }
    let mut comparison = compare(edges[0], edges[1]);
    let known = known.map(|known| known.count_in(&mut comparison, edges));
    let (mut differences, left_out): (Vec<_>, Vec<_>) = comparison
        .differences()
        .iter()
        .partition(|one| arguments.empty_segments || one.urls() > 0 || !one.is_of_empty_segments());
    let cost =
        |one: &&Difference| (one.kind(), Reverse(one.hits()), one.is_of_repeated_parameters());
    differences.sort_by_key(cost);
    let is_shown =
        |one: &&&Difference| arguments.only.is_empty() || arguments.only.contains(&one.kind());
    let compared = Compared {
        editions: editions.each_ref(),
        shown: differences.iter().filter(is_shown).copied().collect(),
        differences,
        left_out: left_out.len(),
        files_from,
        known,
    };
    write_all(&forms, |form| {
        Ok(match form {
            ReportForm::Html => page::of(&compared),
            ReportForm::Markdown => words::markdown(&compared),
        })
    })?;
    match arguments.json {
        true => data::print(&compared, out)?,
        false => print(&compared, out)?,
    }
    let fails = compared
        .differences
        .iter()
        .any(|one| arguments.fail_on.is_empty() || arguments.fail_on.contains(&one.kind()));
    Ok(if fails { ExitStatus::Found } else { ExitStatus::Well })
}

fn print(compared: &Compared<'_>, out: &mut dyn Write) -> io::Result<()> {
    let [old, new] = compared.editions;
    writeln!(out, "{} → {}", in_style(STRONG, &old.name), in_style(STRONG, &new.name))?;
    if let Some(said) = &compared.files_from {
        writeln!(out, "{}", in_style(FAINT, said))?;
    }
    writeln!(out, "{}", words::summary(compared))?;
    if let Some(known) = &compared.known {
        writeln!(out, "{}", known.words())?;
    }
    for one in &compared.shown {
        let style = match one.kind() {
            DifferenceKind::Missing | DifferenceKind::Loop => BAD,
            DifferenceKind::Found => GOOD,
            _ => NOTE,
        };
        let counts = words::counts(one);
        let gap = if counts.is_empty() { "" } else { "  " };
        writeln!(
            out,
            "\n{}  {}{gap}{}",
            in_style(style.bold(), one.kind()),
            in_style(STRONG, words::about(one, words::MAX_PATHS)),
            in_style(FAINT, counts)
        )?;
        writeln!(out, "  {}", words::asked(one))?;
        if let Some(why) = one.why() {
            writeln!(out, "    undecided: {why}")?;
        }
        for (number, label) in ["before", "after "].into_iter().enumerate() {
            let lines = words::lines(compared, one, number);
            let gap = if lines.is_empty() { "" } else { "  " };
            let reply = &one.descriptions()[number];
            let text = format!("{} {reply}{gap}{}", in_style(FAINT, label), in_style(FAINT, lines));
            write_folded(&text, "    ", "           ", out)?;
        }
    }
    if compared.left_out > 0 {
        let more = count(compared.left_out, "difference", "differences");
        let said = format!("{more} of URLs with empty segments, as `//about`: --empty-segments");
        writeln!(out)?;
        write_folded(&in_style(FAINT, said), "", "", out)?;
    }
    Ok(())
}

/// How many of each kind there are, what hurts most first.
fn numbers(compared: &Compared<'_>) -> Vec<(DifferenceKind, usize)> {
    let number = |kind: DifferenceKind| {
        let all = compared.differences.iter();
        (kind, all.filter(|one| one.kind() == kind).count())
    };
    DifferenceKind::ALL.into_iter().map(number).filter(|(_, number)| *number > 0).collect()
}

/// The number of differences in words.
fn total(compared: &Compared<'_>) -> String {
    match compared.differences.len() {
        0 => "no differences".to_owned(),
        number => count(number, "difference", "differences"),
    }
}
