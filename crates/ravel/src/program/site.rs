//! The settings of a site.

use crate::address::{Host, Scheme, typed};
use crate::language::Line;
use crate::template::TargetBase;

/// The site that the rules are about.
#[derive(Debug, Clone)]
pub struct Site {
    pub(crate) line: Line,
    pub(crate) scheme: Scheme,
    pub(crate) host: Host,
    pub(crate) base: Box<str>,
    pub(crate) files: Option<Box<str>>,
    pub(crate) files_line: Option<Line>,
    pub(crate) aliases: Vec<Alias>,
    pub(crate) previews: Vec<PreviewHost>,
    pub(crate) pages: Pages,
    pub(crate) pages_line: Option<Line>,
    pub(crate) index: Box<str>,
    pub(crate) missing: Option<(Box<str>, Line)>,
    pub(crate) languages: Vec<Box<str>>,
    pub(crate) http: HttpPolicy,
    pub(crate) hsts: Option<Hsts>,
    pub(crate) one_hop: bool,
    pub(crate) ignore_case: bool,
}

/// A host that only redirects to the canonical origin.
#[derive(Debug, Clone)]
pub struct Alias {
    pub(crate) host: Host,
    pub(crate) base: Box<str>,
    pub(crate) line: Line,
}

impl Alias {
    /// The host.
    pub fn host(&self) -> &Host {
        &self.host
    }

    /// The base path there: the site's, or an old one.
    pub fn base(&self) -> &str {
        &self.base
    }

    /// Where it is stated.
    pub fn line(&self) -> Line {
        self.line
    }
}

/// A host that answers as the site does.
#[derive(Debug, Clone)]
pub struct PreviewHost {
    pub(crate) wildcard: bool,
    pub(crate) host: Host,
    pub(crate) line: Line,
}

/// How addresses name pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pages {
    /// One address a page, to which its other URL variants redirect.
    Tidy,
    /// Every URL variant serves the page.
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
    pub(crate) value: Box<str>,
    pub(crate) subdomains: bool,
    pub(crate) max_age: u64,
    pub(crate) line: Line,
}

impl Hsts {
    /// The field's value.
    pub fn value(&self) -> &str {
        &self.value
    }

    /// Whether it speaks of all hosts below.
    pub fn subdomains(&self) -> bool {
        self.subdomains
    }

    /// For how long browsers keep it, in seconds.
    pub fn max_age(&self) -> u64 {
        self.max_age
    }

    /// Where it is stated.
    pub fn line(&self) -> Line {
        self.line
    }
}

