//! The list of requests, and what is shown of one.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::SystemTime;

use http::HeaderMap;
use http::header::REFERER;
use maud::{Markup, html};
use ravel::files::content_type;
use ravel_check::DifferenceKind;
use time::OffsetDateTime;

use super::{Inspector, copied};
use crate::{ExplainedAnswer, OldEdition, Record, RequestDifference};

/// Longer URLs are cut in the list, in characters.
const MAX_URL: usize = 200;

/// The list with what narrows it; the newest request first, and below each page what it loads.
pub(super) fn list(inspector: &Inspector) -> Markup {
    let rows = rows(&inspector.log.last());
    let choice = |name: &str, label: &str, options: &[(&str, &str)]| {
        html! {
            label { (label)
                select data-by=(name) {
                    option value="" { "all" }
                    @for (value, text) in options { option value=(value) { (text) } }
                }
            }
        }
    };
    let statuses = [("2", "2xx"), ("3", "3xx"), ("4", "4xx"), ("5", "5xx")];
    html! {
        section.requests aria-labelledby="requests" {
            h2 #requests { "Requests" }
            form #filter role="search" aria-label="Narrow the list" {
                label.search { "Search" input #search type="search" placeholder="press / to search" autocomplete="off" spellcheck="false"; }
                (choice("status", "Status", &statuses))
                (choice("kind", "Kind", &[("page", "pages"), ("asset", "assets")]))
                (choice("host", "Host", &[]))
                (choice("line", "Rule", &[]))
                @if inspector.live.old_edition().is_some() {
                    (choice("difference", "Compared", &[("yes", "answered differently")]))
                }
                span.tools {
                    button #clear type="button" { "Clear" }
                    " " a href="/requests.har" download="requests.har" { "Export HAR" }
                }
            }
            p.hint #count role="status" {}
            p.hint #waiting hidden[!rows.is_empty()] {
                "Open the site, and each request is shown here with the reason for its answer."
            }
            ul #log role="tree" tabindex="0" aria-label="Requests, the newest first" data-run=(inspector.run) {
                @for row in &rows { (row.shown()) }
            }
        }
    }
}

/// A request with its place in the list.
pub(super) struct Row {
    record: Arc<Record>,
    /// The page that loads it.
    parent: Option<u64>,
    children: usize,
}

/// The rows of requests, each page before what it loads.
pub(super) fn rows(records: &[Arc<Record>]) -> Vec<Row> {
    let parents = parents(records);
    let mut children: HashMap<u64, Vec<&Arc<Record>>> = HashMap::new();
    for record in records.iter().rev() {
        if let Some(parent) = parents.get(&record.number()) {
            children.entry(*parent).or_default().push(record);
        }
    }
    let mut rows = Vec::new();
    for record in records.iter().filter(|record| !parents.contains_key(&record.number())) {
        let loaded = children.remove(&record.number()).unwrap_or_default();
        rows.push(Row { record: Arc::clone(record), parent: None, children: loaded.len() });
        let below = |child: &&Arc<Record>| Row {
            record: Arc::clone(child),
            parent: Some(record.number()),
            children: 0,
        };
        rows.extend(loaded.iter().map(below));
    }
    rows
}

/// Which page each asset was loaded by, the newest that it names as its referrer.
fn parents(records: &[Arc<Record>]) -> HashMap<u64, u64> {
    let mut pages: HashMap<String, u64> = HashMap::new();
    let mut parents = HashMap::new();
    for record in records.iter().rev() {
        let path = path_of(record.request().url()).to_owned();
        if !is_asset(record) {
            pages.insert(path, record.number());
            continue;
        }
        let referrer = header(record.request().headers(), REFERER.as_str());
        if let Some(page) = pages.get(path_of(referrer)).copied() {
            parents.insert(record.number(), page);
            // What an asset loads, such as a font, belongs to the page as well.
            pages.entry(path).or_insert(page);
        }
    }
    parents
}

/// A URL's path and query: names and ports of this machine differ from the site's.
fn path_of(url: &str) -> &str {
    let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
    rest.find('/').map_or("/", |at| &rest[at..])
}

fn header<'h>(headers: &'h HeaderMap, name: &str) -> &'h str {
    headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

/// Whether a request is for a part of a page (Fetch Metadata, section 2.1), or of a type that is.
fn is_asset(record: &Record) -> bool {
    match header(record.request().headers(), "sec-fetch-dest") {
        "" => {
            let path = path_of(record.request().url()).split('?').next().unwrap_or_default();
            let name = record.file().unwrap_or(path);
            let has_ending = name.rsplit('/').next().is_some_and(|last| last.contains('.'));
            has_ending && !content_type(name).starts_with("text/html")
        }
        destination => !["document", "frame", "iframe"].contains(&destination),
    }
}

impl Row {
    pub(super) fn number(&self) -> u64 {
        self.record.number()
    }

