//! What tells requests apart besides their paths and what rules ask of query, cookies and headers.

use http::Method;

use super::origin::{self, Origin, Region};
use ravel::edge::Edge;
use ravel::program::TestKind;

/// The values that finite parts of a request have.
#[derive(Debug, Clone, Default)]
pub(super) struct Axes {
    pub(super) origins: Vec<Origin>,
    pub(super) regions: Vec<Region>,
    pub(super) methods: Vec<Method>,
    /// Values of `accept-language`, the first of them empty, of which each leads to another language.
    pub(super) languages: Vec<Box<str>>,
}

impl Axes {
    /// The axes of one edge, told apart as finely as it takes for all of `edges`.
    pub(super) fn of(edge: &Edge, edges: &[&Edge]) -> Axes {
        let programs: Vec<_> = edges.iter().map(|edge| edge.program()).collect();
        let (origins, regions) = origin::of_site(edge.program(), &programs);
        Axes { origins, regions, methods: methods(edges), languages: languages(edges) }
    }
}

/// The methods that rules name, and one that stands for all others.
fn methods(edges: &[&Edge]) -> Vec<Method> {
    let mut methods = vec![Method::GET, Method::HEAD, Method::POST];
    let rules = edges.iter().flat_map(|edge| edge.program().all_rules());
    for test in rules.flat_map(|rule| rule.tests().iter()) {
        if let TestKind::Method(listed) = test.kind() {
            let more: Vec<Method> =
                listed.iter().filter(|method| !methods.contains(method)).cloned().collect();
            methods.extend(more);
        }
    }
    methods
}

/// Values of `accept-language` for every combination of languages that sites choose for a visitor:
/// each chooses the first of the visitor's that it has, so two languages tell two sites apart.
fn languages(edges: &[&Edge]) -> Vec<Box<str>> {
    let mut named: Vec<&str> = Vec::new();
    for language in edges.iter().flat_map(|edge| edge.site().languages()) {
        if !named.contains(&&**language) {
            named.push(language);
        }
    }
    let single = named.iter().map(|language| language.to_string());
    let pairs = named.iter().flat_map(|first| {
        let others = named.iter().filter(move |other| *other != first);
        others.map(move |other| format!("{first}, {other};q=0.5"))
    });
    let mut known = Vec::new();
    let mut values = Vec::new();
    for value in std::iter::once(String::new()).chain(single).chain(pairs) {
        let chosen: Vec<usize> = edges.iter().map(|edge| language_for(edge, &value)).collect();
        if !known.contains(&chosen) {
            known.push(chosen);
            values.push(value.into());
        }
    }
    values
}

/// The language that a site chooses for a value of `accept-language`.
pub(super) fn language_for(edge: &Edge, value: &str) -> usize {
    let header = http::HeaderValue::from_str(value).into_iter();
    let headers = header.map(|value| (http::header::ACCEPT_LANGUAGE, value)).collect();
    edge.language_of(&headers)
}
