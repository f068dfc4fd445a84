//! A tally in the terminal.

use std::io::{self, Write};

use ravel_traffic::{Ending, TalliedUrl, TallyReport, Urlless};

use super::Shown;
use crate::diagnostic::{width, write_folded};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, cut, in_style};

/// In front of what has no number.
const INDENT: &str = "             ";
/// So many rules that nobody used are named.
const MAX_UNUSED: usize = 12;

pub(super) fn print(shown: &Shown<'_>, out: &mut dyn Write) -> io::Result<()> {
    let report = &shown.report;
    for source in &shown.sources {
        writeln!(out, "{}  {}", in_style(STRONG, &source.name), in_style(FAINT, source.format))?;
    }
    if shown.stopped {
        writeln!(out, "{}", in_style(NOTE, "stopped: this is what was read so far"))?;
    }
    writeln!(out, "{}", summary(report))?;
    endings(report, out)?;
    missing(shown, out)?;
    redirected(shown, out)?;
    differing(shown, out)?;
    rules(shown, out)?;
    if report.origins().len() > 1 {
        writeln!(out, "\n{}", in_style(STRONG, "hosts"))?;
        for (origin, requests) in report.origins().iter().take(shown.top) {
            writeln!(out, "  {:>9}  {origin}", grouped(*requests))?;
        }
    }
    unread(report, out)
}

/// The first sentence: how many requests, of how many URLs, in which time.
pub(super) fn summary(report: &TallyReport) -> String {
    let one = |number: u64, one: &str, many: &str| match number {
        1 => format!("1 {one}"),
        _ => format!("{} {many}", grouped(number)),
    };
    let days = report.days();
    let time = match (days.first_key_value(), days.last_key_value()) {
        (Some((first, _)), Some((last, _))) if first == last => format!(", on {first}"),
        (Some((first, _)), Some((last, _))) => format!(", from {first} to {last}"),
        _ => String::new(),
    };
    let requests = one(report.requests(), "request", "requests");
    format!("{requests} of {}{time}", one(report.urls(), "URL", "URLs"))
}

/// How requests end, in words.
pub(super) fn meaning(ending: Ending) -> &'static str {
    match ending {
        Ending::File => "a file at once",
        Ending::Redirect => "somewhere, by redirects",
        Ending::Elsewhere => "another service",
        Ending::Depends => "hangs on a header",
        Ending::Gone => "410",
        Ending::Missing => "404",
        Ending::Outside => "404, below no base path",
        Ending::Refused => "400, 405, 414 or 421",
        _ => "a redirect loop",
    }
}

pub(super) fn share(part: u64, all: u64) -> String {
    format!("{:.1} %", part as f64 * 100.0 / all.max(1) as f64)
}

fn endings(report: &TallyReport, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out)?;
    for one in report.endings() {
        let style = match one.ending() {
            Ending::File | Ending::Elsewhere => GOOD,
            Ending::Redirect | Ending::Depends | Ending::Gone => NOTE,
            _ => BAD,
        };
        let row = format!(
            "{}  {:>9}  {:>7}  {:>12}  {}",
            in_style(style.bold(), format!("{:<9}", one.ending().as_str())),
            grouped(one.requests()),
            share(one.requests(), report.requests()),
            urls_of(one.urls()),
            in_style(FAINT, meaning(one.ending()))
        );
        write_folded(&row, "  ", INDENT, out)?;
    }
    for (header, requests) in report.headers() {
        let said = format!("hang on `{header}`, which the sources do not have");
        writeln!(out, "  {:>22}  {}", grouped(*requests), in_style(FAINT, said))?;
    }
    Ok(())
}

/// A URL with its method, unless that is GET.
pub(super) fn asked(shown: &Shown<'_>, one: &TalliedUrl) -> String {
    let url = shown.short(one.url());
    if one.method() == "GET" { url.to_owned() } else { format!("{} {url}", one.method()) }
}

/// The rule that would lead missing URLs to a page, and how sure that is.
pub(super) fn fix(shown: &Shown<'_>, one: &TalliedUrl) -> Option<String> {
    let found = shown.move_of(one.url())?;
    let doubt = if found.is_sure() { "" } else { "perhaps " };
    Some(format!("{doubt}redirect {} -> {} permanent", found.from(), found.to()))
}

fn missing(shown: &Shown<'_>, out: &mut dyn Write) -> io::Result<()> {
    let urls = shown.report.missing();
    if urls.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", in_style(STRONG, "missing"))?;
    let room = room();
    let rows: Vec<(String, Option<String>)> =
        urls.iter().map(|one| (cut(&asked(shown, one), room), fix(shown, one))).collect();
    let chars = |text: &str| text.chars().count();
    // The widest column in which every shorter URL has its rule beside it; the others have it below.
    let fits = |width: usize| {
        let shorter = rows.iter().filter(|(text, _)| chars(text) <= width);
        shorter.filter_map(|(_, fix)| fix.as_ref()).all(|fix| width + 2 + chars(fix) <= room)
    };
    let fixed = rows.iter().filter(|(_, fix)| fix.is_some());
    let width = fixed.map(|(text, _)| chars(text)).filter(|width| fits(*width)).max().unwrap_or(0);
    for (one, (text, fix)) in urls.iter().zip(rows) {
        let requests = grouped(one.requests());
        match fix {
            Some(fix) if chars(&text) <= width => {
                writeln!(out, "  {requests:>9}  {text:width$}  {}", in_style(FAINT, fix))?;
            }
            Some(fix) => {
                writeln!(out, "  {requests:>9}  {text}\n{INDENT}  {}", in_style(FAINT, fix))?;
            }
            None => writeln!(out, "  {requests:>9}  {text}")?,
        }
    }
    Ok(())
}

