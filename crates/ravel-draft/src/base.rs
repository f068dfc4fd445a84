//! The base path that a build was made for.

use std::collections::{BTreeMap, BTreeSet};

use crate::survey::Survey;

/// Base paths longer than so many segments are not looked for.
const MAX_SEGMENTS: usize = 3;

/// How well a base path fits what pages refer to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct BaseFit {
    pub(crate) base: String,
    /// References from the root of the host that name a file below it.
    pub(crate) fits: usize,
    pub(crate) all: usize,
}

/// How the base path of a URL fits, and the one that fits best.
pub(crate) fn fits(survey: &Survey<'_>, base: &str) -> (BaseFit, BaseFit) {
    let addresses: BTreeSet<String> =
        survey.names.iter().flat_map(|name| addresses(name)).collect();
    let all = survey.paths.values().sum();
    let mut own = 0;
    let mut bases: BTreeMap<&str, usize> = BTreeMap::new();
    for (path, times) in &survey.paths {
        let names_a_file = |below: &str| addresses.contains(below);
        own += if path.strip_prefix(base).is_some_and(names_a_file) { *times } else { 0 };
        for (at, _) in path.match_indices('/').take(MAX_SEGMENTS + 1) {
            let (before, below) = path.split_at(at + 1);
            *bases.entry(before).or_default() += if names_a_file(below) { *times } else { 0 };
        }
    }
    let fit = |(base, fits): (&str, usize)| BaseFit { base: base.to_owned(), fits, all };
    let own = fit((base, own));
    let best = bases.into_iter().map(fit).max_by_key(|fit| (fit.fits, fit.base == base));
    let best = best.filter(|best| best.fits > own.fits).unwrap_or_else(|| own.clone());
    (own, best)
}

/// What can be written behind a base path to name a file.
fn addresses(name: &str) -> Vec<String> {
    let mut addresses = vec![name.to_owned()];
    if let Some(stem) = name.strip_suffix(".html") {
        addresses.extend([stem.to_owned(), format!("{stem}/")]);
        if let Some(folder) = stem.strip_suffix("index") {
            addresses.extend([folder.to_owned(), folder.trim_end_matches('/').to_owned()]);
        }
    }
    addresses
}