    pub(super) fn shown(&self) -> Markup {
        let record = &self.record;
        let (sent, request) = (record.sent(), record.request());
        let url: String = request.url().chars().take(MAX_URL).collect();
        let host = request.address().map_or("", |address| address.host());
        let line = record.line().unwrap_or_default();
        let of_page = if is_asset(record) { "asset" } else { "page" };
        let level = if self.parent.is_some() { "2" } else { "1" };
        let difference = record.difference();
        let expanded = (self.children > 0).then_some("false");
        html! {
            li.request id={ "r" (record.number()) } role="treeitem" aria-level=(level) aria-selected="false" aria-expanded=[expanded]
                data-number=(record.number()) data-parent=[self.parent] data-status=(sent.status() / 100) data-kind=(of_page) data-host=(host) data-line=(line) data-difference=[difference.map(|_| "yes")] hidden[self.parent.is_some()] {
                time.time datetime=(copied::moment(record.time())) { (clock(record.time())) }
                span class={ "status s" (sent.status() / 100) } { (sent.status()) }
                span.what {
                    span.method { (request.method()) }
                    " " a.url href={ "/request/" (record.number()) } tabindex="-1" { (url) }
                    span.outcome {
                        @if let Some(location) = record.location() { " → " (location.chars().take(MAX_URL).collect::<String>()) }
                        @else if let Some(file) = record.file() { " " (file) }
                        @else { " " (record.outcome()) }
                    }
                    @if let Some(difference) = difference { " " (kind(difference)) }
                    @if self.children > 0 { span.assets { " + " (self.children) (if self.children == 1 { " asset" } else { " assets" }) } }
                }
                span.line { (line) }
            }
        }
    }
}

/// All that is known of one request.
pub(super) fn details(inspector: &Inspector, record: &Record) -> Markup {
    let (sent, request) = (record.sent(), record.request());
    let copies = [
        ("Copy URL", request.url().to_owned()),
        ("Copy as curl", copied::curl(inspector, record)),
        ("Copy as expect", copied::expectation(inspector, record)),
    ];
    html! {
        h2 { (request.method()) " " span.url { (request.url()) } }
        p.sent {
            span class={ "status s" (sent.status() / 100) } { (sent.status()) }
            " · " (size(sent.body_bytes()))
            " · " (format!("{:.1} ms", sent.duration().as_secs_f64() * 1e3))
            @if !sent.complete() { " · " span.bad { "the client went before the end" } }
        }
        p.copies { @for (label, text) in &copies { button type="button" data-copy=(text) { (label) } " " } }
        @if let (Some(old), Some(difference)) = (inspector.live.old_edition(), record.difference()) {
            (compared(old, difference))
        }
        (answers(record.answers()))
        (headers("Request headers", request.headers()))
        (headers("Response headers, as sent", sent.headers()))
    }
}

/// How the old edition answers differently.
pub(super) fn compared(old: &OldEdition, difference: &RequestDifference) -> Markup {
    html! {
        div.compared {
            p { (kind(difference)) ": " code { (old.name()) } " answers differently" }
            table.steps aria-label={ "Compared with " (old.name()) } {
                tr { td.line { "before" } td { code { (difference.before()) } } td.line { (difference.lines().join(", ")) } }
                tr { td.line { "now" } td { code { (difference.after()) } } td {} }
            }
        }
    }
}

/// In which way it differs, by how much that hurts.
fn kind(difference: &RequestDifference) -> Markup {
    let class = match difference.kind() {
        DifferenceKind::Missing | DifferenceKind::Loop => "bad",
        DifferenceKind::Found => "good",
        _ => "mild",
    };
    html! { b class=(class) { (difference.kind()) } }
}

fn headers(title: &str, headers: &HeaderMap) -> Markup {
    html! {
        details.fields {
            summary { (title) " (" (headers.len()) ")" }
            table.steps aria-label=(title) {
                @for (name, value) in headers {
                    tr { td { code { (name) ": " (String::from_utf8_lossy(value.as_bytes())) } } }
                }
            }
        }
    }
}

/// Every answer from a request to its end, with its reasons.
pub(super) fn answers(answers: &[ExplainedAnswer]) -> Markup {
    html! {
        @for (number, one) in answers.iter().enumerate() {
            div.answer {
                p.answer-head { @if number > 0 { "then " } code { (one.url) } " " strong { (one.answer) } }
                table.steps aria-label={ "Why " (one.url) " is answered so" } {
                    @for step in &one.steps {
                        tr.acted[step.matched] {
                            td.line { (step.line.as_deref().unwrap_or("")) }
                            td { code { (step.subject) } }
                            td { (step.result) }
                        }
                    }
                }
                details.fields {
                    summary { (one.headers.len()) " headers" }
                    table.steps aria-label={ "The headers of " (one.url) ", and their rules" } {
                        @for (line, name, value) in &one.headers {
                            tr { td.line { (line.as_deref().unwrap_or("")) } td { code { (name) ": " (value) } } }
                        }
                    }
                }
            }
        }
    }
}

fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        _ => format!("{:.1} MB", bytes as f64 / 1e6),
    }
}

/// The time of day, in UTC.
fn clock(time: SystemTime) -> String {
    let time = OffsetDateTime::from(time);
    format!("{:02}:{:02}:{:02}", time.hour(), time.minute(), time.second())
}