impl Site {
    /// Whether a host is in a setting of the site.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// assert!(rules.site().has_host("h.example") && !rules.site().has_host("other.example"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn has_host(&self, host: &str) -> bool {
        self.host.as_str() == host
            || self.aliases.iter().any(|alias| alias.host.as_str() == host)
            || self.is_preview(host)
    }

    /// Every host that a setting names, the canonical one first; a preview host may begin with
    /// `*.`.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n  alias www.h.example\n")?;
    /// assert_eq!(rules.site().hosts().collect::<Vec<_>>(), ["h.example", "www.h.example"]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn hosts(&self) -> impl Iterator<Item = String> {
        let aliases = self.aliases.iter().map(|alias| alias.host.to_string());
        let mut seen = std::collections::BTreeSet::new();
        std::iter::once(self.host.to_string())
            .chain(aliases)
            .chain(self.previews.iter().map(ToString::to_string))
            .filter(move |host| seen.insert(host.clone()))
    }

    /// Where targets begin that name no origin of their own.
    pub fn target_base(&self) -> TargetBase<'_> {
        TargetBase { scheme: self.scheme, host: self.host.as_str(), base: &self.base }
    }

    /// The line that names the folder of files, or the site's.
    pub fn folder_line(&self) -> Line {
        self.files_line.unwrap_or(self.line)
    }

    /// Whether a host is a preview host.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n  preview *.p.example\n")?;
    /// assert!(rules.site().is_preview("x.p.example"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_preview(&self, host: &str) -> bool {
        self.previews.iter().any(|preview| preview.matches(host))
    }

    /// The URL of an address as people write it: a path is below the base path at the canonical
    /// origin, anything else is whole already.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/base/\n")?;
    /// assert_eq!(rules.site().url_of("/a"), "https://h.example/base/a");
    /// assert_eq!(rules.site().url_of("http://w.example/"), "http://w.example/");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn url_of(&self, address: &str) -> String {
        let url = match address.starts_with('/') {
            true => format!("{}{address}", self.url().trim_end_matches('/')),
            false => address.to_owned(),
        };
        typed(&url).unwrap_or(url)
    }

    /// The base path without its final `/`: what is before a path below it.
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

    /// Where it is stated.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The scheme of the canonical origin.
    pub fn scheme(&self) -> Scheme {
        self.scheme
    }

    /// The host of the canonical origin.
    pub fn host(&self) -> &Host {
        &self.host
    }

    /// The base path: it begins and ends with `/`.
    pub fn base(&self) -> &str {
        &self.base
    }

    /// Whether the settings that all answers hang on are those of another site: all but hosts,
    /// languages, the treatment of plain HTTP and HSTS, which some answers hang on.
    ///
    /// ```
    /// let site = |text: &str| ravel::Rules::parse(text).map(|rules| rules.site().clone());
    /// let one = site("site https://h.example/\n")?;
    /// assert!(one.answers_as(&site("site https://h.example/\n  alias www.h.example\n")?));
    /// assert!(!one.answers_as(&site("site https://h.example/\n  pages exact\n")?));
    /// # Ok::<(), ravel::Problems>(())
    /// ```
    pub fn answers_as(&self, other: &Site) -> bool {
        // A setting that is added here must be said to be one of these, or not.
        let Site {
            scheme,
            host,
            base,
            pages,
            index,
            missing,
            one_hop,
            ignore_case,
            line: _,
            files: _,
            files_line: _,
            aliases: _,
            previews: _,
            pages_line: _,
            languages: _,
            http: _,
            hsts: _,
        } = self;
        (scheme, host, base) == (&other.scheme, &other.host, &other.base)
            && (pages, index) == (&other.pages, &other.index)
            && missing.as_ref().map(|(page, _)| page)
                == other.missing.as_ref().map(|(page, _)| page)
            && (one_hop, ignore_case) == (&other.one_hop, &other.ignore_case)
    }

    /// The folder of built files, from the rules file's folder.
    pub fn files(&self) -> Option<&str> {
        self.files.as_deref()
    }

    /// A built file's path from the rules file's folder, as people name it.
    pub(crate) fn file_path(&self, name: &str) -> String {
        self.files().map_or_else(|| name.to_owned(), |folder| format!("{folder}/{name}"))
    }

    /// Where that is stated.
    pub fn files_line(&self) -> Option<Line> {
        self.files_line
    }

    /// Hosts that only redirect to the canonical origin.
    pub fn aliases(&self) -> &[Alias] {
        &self.aliases
    }

    /// Hosts that answer as the site does, without canonical redirects.
    pub fn previews(&self) -> &[PreviewHost] {
        &self.previews
    }

    /// How addresses name pages.
    pub fn pages(&self) -> Pages {
        self.pages
    }

    /// The line that says so, if one does.
    pub fn pages_line(&self) -> Option<Line> {
        self.pages_line
    }

    /// The file that answers for a folder.
    pub fn index(&self) -> &str {
        &self.index
    }

    /// The path of the file that is shown when nothing answers, and where that is stated.
    pub fn missing(&self) -> Option<&(Box<str>, Line)> {
        self.missing.as_ref()
    }

    /// The languages the site has (BCP 47), the default first.
    pub fn languages(&self) -> &[Box<str>] {
        &self.languages
    }

    /// What plain HTTP gets.
    pub fn http(&self) -> HttpPolicy {
        self.http
    }

    /// The promise of HTTPS (RFC 6797).
    pub fn hsts(&self) -> Option<&Hsts> {
        self.hsts.as_ref()
    }

    /// Whether a redirect to a redirect is answered with the last address at once.
    pub fn one_hop(&self) -> bool {
        self.one_hop
    }

    /// Whether ASCII letters of paths match in any case.
    pub fn ignore_case(&self) -> bool {
        self.ignore_case
    }
}

impl PreviewHost {
    /// Whether a host is this one, or one label below it where there is a wildcard.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n  preview *.p.example\n")?;
    /// let preview = &rules.site().previews()[0];
    /// assert!(preview.matches("x.p.example") && !preview.matches("p.example"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn matches(&self, host: &str) -> bool {
        match self.wildcard {
            false => self.host.as_str() == host,
            true => host
                .split_once('.')
                .is_some_and(|(label, rest)| !label.is_empty() && rest == self.host.as_str()),
        }
    }

    /// Whether one more label stands before the host.
    pub fn wildcard(&self) -> bool {
        self.wildcard
    }

    /// The host, without the `*.`.
    pub fn host(&self) -> &Host {
        &self.host
    }

    /// Where it is stated.
    pub fn line(&self) -> Line {
        self.line
    }
}

impl std::fmt::Display for PreviewHost {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}{}", if self.wildcard { "*." } else { "" }, self.host)
    }
}
