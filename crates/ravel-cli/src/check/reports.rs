//! The findings as files: SARIF, HTML, Markdown, CSV.

use ravel::finding::Finding;
use ravel::language::Problems;

use super::ReportForm;
use super::entry::{Entry, FileEdit, UNREADABLE_RULES};
use super::{page, sarif};
use crate::load::LoadedSite;

pub(super) fn of(form: ReportForm, loaded: &LoadedSite, findings: &[&Finding]) -> String {
    let entry = |finding: &&Finding| Entry {
        name: finding.code().name(),
        severity: finding.code().severity().as_str(),
        path: finding.place().file(loaded.rules()),
        line: finding.place().number(),
        message: finding.message().to_owned(),
        note: finding.note().map(str::to_owned),
        help: finding.help().map(str::to_owned),
        related: finding
            .lines()
            .iter()
            .map(|line| (loaded.source(*line).to_owned(), line.number()))
            .collect(),
        edits: FileEdit::all(loaded, finding),
    };
    written(form, &findings.iter().map(entry).collect::<Vec<_>>())
}

/// The errors of rules that cannot be read.
pub(super) fn of_unreadable(form: ReportForm, problems: &Problems) -> String {
    let entries: Vec<Entry> = problems
        .iter()
        .map(|problem| Entry {
            name: UNREADABLE_RULES,
            severity: "error",
            path: problems.source(problem.place()).to_owned(),
            line: Some(problem.place().line().number().max(1)),
            message: problem.kind().to_string(),
            note: None,
            help: Some(problem.kind().remedy()),
            related: Vec::new(),
            edits: Vec::new(),
        })
        .collect();
    written(form, &entries)
}

fn written(form: ReportForm, entries: &[Entry]) -> String {
    match form {
        ReportForm::Sarif => sarif::of(entries),
        ReportForm::Html => page::of(entries),
        ReportForm::Markdown => markdown(entries),
        ReportForm::Csv => csv(entries),
    }
}

fn csv(entries: &[Entry]) -> String {
    let mut out = csv::Writer::from_writer(Vec::new());
    let head = ["severity", "name", "file", "line", "message", "note", "help"];
    // Writing to memory does not fail.
    let _ = out.write_record(head);
    for entry in entries {
        let line = entry.line.map(|line| line.to_string()).unwrap_or_default();
        let (note, help) = (entry.note.as_deref(), entry.help.as_deref());
        let _ = out.write_record([
            entry.severity,
            entry.name,
            &entry.path,
            &line,
            &entry.message,
            note.unwrap_or_default(),
            help.unwrap_or_default(),
        ]);
    }
    String::from_utf8(out.into_inner().unwrap_or_default()).unwrap_or_default()
}

fn markdown(entries: &[Entry]) -> String {
    let escaped = |text: &str| text.replace('|', "\\|").replace('\n', " ");
    let mut out = String::from("# Findings\n\n");
    if entries.is_empty() {
        out.push_str("None.\n");
        return out;
    }
    out.push_str(
        "| severity | finding | place | message | help |\n| --- | --- | --- | --- | --- |\n",
    );
    for entry in entries {
        let place = match entry.line {
            Some(line) => format!("{}:{line}", entry.path),
            None => entry.path.clone(),
        };
        out.push_str(&format!(
            "| {} | {} | {} | {} | {} |\n",
            entry.severity,
            entry.name,
            escaped(&place),
            escaped(&entry.message),
            escaped(entry.help.as_deref().unwrap_or_default())
        ));
    }
    out
}
