//! Requests in other forms: as a command, as a line of rules, and as an archive.

use std::time::SystemTime;

use ravel::Outcome;
use ravel::address::Scheme;
use serde_json::{Value, json};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

use super::Inspector;
use crate::Record;
use crate::visitor::OWN_NAMES;

/// A text as one word of a shell (POSIX.1, section 2.2.2).
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// The request for `curl`, on the site's real name.
pub(super) fn curl(inspector: &Inspector, record: &Record) -> String {
    let request = record.request();
    let Ok(address) = request.address() else { return format!("curl {}", quoted(request.url())) };
    let ports = &inspector.addresses;
    let port = match address.scheme() {
        Scheme::Http => ports.http().port(),
        Scheme::Https => ports.https().port(),
    };
    let host = address.host();
    let origin = format!("{}://{host}", address.scheme());
    let rest = request.url().strip_prefix(&origin).unwrap_or("/");
    let mut words = vec!["curl".to_owned()];
    match request.method().as_str() {
        "GET" => {}
        "HEAD" => words.push("--head".to_owned()),
        method => words.push(format!("--request {}", quoted(method))),
    }
    if !OWN_NAMES.contains(&host) {
        words.push(format!("--resolve {host}:{port}:127.0.0.1"));
    }
    if address.scheme() == Scheme::Https {
        words.push(format!("--cacert {}", quoted(&inspector.authority())));
    }
    for (name, value) in request.headers() {
        let own = ["host", "connection", "content-length"].contains(&name.as_str());
        if let (false, Ok(value)) = (own, value.to_str()) {
            words.push(format!("--header {}", quoted(&format!("{name}: {value}"))));
        }
    }
    words.push(quoted(&format!("{origin}:{port}{rest}")));
    words.join(" ")
}

/// The request as a line of rules that holds now.
pub(super) fn expectation(inspector: &Inspector, record: &Record) -> String {
    let site = inspector.live.site();
    let request = record.request();
    let home = format!("{}://{}", site.rules().site().scheme(), site.rules().site().host());
    let base = format!("{home}{}", site.rules().site().open_base());
    let short = |url: &str| match url.strip_prefix(&base) {
        Some(path) if path.starts_with('/') => path.to_owned(),
        _ => url.to_owned(),
    };
    let method = match request.method().as_str() {
        "GET" => String::new(),
        method => format!("{method} "),
    };
    let decided = record.answers().first().map(|answer| answer.answer()).unwrap_or_default();
    let outcome = match record.outcome() {
        Outcome::File => format!("serves /{}", record.file().unwrap_or_default()),
        Outcome::Redirect => {
            let hops = record.hops();
            let noun = if hops == 1 { "hop" } else { "hops" };
            let status = record.sent().status();
            format!("goes to {} as {status} in {hops} {noun}", short(record.end_url()))
        }
        Outcome::Gone => "is gone".to_owned(),
        Outcome::Missing => "is missing".to_owned(),
        Outcome::Outside => "is outside".to_owned(),
        Outcome::Elsewhere => "is elsewhere".to_owned(),
        Outcome::Loop => "is a loop".to_owned(),
        Outcome::Refused => format!("is refused as {}", record.sent().status()),
        _ => format!("# {decided}"),
    };
    let answer = record.answers().first();
    let vary = answer
        .into_iter()
        .flat_map(|answer| answer.headers())
        .filter(|(_, name, _)| name == "vary");
    let names: Vec<&str> = vary.flat_map(|(.., value)| value.split(',')).map(str::trim).collect();
    let given = names.iter().filter_map(|name| {
        let value = request.headers().get(*name)?.to_str().ok()?;
        Some(format!("\n  given {name}: {value}"))
    });
    let given: String = given.collect();
    let url = short(request.url());
    match given.is_empty() {
        true => format!("expect {method}{url} {outcome}"),
        false => format!("expect {method}{url}{given}\n  {outcome}"),
    }
}

/// The requests as an HTTP Archive, version 1.2.
pub(super) fn archive(inspector: &Inspector) -> Value {
    let entries: Vec<Value> =
        inspector.log.last().iter().rev().map(|record| entry(record)).collect();
    let creator = json!({ "name": "Ravel", "version": env!("CARGO_PKG_VERSION") });
    json!({ "log": { "version": "1.2", "creator": creator, "entries": entries } })
}

fn entry(record: &Record) -> Value {
    let (sent, request) = (record.sent(), record.request());
    let headers = |headers: &http::HeaderMap| -> Vec<Value> {
        let text =
            |value: &http::HeaderValue| String::from_utf8_lossy(value.as_bytes()).into_owned();
        headers
            .iter()
            .map(|(name, value)| json!({ "name": name.as_str(), "value": text(value) }))
            .collect()
    };
    let query = request.address().ok().and_then(|address| address.query()).unwrap_or_default();
    let query: Vec<Value> = ravel::address::parameters(query)
        .map(|(_, key, value)| json!({ "name": key, "value": value.unwrap_or_default() }))
        .collect();
    let header = |name: &str| {
        sent.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
    };
    let milliseconds = sent.duration().as_secs_f64() * 1e3;
    let status = http::StatusCode::from_u16(sent.status()).ok();
    json!({
        "startedDateTime": moment(record.time()),
        "time": milliseconds,
        "request": {
            "method": request.method().as_str(), "url": request.url(), "httpVersion": "HTTP", "cookies": [],
            "headers": headers(request.headers()), "queryString": query, "headersSize": -1, "bodySize": -1,
        },
        "response": {
            "status": sent.status(), "statusText": status.and_then(|status| status.canonical_reason()).unwrap_or_default(),
            "httpVersion": "HTTP", "cookies": [], "headers": headers(sent.headers()),
            "content": { "size": sent.body_bytes(), "mimeType": header("content-type") },
            "redirectURL": header("location"), "headersSize": -1, "bodySize": sent.body_bytes(),
        },
        "cache": {},
        "timings": { "send": 0, "wait": milliseconds, "receive": 0 },
        "comment": record.line().unwrap_or_default(),
    })
}

/// The moment, for the script to show in the reader's own time (RFC 3339).
pub(super) fn moment(time: SystemTime) -> String {
    OffsetDateTime::from(time).format(&Rfc3339).unwrap_or_default()
}
