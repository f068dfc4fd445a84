//! A model of a host that only serves files: `index.html` for a folder, `404.html` on a miss.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Bound;

use ravel::Outcome;
use ravel::address::decode;
use ravel::edge::MAX_HOPS;

use crate::urls::{SiteUrls, VisitEnd};

/// The files of a host, by their names.
#[derive(Default)]
pub(super) struct FileHost {
    files: BTreeMap<String, Shown>,
}

/// What is in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Shown {
    /// What the site's folder has there.
    Site,
    /// What another file of the site's folder has.
    Copy(String),
    /// A page that leads on to a URL.
    Stub { to: String, drop_query: bool },
    /// The 404 page, with its script.
    Missing,
}

/// In which order a host looks for what a path without a trailing slash names. Each redirects the
/// path of a folder to the one with a slash, whether or not there is an index in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum HostKind {
    /// A file, a folder.
    ByName,
    /// A file, a page without its `.html`, a folder.
    PagesFirst,
    /// A file, a folder, a page without its `.html`.
    FoldersFirst,
}

impl HostKind {
    pub(super) const ALL: [HostKind; 3] =
        [HostKind::ByName, HostKind::PagesFirst, HostKind::FoldersFirst];

    /// In a report.
    pub(super) fn as_str(self) -> &'static str {
        match self {
            HostKind::ByName => "show pages only with their `.html`",
            HostKind::PagesFirst => "show pages without `.html`",
            HostKind::FoldersFirst => "look for folders before pages without `.html`",
        }
    }
}

/// What the host itself says of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum HostAnswer<'h> {
    /// It shows this file.
    File(&'h str, &'h Shown),
    /// It adds a trailing slash.
    Folder,
    /// It shows `404.html`.
    Nothing,
}

/// How a visitor comes to an end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Visit {
    pub(super) end: VisitEnd,
    /// With the first answer, and its status.
    pub(super) direct: bool,
}

impl FileHost {
    pub(super) fn files(&self) -> &BTreeMap<String, Shown> {
        &self.files
    }

    pub(super) fn put(&mut self, name: &str, shown: Shown) {
        self.files.insert(name.to_owned(), shown);
    }

    pub(super) fn remove(&mut self, name: &str) {
        self.files.remove(name);
    }

    /// Whether a folder is there, as something is in it.
    pub(super) fn has_folder(&self, name: &str) -> bool {
        let below = format!("{name}/");
        let next = self.files.range::<str, _>((Bound::Excluded(&*below), Bound::Unbounded)).next();
        next.is_some_and(|(name, _)| name.starts_with(&below))
    }

    /// The folders in which something is.
    pub(super) fn folders(&self) -> BTreeSet<&str> {
        let names = self.files.keys();
        names.flat_map(|name| name.match_indices('/').map(|(at, _)| &name[..at])).collect()
    }

    /// What the host says of a path below the site's base path.
    pub(super) fn find(&self, path: &str, kind: HostKind) -> HostAnswer<'_> {
        let decoded = decode(path);
        let Ok(name) = std::str::from_utf8(&decoded) else { return HostAnswer::Nothing };
        let name = name.strip_prefix('/').unwrap_or(name);
        let file = |name: &str| {
            self.files.get_key_value(name).map(|(name, shown)| HostAnswer::File(name, shown))
        };
        if name.is_empty() || name.ends_with('/') {
            return file(&format!("{name}index.html")).unwrap_or(HostAnswer::Nothing);
        }
        let page = || file(&format!("{name}.html"));
        let folder = || self.has_folder(name).then_some(HostAnswer::Folder);
        let found = match kind {
            HostKind::ByName => file(name).or_else(folder),
            HostKind::PagesFirst => file(name).or_else(page).or_else(folder),
            HostKind::FoldersFirst => file(name).or_else(folder).or_else(page),
        };
        found.unwrap_or(HostAnswer::Nothing)
    }

    /// Where a visitor ends, in a browser that runs scripts.
    pub(super) fn visit(&self, urls: &SiteUrls<'_>, url: &str, kind: HostKind) -> Visit {
        let mut at = url.to_owned();
        // Where the script of the 404 page led on from: it never does so twice.
        let mut left = Vec::new();
        let mut direct = true;
        let came = |end, direct| Visit { end, direct };
        for _ in 0..=MAX_HOPS {
            let (path, query) = at.split_once('?').map_or((&*at, None), |(p, q)| (p, Some(q)));
            let shown =
                |name: &str| VisitEnd::File { path: path.to_owned(), name: name.to_owned() };
            let to = match self.find(path, kind) {
                HostAnswer::File(name, Shown::Site) => return came(shown(name), direct),
                HostAnswer::File(_, Shown::Copy(of)) => return came(shown(of), direct),
                HostAnswer::File(_, Shown::Stub { to, .. }) => to.clone(),
                HostAnswer::Folder => {
                    at = format!("{path}/{}", query.map_or(String::new(), |q| format!("?{q}")));
                    direct = false;
                    continue;
                }
                HostAnswer::File(_, Shown::Missing) | HostAnswer::Nothing => {
                    let Some(request) = urls.request(&at) else {
                        return came(VisitEnd::Loop, false);
                    };
                    let answer = urls.edge().answer(&request);
                    match (answer.location(), answer.file(), answer.outcome()) {
                        (Some(_), ..) if left.contains(&at) => {
                            return came(VisitEnd::Missing { gone: false }, false);
                        }
                        (Some(to), ..) => {
                            left.push(at.clone());
                            to.to_owned()
                        }
                        // With the status of a missing file.
                        (None, Some(name), Outcome::File) => return came(shown(name), false),
                        (None, ..) => return came(VisitEnd::Missing { gone: false }, direct),
                    }
                }
            };
            direct = false;
            match urls.below(&to) {
                Some(next) => at = next.to_owned(),
                None => return came(urls.end_at(&to), false),
            }
        }
        came(VisitEnd::Loop, false)
    }
}
