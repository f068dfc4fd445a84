//! The settings of a site.

use crate::address::{Host, Scheme};
use crate::language::Line;

/// The site that the rules are about.
#[derive(Debug, Clone)]
pub struct Site {
    /// Where it is stated.
    pub line: Line,
    /// The scheme of the canonical origin.
    pub scheme: Scheme,
    /// The host of the canonical origin.
    pub host: Host,
    /// The base path: it begins and ends with `/`.
    pub base: Box<str>,
    /// The folder of built files, from the rules file's folder.
    pub files: Option<Box<str>>,
    /// Where that is stated.
    pub files_line: Option<Line>,
    /// Hosts that only redirect to the canonical origin.
    pub aliases: Vec<Alias>,
    /// Hosts that answer as the site does, without canonical redirects.
    pub previews: Vec<PreviewHost>,
    /// How addresses name pages.
    pub pages: Pages,
    /// The file that answers for a folder.
    pub index: Box<str>,
    /// The path of the file that is shown when nothing answers, and where that is stated.
    pub missing: Option<(Box<str>, Line)>,
    /// The languages the site has (BCP 47), the default first.
    pub languages: Vec<Box<str>>,
    /// What plain HTTP gets.
    pub http: HttpPolicy,
    /// The promise of HTTPS (RFC 6797).
    pub hsts: Option<Hsts>,
    /// Whether a redirect to a redirect is answered with the last address at once.
    pub one_hop: bool,
    /// Whether ASCII letters of paths match in any case.
    pub ignore_case: bool,
}

/// A host that only redirects to the canonical origin.
#[derive(Debug, Clone)]
pub struct Alias {
    /// The host.
    pub host: Host,
    /// The base path there: the site's, or an old one.
    pub base: Box<str>,
    /// Where it is stated.
    pub line: Line,
}

/// A host that answers as the site does.
#[derive(Debug, Clone)]
pub struct PreviewHost {
    /// Whether one more label stands before the host.
    pub wildcard: bool,
    /// The host, without the `*.`.
    pub host: Host,
    /// Where it is stated.
    pub line: Line,
}

/// How addresses name pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pages {
    /// One address a page, to which its other spellings redirect.
    Tidy,
    /// Every spelling serves the page.
    Loose,
    /// Only files' own names, and folders for their index file.
    Exact,
}

/// What plain HTTP gets when the canonical URL is HTTPS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HttpPolicy {
    /// A redirect to HTTPS.
    Upgrade,
    /// The same as HTTPS.
    Allow,
}

/// `strict-transport-security`, as it is sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hsts {
    /// The field's value.
    pub value: Box<str>,
    /// Whether it speaks of all hosts below.
    pub subdomains: bool,
    /// Where it is stated.
    pub line: Line,
}

impl Site {
    /// Whether a host is in a setting of the site.
    pub fn has_host(&self, host: &str) -> bool {
        self.host.as_str() == host
            || self.aliases.iter().any(|alias| alias.host.as_str() == host)
            || self.is_preview(host)
    }

    /// Every host that a setting names, the canonical one first; a preview host may begin with
    /// `*.`.
    pub fn hosts(&self) -> impl Iterator<Item = String> {
        let aliases = self.aliases.iter().map(|alias| alias.host.to_string());
        let mut seen = std::collections::BTreeSet::new();
        std::iter::once(self.host.to_string())
            .chain(aliases)
            .chain(self.previews.iter().map(ToString::to_string))
            .filter(move |host| seen.insert(host.clone()))
    }

    /// The line that names the folder of files, or the site's.
    pub fn folder_line(&self) -> Line {
        self.files_line.unwrap_or(self.line)
    }

    /// Whether a host is a preview host.
    pub fn is_preview(&self, host: &str) -> bool {
        self.previews.iter().any(|preview| preview.matches(host))
    }

    /// The base path without its final `/`: what stands before a path below it.
    pub fn open_base(&self) -> &str {
        &self.base[..self.base.len() - 1]
    }

    /// The canonical origin and base path as a URL.
    pub fn url(&self) -> String {
        format!("{}://{}{}", self.scheme, self.host, self.base)
    }

    /// Whether plain HTTP is sent on to HTTPS.
    pub fn upgrades(&self) -> bool {
        self.scheme == Scheme::Https && self.http == HttpPolicy::Upgrade
    }
}

impl PreviewHost {
    /// Whether a host is this one, or one label below it where there is a wildcard.
    pub fn matches(&self, host: &str) -> bool {
        match self.wildcard {
            false => self.host.as_str() == host,
            true => host
                .split_once('.')
                .is_some_and(|(label, rest)| !label.is_empty() && rest == self.host.as_str()),
        }
    }
}

impl std::fmt::Display for PreviewHost {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}{}", if self.wildcard { "*." } else { "" }, self.host)
    }
}
