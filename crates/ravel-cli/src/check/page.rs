//! The findings as a page, for somebody who has no terminal.

use maud::{Markup, html};

use super::entry::Entry;
use crate::page;

/// The page, which needs nothing beside it.
pub(super) fn of(entries: &[Entry]) -> String {
    let number = |severity: &str| entries.iter().filter(|one| one.severity == severity).count();
    let numbers = [("error", "errors"), ("warning", "warnings"), ("note", "notes")]
        .map(|(severity, many)| (severity, number(severity), many))
        .into_iter()
        .filter(|(_, number, _)| *number > 0)
        .map(|(severity, number, many)| crate::style::count(number, severity, many));
    let head = match entries.is_empty() {
        true => "No findings".to_owned(),
        false => numbers.collect::<Vec<_>>().join(", "),
    };
    let body = html! {
        @for entry in entries {
            article class=(entry.severity) {
                h2 { b { (entry.severity) } " " (entry.name) }
                p.place { code { (place(&entry.path, entry.line)) } }
                p { (words(&entry.message)) }
                @if let Some(note) = &entry.note { p.more { b { "note " } (words(note)) } }
                @if let Some(help) = &entry.help { p.more { b { "help " } (words(help)) } }
                @if !entry.related.is_empty() {
                    p.more {
                        b { "see " }
                        @for (number, (path, line)) in entry.related.iter().enumerate() {
                            @if number > 0 { ", " }
                            code { (place(path, Some(*line))) }
                        }
                    }
                }
            }
        }
    };
    page::whole(&head, STYLE, &body)
}

/// A text whose code stands between backticks.
fn words(text: &str) -> Markup {
    html! {
        @for (number, part) in text.split('`').enumerate() {
            @if number % 2 == 1 { code { (part) } } @else { (part) }
        }
    }
}

fn place(path: &str, line: Option<u32>) -> String {
    line.map_or_else(|| path.to_owned(), |line| format!("{path}:{line}"))
}

const STYLE: &str = "h2{font-size:1rem;font-weight:400;margin:0;color:var(--soft)}\
article{border-left:3px solid var(--rule);padding:.1rem 0 .1rem .9rem;margin:1.2rem 0}.error{border-color:var(--bad)}.warning{border-color:var(--mild)}\
.error h2 b{color:var(--bad)}.warning h2 b{color:var(--mild)}.place{color:var(--soft)}.more{color:var(--soft)}.more b{font-weight:600}";
