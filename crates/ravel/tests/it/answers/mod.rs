//! Answers in words, as tests compare them.

use ravel::{Edge, FileList, Request, Rules};

pub(crate) fn edge(rules: &str, files: &[&str]) -> Edge {
    let rules = Rules::parse(rules).unwrap_or_else(|problems| panic!("{problems}"));
    Edge::new(&rules, FileList::from_iter(files))
}

/// An answer in one line: the status, and the location, the file or the outcome.
pub(crate) fn told(edge: &Edge, request: &Request) -> String {
    let answer = edge.answer(request);
    let what = answer
        .location()
        .or(answer.file())
        .map_or_else(|| answer.outcome().to_string(), str::to_owned);
    format!("{} {what}", answer.status().unwrap_or_default())
}

pub(crate) fn headers_of(edge: &Edge, request: &Request) -> Vec<String> {
    let answer = edge.answer(request);
    let shown = |line: Option<ravel::language::Line>| {
        line.map_or("-".to_owned(), |line| line.number().to_string())
    };
    answer
        .headers()
        .iter()
        .map(|header| format!("{}: {} @{}", header.name(), header.value(), shown(header.line())))
        .collect()
}
