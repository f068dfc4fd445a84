//! What the pages of a build say, all together.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use ravel::FileList;
use ravel_check::{Sitemap, in_order};

use crate::origins;
use crate::page::{LoadKind, Page};

/// What the pages of a build say, all together.
pub(crate) struct Survey<'n> {
    pub(crate) names: Vec<&'n str>,
    /// Each page that could be read, by the name of its file.
    pub(crate) pages: BTreeMap<&'n str, Page>,
    /// Files that could not be read.
    pub(crate) unread: Vec<&'n str>,
    /// Paths from the root of the host that pages link to or load, and in how many pages.
    pub(crate) paths: BTreeMap<String, usize>,
    /// The origins that pages load something of a kind from.
    pub(crate) origins: BTreeSet<(LoadKind, String)>,
    /// The texts of scripts in pages; not all, where there are more than a policy allows one by one.
    pub(crate) scripts: BTreeSet<String>,
    /// Origins that scripts of the build name.
    pub(crate) script_origins: BTreeSet<String>,
    /// Style sheets load from these origins.
    pub(crate) style_origins: BTreeSet<String>,
    /// Pages or styles have images in their text.
    pub(crate) has_data_images: bool,
    /// Some script changes the path in the browser.
    pub(crate) has_router: bool,
    /// Paths that scripts name as those of views.
    pub(crate) views: BTreeSet<String>,
    /// What sitemaps list.
    pub(crate) sitemap: Vec<String>,
    /// What pages link to, each once.
    links: HashSet<Arc<str>>,
}

/// How much is to be known of pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Depth {
    /// What they link to, load and state.
    Links,
    /// Also what people read there.
    Texts,
}

/// A file, as it was read.
struct Read {
    content: Content,
    /// It has images in its text.
    has_data_images: bool,
}

enum Content {
    Page(Box<Page>),
    Sitemap(Sitemap),
    Style(BTreeSet<String>),
    Script {
        origins: BTreeSet<String>,
        views: Vec<String>,
        has_router: bool,
    },
    /// It is too long to be looked through.
    Long,
}

/// Longer files are not looked through for origins, in bytes.
const MAX_SCRIPT_BYTES: usize = 4 * 1024 * 1024;
/// More scripts in pages than that are not listed by their hashes.
pub(crate) const MAX_HASHES: usize = 12;

/// Whether a draft reads files of this name.
pub fn reads(name: &str) -> bool {
    ending_of(name).is_some()
}

/// The ending of a file that is read, in lower case.
fn ending_of(name: &str) -> Option<&'static str> {
    let last = name.rsplit('/').next().unwrap_or(name);
    let ending = last.rsplit('.').next().unwrap_or_default();
    let known = ["html", "htm", "js", "mjs", "css", "xml"];
    let ending = known.into_iter().find(|known| ending.eq_ignore_ascii_case(known))?;
    (ending != "xml" || last.contains("sitemap")).then_some(ending)
}

impl Read {
    fn of(ending: &str, bytes: &[u8], depth: Depth) -> Read {
        let text = String::from_utf8_lossy(bytes);
        let content = match ending {
            "html" | "htm" => Content::Page(Box::new(Page::read(&text, depth == Depth::Texts))),
            // What is wrong with one is for the checks to say.
            "xml" => Content::Sitemap(Sitemap::parse(&text).unwrap_or_default()),
            _ if text.len() > MAX_SCRIPT_BYTES => Content::Long,
            "css" => Content::Style(origins::in_style(&text).into_iter().collect()),
            _ => Content::Script {
                origins: origins::in_script(&text).collect(),
                views: views_in(&text).collect(),
                has_router: text.contains("pushState") || text.contains("navigate("),
            },
        };
        Read { content, has_data_images: text.contains("data:image/") }
    }
}

