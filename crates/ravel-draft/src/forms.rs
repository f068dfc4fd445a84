//! The form of page URLs: each is tried on what pages link to, and the one is taken that answers
//! most of it at once.

use std::collections::{BTreeMap, HashMap};

use ravel::{Edge, FileList, Outcome, Request, Rules};
use url::Url;

use crate::survey::Survey;

/// A form of page URLs, with how many links to pages it answers at once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct PageForm {
    /// As `pages` has it.
    pub(crate) name: &'static str,
    pub(crate) direct: usize,
    /// Links to pages of the site.
    pub(crate) all: usize,
}

/// One in so many links has to be better answered where each page has several URLs.
const LOOSE: usize = 20;

/// The form that answers most links to pages without a redirect; `tidy` where that is as good.
pub(crate) fn page_form(survey: &Survey<'_>, url: &str, files: &FileList) -> PageForm {
    let mut best: Option<PageForm> = None;
    for name in ["tidy", "exact", "loose"] {
        let rules = Rules::parse(&format!("site {url}\n  pages {name}\n"));
        let Ok(rules) = rules else { continue };
        let edge = Edge::new(&rules, files.clone());
        let mut form = PageForm { name, direct: 0, all: 0 };
        for (target, times) in page_urls(survey, &edge) {
            let Ok(request) = Request::get(&target) else { continue };
            let answer = edge.answer(&request);
            let is_page = |file: &str| file.ends_with(".html");
            // What is no page in any form is no link to a page.
            form.all += times;
            if answer.outcome() == Outcome::File && answer.file().is_some_and(is_page) {
                form.direct += times;
            }
        }
        let least = if name == "loose" { form.all / LOOSE } else { 0 };
        if best.as_ref().is_none_or(|known| form.direct > known.direct + least) {
            best = Some(form);
        }
    }
    best.unwrap_or(PageForm { name: "tidy", direct: 0, all: 0 })
}

/// What pages link to or state as their own and what sitemaps list, below the site's base path,
/// where it names a page; with how often.
pub(crate) fn page_urls(survey: &Survey<'_>, edge: &Edge) -> BTreeMap<String, usize> {
    let site = edge.site();
    let mut urls = BTreeMap::new();
    let mut take = |mut target: Url, times: usize| {
        target.set_fragment(None);
        let is_own = target.host_str() == Some(site.host().as_str());
        let below = target.path().strip_prefix(site.open_base()).filter(|_| is_own);
        if below.and_then(|path| edge.file_of(path)).is_some_and(|file| file.ends_with(".html")) {
            *urls.entry(target.into()).or_default() += times;
        }
    };
    survey.sitemap.iter().filter_map(|url| Url::parse(url).ok()).for_each(|url| take(url, 1));
    // Pages of one folder have most links in common.
    let mut folders: HashMap<String, HashMap<&str, usize>> = HashMap::new();
    for (name, page) in &survey.pages {
        let Some(file) = edge.number_of(name) else { continue };
        let Ok(own) = Url::parse(&edge.url_of(file)) else { continue };
        let base = page.base.as_ref().and_then(|base| own.join(base).ok()).unwrap_or(own);
        let base = base.join(".").map_or(base.into(), String::from);
        let links = folders.entry(base).or_default();
        let own = page.own.iter().map(|url| &**url);
        for url in page.links.iter().map(|url| &**url).chain(own) {
            *links.entry(url).or_default() += 1;
        }
    }
    for (base, links) in folders {
        let Ok(base) = Url::parse(&base) else { continue };
        for (link, times) in links {
            base.join(link).into_iter().for_each(|url| take(url, times));
        }
    }
    urls
}