/// What a row has behind its number, in characters.
fn room() -> usize {
    width().saturating_sub(INDENT.len()).max(20)
}

fn redirected(shown: &Shown<'_>, out: &mut dyn Write) -> io::Result<()> {
    let report = &shown.report;
    if report.redirected().is_empty() {
        return Ok(());
    }
    let hops: Vec<String> =
        report.hops().iter().map(|(hops, n)| format!("{} by {hops}", grouped(*n))).collect();
    let said = format!("requests by number of redirects: {}", hops.join(", "));
    writeln!(out, "\n{}  {}", in_style(STRONG, "redirected"), in_style(FAINT, said))?;
    for one in report.redirected() {
        let hops =
            if one.hops() == 1 { String::new() } else { format!("  {} redirects", one.hops()) };
        let text = cut(&asked(shown, one), room().saturating_sub(hops.len()).max(20));
        writeln!(out, "  {:>9}  {text}{}", grouped(one.requests()), in_style(NOTE, hops))?;
    }
    Ok(())
}

pub(super) fn status(status: u16) -> String {
    if status == 0 { "another service".to_owned() } else { status.to_string() }
}

fn differing(shown: &Shown<'_>, out: &mut dyn Write) -> io::Result<()> {
    let differing = shown.report.differing();
    if differing.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", in_style(STRONG, "answered otherwise than it is logged"))?;
    for one in differing.iter().take(shown.top) {
        let change = format!("{} before, {} now", one.logged(), status(one.answered()));
        let beside = room().saturating_sub(change.len() + "  as ".len()).max(20);
        let example = format!("as {}", cut(&asked(shown, one.example()), beside));
        let (requests, example) = (grouped(one.requests()), in_style(FAINT, example));
        write_folded(&format!("{requests:>9}  {change}  {example}"), "  ", INDENT, out)?;
    }
    Ok(())
}

fn rules(shown: &Shown<'_>, out: &mut dyn Write) -> io::Result<()> {
    let mut used: Vec<_> = shown.report.rules().iter().filter(|rule| rule.requests() > 0).collect();
    used.sort_by_key(|rule| std::cmp::Reverse(rule.requests()));
    let unused: Vec<String> = shown
        .report
        .rules()
        .iter()
        .filter(|rule| rule.requests() == 0)
        .map(|rule| shown.loaded.name(rule.line()))
        .collect();
    if used.is_empty() && unused.is_empty() {
        return Ok(());
    }
    let all = shown.report.rules().len();
    let said = format!("{} of {all} were used", used.len());
    writeln!(out, "\n{}  {}", in_style(STRONG, "rules"), in_style(FAINT, said))?;
    for rule in used.iter().take(shown.top) {
        let place = shown.loaded.name(rule.line());
        writeln!(
            out,
            "  {:>9}  {}  {}",
            grouped(rule.requests()),
            in_style(FAINT, &place),
            cut(rule.rule(), room().saturating_sub(place.len() + 2).max(20))
        )?;
    }
    if !unused.is_empty() {
        let more = if unused.len() > MAX_UNUSED { ", …" } else { "" };
        let named = unused[..unused.len().min(MAX_UNUSED)].join(", ");
        let line = format!("nobody used {named}{more}");
        write_folded(&in_style(FAINT, line), INDENT, INDENT, out)?;
    }
    Ok(())
}

/// Requests that are about no URL, in words.
pub(super) fn urlless(why: Urlless) -> &'static str {
    match why {
        Urlless::Nothing => "without a request",
        Urlless::Server => "about the server (`*`)",
        Urlless::Tunnel => "for a tunnel (CONNECT)",
        _ => "that are not HTTP",
    }
}

fn unread(report: &TallyReport, out: &mut dyn Write) -> io::Result<()> {
    if report.urlless().is_empty() && report.unread() == 0 {
        return Ok(());
    }
    writeln!(out, "\n{}", in_style(STRONG, "not counted"))?;
    for (why, lines) in report.urlless() {
        writeln!(out, "  {:>9}  lines {}", grouped(*lines), urlless(*why))?;
    }
    if report.unread() > 0 {
        writeln!(out, "  {:>9}  lines that cannot be read", grouped(report.unread()))?;
        for example in report.examples() {
            writeln!(out, "             {}", in_style(FAINT, example))?;
        }
    }
    Ok(())
}

/// A number of URLs; so wide that columns of both words stand below each other.
pub(super) fn urls_of(number: u64) -> String {
    if number == 1 { "1 URL ".to_owned() } else { format!("{} URLs", grouped(number)) }
}

/// A number with thin spaces between thousands, as people read it.
pub(super) fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            text.push(' ');
        }
        text.push(digit);
    }
    text
}
