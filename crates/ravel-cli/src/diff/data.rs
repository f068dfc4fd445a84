//! Differences as JSON.

use std::io::{self, Write};

use ravel_check::{Difference, Reply};
use serde::Serialize;

use super::{Compared, words};

#[derive(Serialize)]
struct Document<'d> {
    old: &'d str,
    new: &'d str,
    /// Where built files come from, where an edition has none of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    files: Option<&'d str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    known: Option<KnownData>,
    differences: Vec<DifferenceData<'d>>,
}

/// The URLs that are known, how often they are asked, and how many of them differ.
#[derive(Serialize)]
struct KnownData {
    urls: usize,
    hits: u64,
    differing_urls: usize,
    differing_hits: u64,
    outside: usize,
    unread: usize,
}

#[derive(Serialize)]
struct DifferenceData<'d> {
    kind: &'static str,
    pattern: Option<&'d str>,
    paths: Vec<&'d str>,
    pages: usize,
    rules: usize,
    urls: usize,
    hits: u64,
    example: RequestData<'d>,
    before: ReplyData<'d>,
    after: ReplyData<'d>,
    headers: Vec<HeaderData<'d>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<&'d str>,
}

#[derive(Serialize)]
struct RequestData<'d> {
    method: &'d str,
    url: &'d str,
    headers: Vec<(String, String)>,
}

#[derive(Serialize)]
struct ReplyData<'d> {
    statuses: &'d [Option<u16>],
    url: &'d str,
    outcome: &'static str,
    file: Option<&'d str>,
    rule: Option<&'d str>,
    lines: Vec<String>,
}

#[derive(Serialize)]
struct HeaderData<'d> {
    name: &'d str,
    before: Option<&'d str>,
    after: Option<&'d str>,
}

pub(super) fn print(compared: &Compared<'_>, out: &mut dyn Write) -> io::Result<()> {
    let [old, new] = compared.editions;
    let document = Document {
        old: &old.name,
        new: &new.name,
        files: compared.files_from.as_deref(),
        known: compared.known.as_ref().map(|known| KnownData {
            urls: known.all.0,
            hits: known.all.1,
            differing_urls: known.differing.0,
            differing_hits: known.differing.1,
            outside: known.outside,
            unread: known.unread,
        }),
        differences: compared.shown.iter().map(|one| data(compared, one)).collect(),
    };
    serde_json::to_writer_pretty(&mut *out, &document)?;
    writeln!(out)
}

fn data<'d>(compared: &Compared<'_>, one: &'d Difference) -> DifferenceData<'d> {
    let request = one.example();
    let header = |(name, value): (&http::HeaderName, &http::HeaderValue)| {
        (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned())
    };
    let [old, new] = compared.editions;
    let reply = |reply: &'d Reply, lines: Vec<String>| ReplyData {
        statuses: reply.statuses(),
        url: reply.url(),
        outcome: reply.outcome().as_str(),
        file: reply.file(),
        rule: reply.rule(),
        lines,
    };
    let headers = one.headers().iter().map(|header| HeaderData {
        name: header.name(),
        before: header.before(),
        after: header.after(),
    });
    DifferenceData {
        kind: one.kind().as_str(),
        pattern: one.pattern(),
        paths: one.paths().take(words::MAX_LISTED).collect(),
        pages: one.pages(),
        rules: one.rules(),
        urls: one.urls(),
        hits: one.hits(),
        example: RequestData {
            method: request.method().as_str(),
            url: request.url(),
            headers: request.headers().iter().map(header).collect(),
        },
        before: reply(one.before(), one.old_lines().map(|line| old.line(line)).collect()),
        after: reply(one.after(), one.new_lines().map(|line| new.line(line)).collect()),
        headers: headers.collect(),
        why: one.why(),
    }
}
