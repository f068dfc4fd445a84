//! What the pages of a build say, all together.

use std::collections::{BTreeMap, BTreeSet};

use url::Url;

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
}

/// Longer files are not looked through for origins, in bytes.
const MAX_SCRIPT_BYTES: usize = 4 * 1024 * 1024;

impl<'n> Survey<'n> {
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
        };
        survey.names.sort_unstable();
        for name in survey.names.clone() {
            let ending = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
            if !["html", "htm", "js", "mjs", "css"].contains(&&*ending) {
                continue;
            }
            let Ok(bytes) = read(name) else {
                survey.unread.push(name);
                continue;
            };
            let text = String::from_utf8_lossy(&bytes);
            survey.has_data_images |= text.contains("data:image/");
            match &*ending {
                "html" | "htm" => drop(survey.pages.insert(name, Page::read(&text))),
                _ if text.len() > MAX_SCRIPT_BYTES => {}
                "css" => survey.style_origins.extend(origins_in(&text)),
                _ => {
                    survey.has_router |= text.contains("pushState") || text.contains("navigate(");
                    survey.script_origins.extend(origins_in(&text));
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
        let urls = loads.filter(|(known, _)| *known == kind).filter_map(|(_, url)| {
            let whole = if url.starts_with("//") { format!("https:{url}") } else { url.clone() };
            Url::parse(&whole).ok()
        });
        let others = urls.filter(|url| url.host_str().is_some_and(|host| host != own));
        others.filter(|url| url.scheme().starts_with("http")).map(|url| origin(&url)).collect()
    }
}

fn origin(url: &Url) -> String {
    url.origin().ascii_serialization()
}

/// Origins of HTTPS that a text names.
fn origins_in(text: &str) -> impl Iterator<Item = String> {
    text.match_indices("https://").filter_map(|(at, _)| {
        let is_end = |c: char| !(c.is_ascii_alphanumeric() || "-.:/".contains(c));
        let rest = &text[at..];
        let url = &rest[..rest.find(is_end).unwrap_or(rest.len())];
        let url = Url::parse(url).ok()?;
        let is_whole = url.host_str().is_some_and(|host| host.contains('.'));
        // Namespaces are names, not places.
        let is_namespace = url.host_str().is_some_and(|host| host.ends_with("w3.org"));
        (is_whole && !is_namespace).then(|| origin(&url))
    })
}
