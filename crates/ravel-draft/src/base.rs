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
    let mut paths: BTreeMap<&str, usize> = BTreeMap::new();
    for (_, url) in survey.references() {
        if url.starts_with('/') && !url.starts_with("//") {
            let path = url.split(['?', '#']).next().unwrap_or_default();
            *paths.entry(path).or_default() += 1;
        }
    }
    let addresses: BTreeSet<String> =
        survey.names.iter().flat_map(|name| addresses(name)).collect();
    let all = paths.values().sum();
    let fit = |base: &str| {
        let below =
            |path: &str| path.strip_prefix(base).is_some_and(|rest| addresses.contains(rest));
        let fits = paths.iter().filter(|(path, _)| below(path)).map(|(_, times)| times).sum();
        BaseFit { base: base.to_owned(), fits, all }
    };
    let mut bases = BTreeSet::from(["/".to_owned()]);
    for path in paths.keys() {
        let ends = path.match_indices('/').map(|(at, _)| at + 1).take(MAX_SEGMENTS + 1);
        bases.extend(ends.map(|end| path[..end].to_owned()));
    }
    let own = fit(base);
    let best = bases.iter().map(|base| fit(base)).max_by_key(|fit| (fit.fits, fit.base == base));
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