impl<'n> Survey<'n> {
    /// What the pages alone say, where it does not matter what else there is.
    pub(crate) fn of_pages<E>(
        files: &'n FileList,
        depth: Depth,
        read: &(impl Fn(&str) -> Result<Vec<u8>, E> + Sync),
    ) -> Survey<'n> {
        let is_page = |name: &&str| matches!(ending_of(name), Some("html" | "htm"));
        Survey::of(files.names().iter().map(|name| &**name).filter(is_page), depth, read)
    }

    pub(crate) fn of<E>(
        names: impl IntoIterator<Item = &'n str>,
        depth: Depth,
        read: &(impl Fn(&str) -> Result<Vec<u8>, E> + Sync),
    ) -> Survey<'n> {
        let mut survey = Survey {
            names: names.into_iter().collect(),
            pages: BTreeMap::new(),
            unread: Vec::new(),
            paths: BTreeMap::new(),
            origins: BTreeSet::new(),
            scripts: BTreeSet::new(),
            script_origins: BTreeSet::new(),
            style_origins: BTreeSet::new(),
            has_data_images: false,
            has_router: false,
            views: BTreeSet::new(),
            sitemap: Vec::new(),
            links: HashSet::new(),
        };
        survey.names.sort_unstable();
        let names: Vec<&str> = survey.names.iter().copied().filter(|name| reads(name)).collect();
        let read = |name: &'n str| {
            let ending = ending_of(name).unwrap_or_default();
            read(name).ok().map(|bytes| Read::of(ending, &bytes, depth))
        };
        in_order(&names, read, |name, read| match read {
            Some(read) => survey.take(name, read),
            None => survey.unread.push(name),
        });
        survey
    }

    fn take(&mut self, name: &'n str, read: Read) {
        self.has_data_images |= read.has_data_images;
        match read.content {
            Content::Page(page) => self.take_page(name, *page),
            Content::Sitemap(sitemap) => {
                self.sitemap.extend(sitemap.pages().map(str::to_owned));
            }
            Content::Style(origins) => self.style_origins.extend(origins),
            Content::Script { origins, views, has_router } => {
                self.has_router |= has_router;
                self.views.extend(views);
                self.script_origins.extend(origins);
            }
            Content::Long => {}
        }
    }

    /// Takes in a page, and keeps of it what later questions are about.
    fn take_page(&mut self, name: &'n str, mut page: Page) {
        for css in std::mem::take(&mut page.styles) {
            self.style_origins.extend(origins::in_style(&css));
        }
        for script in std::mem::take(&mut page.scripts) {
            if self.scripts.len() <= MAX_HASHES && !script.trim().is_empty() {
                self.scripts.insert(script);
            }
        }
        let loads = std::mem::take(&mut page.loads);
        let loaded = loads.iter().filter(|(kind, _)| *kind != LoadKind::Form);
        for url in page.links.iter().map(|url| &**url).chain(loaded.map(|(_, url)| &**url)) {
            if url.starts_with('/') && !url.starts_with("//") {
                let path = url.split(['?', '#']).next().unwrap_or_default();
                match self.paths.get_mut(path) {
                    Some(times) => *times += 1,
                    None => drop(self.paths.insert(path.to_owned(), 1)),
                }
            }
        }
        let origins =
            loads.iter().filter_map(|(kind, url)| Some((*kind, origins::origin_of(url)?)));
        self.origins.extend(origins);
        for link in &mut page.links {
            match self.links.get(link) {
                Some(known) => *link = Arc::clone(known),
                None => drop(self.links.insert(Arc::clone(link))),
            }
        }
        self.pages.insert(name, page);
    }

    /// The origins that pages load something of a kind from, but for a host's own.
    pub(crate) fn origins_of(&self, kind: LoadKind, own: &str) -> BTreeSet<String> {
        let origins = self.origins.iter().filter(|(known, _)| *known == kind);
        origins
            .map(|(_, origin)| origin.clone())
            .filter(|origin| origin.split_once("://").is_some_and(|(_, host)| host != own))
            .collect()
    }
}

/// The paths from `/` that a script has as the property `path`, as routers take them.
fn views_in(text: &str) -> impl Iterator<Item = String> {
    text.match_indices("path").filter_map(|(at, name)| {
        let is_whole = !text[..at].ends_with(|c: char| c.is_alphanumeric() || "_$.".contains(c));
        let rest = text[at + name.len()..].trim_start_matches(['"', '\'']).trim_start();
        let rest = rest.strip_prefix(':').filter(|_| is_whole)?.trim_start();
        let quote = rest.chars().next().filter(|c| "\"'`".contains(*c))?;
        let path = &rest[1..rest[1..].find(quote)? + 1];
        let is_path = |c: char| c.is_ascii_alphanumeric() || "/-_.:*?()".contains(c);
        (path.starts_with('/') && path.len() > 1 && path.chars().all(is_path))
            .then(|| path.to_owned())
    })
}
