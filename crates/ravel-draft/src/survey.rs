//! What the pages of a build say, all together.

use std::collections::{BTreeMap, BTreeSet};

use ravel::FileList;
use ravel_check::Sitemap;

use crate::origins;
use crate::page::{LoadKind, Page};

/// What the pages of a build say, all together.
pub(crate) struct Survey<'n> {
    pub(crate) names: Vec<&'n str>,
    /// Each page that could be read, by the name of its file.
    pub(crate) pages: BTreeMap<&'n str, Page>,
    /// Files that could not be read.
    pub(crate) unread: Vec<&'n str>,
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
}

/// Longer files are not looked through for origins, in bytes.
const MAX_SCRIPT_BYTES: usize = 4 * 1024 * 1024;

impl<'n> Survey<'n> {
    /// What the pages alone say, where it does not matter what they load.
    pub(crate) fn of_pages<E>(
        files: &'n FileList,
        read: &impl Fn(&str) -> Result<Vec<u8>, E>,
    ) -> Survey<'n> {
        let is_page = |name: &&str| name.ends_with(".html") || name.ends_with(".htm");
        Survey::of(files.names().iter().map(|name| &**name).filter(is_page), read)
    }

    pub(crate) fn of<E>(
        names: impl IntoIterator<Item = &'n str>,
        read: &impl Fn(&str) -> Result<Vec<u8>, E>,
    ) -> Survey<'n> {
        let mut survey = Survey {
            names: names.into_iter().collect(),
            pages: BTreeMap::new(),
            unread: Vec::new(),
            script_origins: BTreeSet::new(),
            style_origins: BTreeSet::new(),
            has_data_images: false,
            has_router: false,
            views: BTreeSet::new(),
            sitemap: Vec::new(),
        };
        survey.names.sort_unstable();
        for name in survey.names.clone() {
            let ending = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
            let last = name.rsplit('/').next().unwrap_or_default();
            let is_sitemap = ending == "xml" && last.contains("sitemap");
            if !is_sitemap && !["html", "htm", "js", "mjs", "css"].contains(&&*ending) {
                continue;
            }
            let Ok(bytes) = read(name) else {
                survey.unread.push(name);
                continue;
            };
            let text = String::from_utf8_lossy(&bytes);
            survey.has_data_images |= text.contains("data:image/");
            match &*ending {
                "html" | "htm" => {
                    let page = Page::read(&text);
                    survey
                        .style_origins
                        .extend(page.styles.iter().flat_map(|css| origins::in_style(css)));
                    survey.pages.insert(name, page);
                }
                "xml" => {
                    // What is wrong with one is for the checks to say.
                    let sitemap = Sitemap::parse(&text).unwrap_or_default();
                    survey.sitemap.extend(sitemap.pages().map(str::to_owned));
                }
                _ if text.len() > MAX_SCRIPT_BYTES => {}
                "css" => survey.style_origins.extend(origins::in_style(&text)),
                _ => {
                    survey.has_router |= text.contains("pushState") || text.contains("navigate(");
                    survey.views.extend(views_in(&text));
                    survey.script_origins.extend(origins::in_script(&text));
                }
            }
        }
        survey
    }

    /// All that pages link to or load, as they write it, with the file it is in.
    pub(crate) fn references(&self) -> impl Iterator<Item = (&'n str, &str)> {
        self.pages.iter().flat_map(|(name, page)| {
            let loads = page.loads.iter().filter(|(kind, _)| *kind != LoadKind::Form);
            let all = page.links.iter().chain(loads.map(|(_, url)| url));
            all.map(|url| (*name, url.as_str()))
        })
    }

    /// The origins that pages load something of a kind from, but for a host's own.
    pub(crate) fn origins_of(&self, kind: LoadKind, own: &str) -> BTreeSet<String> {
        let loads = self.pages.values().flat_map(|page| &page.loads);
        let origins = loads
            .filter(|(known, _)| *known == kind)
            .filter_map(|(_, url)| origins::origin_of(url));
        origins
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
