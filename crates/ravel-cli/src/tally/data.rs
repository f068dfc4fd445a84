//! A tally as JSON.

use std::io::{self, Write};

use serde_json::{Map, Value, json};

use ravel_traffic::TalliedUrl;

use super::Shown;

pub(super) fn print(shown: &Shown<'_>, out: &mut dyn Write) -> io::Result<()> {
    let report = &shown.report;
    let url = |one: &TalliedUrl| {
        let mut data = json!({
            "method": one.method(), "url": one.url(), "requests": one.requests(), "hops": one.hops(),
        });
        if let Some(found) = shown.move_of(one.url()) {
            data["move"] = json!({
                "from": found.from(), "to": found.to(), "sure": found.is_sure(),
            });
        }
        data
    };
    let urls = |list: &[TalliedUrl]| list.iter().map(url).collect::<Vec<_>>();
    let days: Vec<Value> = report
        .days()
        .iter()
        .map(|(day, counts)| {
            let counts: Map<String, Value> = counts
                .iter()
                .map(|(ending, count)| (ending.as_str().to_owned(), (*count).into()))
                .collect();
            json!({ "day": day.to_string(), "requests": counts })
        })
        .collect();
    let data = json!({
        "sources": shown.sources.iter().map(|source| json!({
            "name": source.name, "format": source.format, "note": source.note,
        })).collect::<Vec<_>>(),
        "stopped": shown.stopped,
        "requests": report.requests(),
        "urls": report.urls(),
        "endings": report.endings().iter().map(|one| json!({
            "ending": one.ending().as_str(), "requests": one.requests(), "urls": one.urls(),
        })).collect::<Vec<_>>(),
        "headers": report.headers().iter().map(|(name, requests)| json!({
            "name": name.as_str(), "requests": requests,
        })).collect::<Vec<_>>(),
        "missing": urls(report.missing()),
        "redirected": urls(report.redirected()),
        "hops": report.hops().iter().map(|(hops, requests)| json!({
            "hops": hops, "requests": requests,
        })).collect::<Vec<_>>(),
        "differing": report.differing().iter().map(|one| json!({
            "logged": one.logged(), "answered": one.answered(), "requests": one.requests(),
            "example": url(one.example()),
        })).collect::<Vec<_>>(),
        "rules": report.rules().iter().map(|rule| json!({
            "source": shown.loaded.source(rule.line()), "line": rule.line().number(),
            "rule": rule.rule(), "requests": rule.requests(),
        })).collect::<Vec<_>>(),
        "origins": report.origins().iter().map(|(origin, requests)| json!({
            "origin": origin, "requests": requests,
        })).collect::<Vec<_>>(),
        "urlless": report.urlless().iter().map(|(why, lines)| json!({
            "why": why.as_str(), "lines": lines,
        })).collect::<Vec<_>>(),
        "unread": report.unread(),
        "unread_examples": report.examples().iter().map(ToString::to_string).collect::<Vec<_>>(),
        "days": days,
    });
    writeln!(out, "{data:#}")
}
