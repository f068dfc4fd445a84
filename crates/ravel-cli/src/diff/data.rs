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
    differences: Vec<DifferenceData<'d>>,
}

#[derive(Serialize)]
struct DifferenceData<'d> {
    kind: &'static str,
    pattern: Option<&'d str>,
    paths: Vec<&'d str>,
    pages: usize,
    rules: usize,
    urls: u64,
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
