//! The hosts of a site, and where a URL is seen from them.

use std::num::NonZeroU64;

use http::{HeaderMap, Method};
use rustc_hash::FxHashMap;

use crate::address::{Address, Scheme};
use crate::language::Line;
use crate::program::Role;
use crate::program::Site;

/// The host settings of a site, by host.
#[derive(Debug)]
pub(crate) struct Hosts {
    /// The canonical host, which nearly every request is for, and its settings.
    canonical: (Box<str>, Vec<Setting>),
    exact: FxHashMap<Box<str>, Vec<Setting>>,
    /// By what follows the first label.
    wild: FxHashMap<Box<str>, Vec<Setting>>,
    /// Base paths match in any case.
    fold: bool,
}

#[derive(Debug)]
struct Setting {
    role: Role,
    base: Box<str>,
    line: Line,
}

/// A request as the decision looks at it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RequestParts<'r> {
    pub(crate) method: &'r Method,
    pub(crate) headers: &'r HeaderMap,
    pub(crate) scheme: Scheme,
    pub(crate) host: &'r str,
    pub(crate) path: &'r str,
    pub(crate) query: Option<&'r str>,
    /// The hash of the path below the base path, where it is known already.
    pub(crate) hash: Option<NonZeroU64>,
    /// Whether the path could hold an escape or an empty segment.
    pub(crate) odd: bool,
    pub(crate) role: Role,
    /// The setting of the site that the host is in.
    pub(crate) line: Line,
    pub(crate) below: Below<'r>,
}

/// Where a path is, seen from the base path of its host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Below<'r> {
    /// Below it: this path, which begins with the base path's final `/`.
    Path(&'r str),
    /// It is the base path without its final `/`.
    NoSlash,
    /// Outside.
    Outside,
}

impl<'r> RequestParts<'r> {
    /// The path below the base path, if it is there.
    pub(crate) fn relative(&self) -> Option<&'r str> {
        match self.below {
            Below::Path(path) => Some(path),
            Below::NoSlash | Below::Outside => None,
        }
    }

    /// Whether the URL is exactly this one, fragments aside.
    pub(crate) fn is(&self, address: &Address) -> bool {
        self.scheme == address.scheme()
            && self.path == address.path()
            && self.query == address.query()
            && self.host == address.host()
            && address.port().is_none()
    }
}

impl Hosts {
    pub(crate) fn new(site: &Site) -> Hosts {
        let mut hosts = Hosts {
            canonical: Default::default(),
            exact: FxHashMap::default(),
            wild: FxHashMap::default(),
            fold: site.ignore_case,
        };
        let mut add = |wild: bool, host: &str, role, base: &str, line| {
            let map = if wild { &mut hosts.wild } else { &mut hosts.exact };
            map.entry(host.into()).or_default().push(Setting { role, base: base.into(), line });
        };
        add(false, site.host.as_str(), Role::Canonical, &site.base, site.line);
        for alias in &site.aliases {
            add(false, alias.host.as_str(), Role::Alias, &alias.base, alias.line);
        }
        for preview in &site.previews {
            add(preview.wildcard, preview.host.as_str(), Role::Preview, &site.base, preview.line);
        }
        for settings in hosts.exact.values_mut().chain(hosts.wild.values_mut()) {
            settings.sort_by_key(|setting| std::cmp::Reverse(setting.base.len()));
        }
        hosts.canonical = hosts.exact.remove_entry(site.host.as_str()).unwrap_or_default();
        hosts
    }

    /// Finds the setting for an address: the most exact host, then the longest base path. None for
    /// a unknown host.
    pub(crate) fn locate<'r>(
        &self,
        method: &'r Method,
        headers: &'r HeaderMap,
        address: &'r Address,
    ) -> Option<RequestParts<'r>> {
        let (host, path) = (address.host(), address.path());
        let settings = match host == &*self.canonical.0 {
            true => &self.canonical.1,
            false => self.exact.get(host).or_else(|| self.wild.get(host.split_once('.')?.1))?,
        };
        let found = settings
            .iter()
            .find_map(|setting| Some((setting, below(path, &setting.base, self.fold)?)));
        let (setting, below) = found.unwrap_or((settings.first()?, Below::Outside));
        Some(RequestParts {
            method,
            headers,
            scheme: address.scheme(),
            host,
            path,
            query: address.query(),
            hash: if setting.base.len() == 1 { address.path_hash() } else { None },
            odd: address.has_odd_path(),
            role: setting.role,
            line: setting.line,
            below,
        })
    }

    /// What follows the longest base path of the canonical host or of an alias that contains a URL,
    /// with its first `/`.
    pub(crate) fn own_path<'r>(&self, host: &str, path: &'r str) -> Option<&'r str> {
        let settings =
            if host == &*self.canonical.0 { &self.canonical.1 } else { self.exact.get(host)? };
        let mut own = settings.iter().filter(|setting| setting.role != Role::Preview);
        match own.find_map(|setting| below(path, &setting.base, self.fold))? {
            Below::Path(path) => Some(path),
            Below::NoSlash => Some("/"),
            Below::Outside => None,
        }
    }
}

/// Where a path is, seen from a base path; none where it is outside.
#[inline(always)]
fn below<'r>(path: &'r str, base: &str, fold: bool) -> Option<Below<'r>> {
    if base == "/" { Some(Below::Path(path)) } else { below_folder(path, base, fold) }
}

fn below_folder<'r>(path: &'r str, base: &str, fold: bool) -> Option<Below<'r>> {
    let open = &base[..base.len() - 1];
    let start = path.get(..open.len())?;
    let rest = (start == open || (fold && start.eq_ignore_ascii_case(open)))
        .then(|| &path[open.len()..])?;
    match rest.as_bytes().first() {
        Some(b'/') => Some(Below::Path(rest)),
        None => Some(Below::NoSlash),
        Some(_) => None,
    }
}
