//! Findings as SARIF 2.1.0 (OASIS), which code hosts and editors read.

use ravel::finding::Finding;
use ravel::rules::{Code, Severity};
use serde_json::{Value, json};

use crate::load::LoadedSite;

/// The findings of one run.
pub(crate) fn of(loaded: &LoadedSite, findings: &[Finding]) -> String {
    let rules: Vec<Value> = Code::ALL
        .iter()
        .map(|code| {
            json!({
                "id": code.name(),
                "defaultConfiguration": { "level": level(*code) },
                "help": { "text": format!("`ravel check --why {code}` explains this finding.") },
            })
        })
        .collect();
    let results: Vec<Value> = findings.iter().map(|finding| result(loaded, finding)).collect();
    let log = json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "ravel", "version": env!("CARGO_PKG_VERSION"), "rules": rules } },
            "columnKind": "utf16CodeUnits",
            "results": results,
        }],
    });
    format!("{log:#}\n")
}

fn result(loaded: &LoadedSite, finding: &Finding) -> Value {
    let mut text = finding.what().to_owned();
    if let Some(visitor) = finding.visitor() {
        text.push_str(&format!("\nVisitors: {visitor}"));
    }
    if let Some(instead) = finding.instead() {
        text.push_str(&format!("\nInstead: {instead}"));
    }
    let mut location =
        json!({ "artifactLocation": { "uri": uri(&finding.place().file(loaded.rules())) } });
    if let Some(line) = finding.place().number() {
        location["region"] = json!({ "startLine": line });
    }
    let others: Vec<Value> = (1..)
        .zip(finding.lines())
        .map(|(id, line)| {
            json!({
                "id": id,
                "physicalLocation": {
                    "artifactLocation": { "uri": uri(loaded.source(*line)) },
                    "region": { "startLine": line.number() },
                },
            })
        })
        .collect();
    let index = Code::ALL.iter().position(|code| *code == finding.code()).unwrap_or(0);
    let mut result = json!({
        "ruleId": finding.code().name(),
        "ruleIndex": index,
        "level": level(finding.code()),
        "message": { "text": text },
        "locations": [{ "physicalLocation": location }],
    });
    if !others.is_empty() {
        result["relatedLocations"] = Value::Array(others);
    }
    result
}

fn level(code: Code) -> &'static str {
    match code.severity() {
        Severity::Problem => "error",
        Severity::Advice => "note",
    }
}

/// A relative path as a URI reference (RFC 3986).
fn uri(path: &str) -> String {
    const KEPT: &percent_encoding::AsciiSet = &percent_encoding::NON_ALPHANUMERIC
        .remove(b'/')
        .remove(b'.')
        .remove(b'-')
        .remove(b'_')
        .remove(b'~');
    percent_encoding::utf8_percent_encode(path, KEPT).to_string()
}
