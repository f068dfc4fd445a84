//! Differences in words: lines of text, and a comment in Markdown.

use std::fmt::Write;

use ravel_check::Difference;

use super::{Compared, numbers, total};
use crate::style::count;

/// Paths of a difference that are shown.
pub(super) const MAX_PATHS: usize = 3;
/// Paths of a difference that a report lists.
pub(super) const MAX_LISTED: usize = 50;
/// Lines that are shown.
const MAX_LINES: usize = 3;

/// How many differences of which kinds there are.
pub(super) fn summary(compared: &Compared<'_>) -> String {
    let kinds: Vec<String> =
        numbers(compared).iter().map(|(kind, number)| format!("{number} {kind}")).collect();
    match kinds.is_empty() {
        true => total(compared),
        false => format!("{}: {}", total(compared), kinds.join(", ")),
    }
}

/// Which requests a difference is about.
pub(super) fn about(one: &Difference, most: usize) -> String {
    if let Some(pattern) = one.pattern() {
        return pattern.to_owned();
    }
    let shown: Vec<&str> = one.paths().take(most).collect();
    match one.paths().len().saturating_sub(most) {
        _ if shown.is_empty() => one.example().url().to_owned(),
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

/// How many pages, rules and known URLs fall into it.
pub(super) fn counts(one: &Difference) -> String {
    let all = [
        (one.pages(), "page", "pages"),
        (one.rules(), "rule", "rules"),
        (one.urls(), "known URL", "known URLs"),
    ];
    let some = all.into_iter().filter(|(number, ..)| *number > 0);
    let counts: Vec<String> = some.map(|(number, one, many)| count(number, one, many)).collect();
    match one.hits() == one.urls() as u64 {
        true => counts.join(", "),
        false => format!("{} with {} hits", counts.join(", "), one.hits()),
    }
}

/// The example, with what it takes besides the URL.
pub(super) fn asked(one: &Difference) -> String {
    let request = one.example();
    let mut text = match request.method().as_str() {
        "GET" => request.url().to_owned(),
        method => format!("{method} {}", request.url()),
    };
    for (name, value) in request.headers() {
        let _ = write!(text, " with {name}: {}", String::from_utf8_lossy(value.as_bytes()));
    }
    text
}

/// The lines that a side's answer hangs on.
pub(super) fn lines(compared: &Compared<'_>, one: &Difference, side: usize) -> String {
    let edition = compared.editions[side];
    let lines: Vec<String> = match side {
        0 => one.old_lines().map(|line| edition.line(line)).collect(),
        _ => one.new_lines().map(|line| edition.line(line)).collect(),
    };
    match lines.len().saturating_sub(MAX_LINES) {
        0 => lines.join(", "),
        more => format!("{} and {more} more", lines[..MAX_LINES].join(", ")),
    }
}

/// A comment for a review: a line that sums up, and details that are folded.
pub(super) fn markdown(compared: &Compared<'_>) -> String {
    let [old, new] = compared.editions;
    let mut text = format!("**Ravel: {}**\n\n", summary(compared));
    let _ = writeln!(text, "{} → {}", code(&old.name), code(&new.name));
    if let Some(said) = &compared.files_from {
        let _ = writeln!(text, "\n{said}");
    }
    if let Some(known) = &compared.known {
        let _ = writeln!(text, "\n{}", known.words());
    }
    for one in &compared.shown {
        let counts = counts(one);
        let counts = if counts.is_empty() { counts } else { format!(" ({counts})") };
        let _ = write!(
            text,
            "\n<details>\n<summary><b>{}</b> {}{}</summary>\n\n",
            one.kind(),
            html_code(&about(one, MAX_PATHS)),
            escape(&counts)
        );
        let _ = writeln!(text, "{}\n", code(&asked(one)));
        if let Some(why) = one.why() {
            let _ = writeln!(text, "Undecided: {why}.\n");
        }
        text.push_str("| | answer | lines |\n|---|---|---|\n");
        for (side, label) in ["before", "after"].into_iter().enumerate() {
            let reply = code(&one.descriptions()[side]).replace('|', "\\|");
            let _ = writeln!(text, "| {label} | {reply} | {} |", lines(compared, one, side));
        }
        if one.paths().len() > MAX_PATHS {
            let shown: Vec<String> = one.paths().take(MAX_LISTED).map(code).collect();
            let more = one.paths().len().saturating_sub(MAX_LISTED);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let _ = writeln!(text, "\n{}{more}", shown.join(", "));
        }
        text.push_str("\n</details>\n");
    }
    text
}

/// A text as code, whatever backticks it has.
fn code(text: &str) -> String {
    match text.contains('`') {
        true => format!("`` {text} ``"),
        false => format!("`{text}`"),
    }
}

fn html_code(text: &str) -> String {
    format!("<code>{}</code>", escape(text))
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
