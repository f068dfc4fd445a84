//! Findings as SARIF 2.1.0 (OASIS), which code hosts and editors read.

use std::collections::BTreeMap;

use ravel::rules::Code;
use serde_json::{Value, json};

use super::entry::{Entry, UNREADABLE_RULES};

/// The findings of one run.
pub(super) fn of(entries: &[Entry]) -> String {
    let mut rules: Vec<Value> = Code::ALL
        .iter()
        .map(|code| {
            json!({
                "id": code.name(),
                "defaultConfiguration": { "level": code.severity().as_str() },
                "help": { "text": format!("`ravel check --why {code}` explains this finding.") },
            })
        })
        .collect();
    rules.push(json!({
        "id": UNREADABLE_RULES,
        "defaultConfiguration": { "level": "error" },
        "help": { "text": "The rules cannot be used until they can be read." },
    }));
    let results: Vec<Value> = entries.iter().map(result).collect();
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

fn result(entry: &Entry) -> Value {
    let mut text = entry.message.clone();
    for (label, more) in [("note", &entry.note), ("help", &entry.help)] {
        if let Some(more) = more {
            text.push_str(&format!("\n{label}: {more}"));
        }
    }
    let mut location = json!({ "artifactLocation": { "uri": uri(&entry.path) } });
    if let Some(line) = entry.line {
        location["region"] = json!({ "startLine": line });
    }
    let others: Vec<Value> = (1..)
        .zip(&entry.related)
        .map(|(id, (path, line))| {
            json!({
                "id": id,
                "physicalLocation": {
                    "artifactLocation": { "uri": uri(path) },
                    "region": { "startLine": line },
                },
            })
        })
        .collect();
    let index = Code::ALL.iter().position(|code| code.name() == entry.name);
    let mut result = json!({
        "ruleId": entry.name,
        "ruleIndex": index.unwrap_or(Code::ALL.len()),
        "level": entry.severity,
        "message": { "text": text },
        "locations": [{ "physicalLocation": location }],
    });
    if !entry.edits.is_empty() {
        result["fixes"] = json!([fix(entry)]);
    }
    if !others.is_empty() {
        result["relatedLocations"] = Value::Array(others);
    }
    result
}

/// What to change, file by file (section 3.55).
fn fix(entry: &Entry) -> Value {
    let mut files: BTreeMap<&str, Vec<Value>> = BTreeMap::new();
    for edit in &entry.edits {
        files.entry(&edit.file).or_default().push(json!({
            "deletedRegion": { "byteOffset": edit.start, "byteLength": edit.end - edit.start },
            "insertedContent": { "text": edit.text },
        }));
    }
    let changes = files.into_iter().map(|(file, replacements)| {
        json!({ "artifactLocation": { "uri": uri(file) }, "replacements": replacements })
    });
    json!({
        "description": { "text": entry.help.as_deref().unwrap_or("change it so") },
        "artifactChanges": changes.collect::<Vec<_>>(),
    })
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
