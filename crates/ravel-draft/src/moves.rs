//! What a site answered before, and where it has gone.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use ravel::edge::Edge;
use ravel::{FileList, Outcome, Request, Rules};

use crate::candidate::{NEAR, SURE};
use crate::forms::{page_form, page_urls};
use crate::page::Page;
use crate::similar::PageText;
use crate::survey::{Depth, Survey};

/// What a site answered before: URLs that are known, or its build.
#[derive(Debug, Default)]
pub struct OldSite {
    /// Each path below the base path, with its page, if that is known.
    pub(crate) pages: BTreeMap<String, Option<Arc<OldPage>>>,
    /// How often paths were asked, where that is known.
    pub(crate) requests: HashMap<String, u64>,
}

/// What a page said before.
#[derive(Debug)]
pub(crate) struct OldPage {
    pub(crate) text: PageText,
    /// A hash of all of it.
    pub(crate) bytes: u64,
}

/// An old URL that is missing now, and where it has gone.
#[derive(Debug, Clone, PartialEq)]
pub struct Move {
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) score: f64,
    pub(crate) why: &'static str,
    /// Another page fits as well.
    pub(crate) is_tied: bool,
    /// How often it was asked; 0 where that is not known.
    pub(crate) requests: u64,
}

impl Move {
    /// The path of the old URL, below the base path.
    pub fn from(&self) -> &str {
        &self.from
    }

    /// The path of the page that it has gone to, below the base path.
    pub fn to(&self) -> &str {
        &self.to
    }

    /// Whether it is sure enough to be written as a rule.
    pub fn is_sure(&self) -> bool {
        self.score >= SURE
    }

    /// Whether several of one shape could make it sure.
    pub(crate) fn is_near(&self) -> bool {
        self.score >= NEAR && !self.is_tied
    }

    /// Why, and how sure from 0 to 1.
    pub(crate) fn evidence(&self) -> String {
        let often = match self.requests {
            0 => String::new(),
            1 => "; asked once".to_owned(),
            often => format!("; asked {often} times"),
        };
        format!("{}, {:.2}{often}", self.why, self.score)
    }

    /// Whether an edge leads there, at once.
    pub(crate) fn is_made_by(&self, edge: &Edge) -> bool {
        let site = edge.site();
        Request::get(&site.url_of(&self.from)).is_ok_and(|request| {
            let walk = edge.walk_unexplained(&request);
            (walk.hops(), walk.outcome()) == (1, Outcome::File)
                && walk.url() == site.url_of(&self.to)
        })
    }
}

impl OldSite {
    /// The URLs of a site at this one; what is not below it is left out, and counted.
    ///
    /// ```
    /// let urls = ["https://h.example/a", "/b", "https://else.example/"];
    /// let (old, others) = ravel_draft::OldSite::of_urls("https://h.example/", urls);
    /// assert_eq!((old.len(), others), (2, 1));
    /// ```
    pub fn of_urls<'u>(at: &str, urls: impl IntoIterator<Item = &'u str>) -> (OldSite, usize) {
        let mut old = OldSite::default();
        let mut others = 0;
        let at = at.trim_end_matches('/');
        for url in urls {
            match path_below(at, url) {
                Some(path) => drop(old.pages.entry(path.to_owned()).or_default()),
                None => others += 1,
            }
        }
        (old, others)
    }

    /// The same, with how often each was asked.
    #[must_use]
    pub fn with_requests<'u>(
        mut self,
        at: &str,
        counts: impl IntoIterator<Item = (&'u str, u64)>,
    ) -> OldSite {
        for (url, requests) in counts {
            if let Some(path) = path_below(at.trim_end_matches('/'), url) {
                *self.requests.entry(path.to_owned()).or_default() += requests;
            }
        }
        self
    }

    /// The pages of a build of the site before.
    ///
    /// ```
    /// let page = |_: &str| Ok::<_, String>(b"<p>Hello".to_vec());
    /// let old = ravel_draft::OldSite::of_build("https://h.example/", &["a.html"], page);
    /// assert_eq!(old.len(), 1);
    /// ```
    pub fn of_build<N: AsRef<str>, E>(
        at: &str,
        names: &[N],
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
    ) -> OldSite {
        let files: FileList = names.iter().map(AsRef::as_ref).collect();
        let mut survey = Survey::of_pages(&files, Depth::Texts, &read);
        let mut old = OldSite::default();
        let form = page_form(&survey, at, &files);
        let Ok(rules) = Rules::parse(&format!("site {at}\n  pages {}\n", form.name)) else {
            return old;
        };
        let edge = Edge::new(&rules, files.clone());
        let urls = page_urls(&survey, &edge);
        let kept = |page: Page| Arc::new(OldPage { text: page.text, bytes: page.bytes });
        let pages: HashMap<&str, Arc<OldPage>> = std::mem::take(&mut survey.pages)
            .into_iter()
            .map(|(name, page)| (name, kept(page)))
            .collect();
        for (name, page) in &pages {
            let Some(file) = edge.number_of(name) else { continue };
            old.pages.insert(edge.own_address(file).to_owned(), Some(Arc::clone(page)));
        }
        // Where a page has several URLs, those are known that are linked to.
        let below = edge.site().url();
        for url in urls.into_keys() {
            let Ok(request) = Request::get(&url) else { continue };
            let Some(path) = path_below(below.trim_end_matches('/'), &url) else { continue };
            let page = edge.file_of(path).and_then(|name| pages.get(name));
            let is_shown = edge.answer(&request).outcome() == Outcome::File;
            if let Some(page) = page.filter(|_| is_shown) {
                old.pages.insert(path.to_owned(), Some(Arc::clone(page)));
            }
        }
        old
    }

    /// Takes in another's URLs.
    pub fn extend(&mut self, other: OldSite) {
        self.requests.extend(other.requests);
        for (path, page) in other.pages {
            let known = self.pages.entry(path).or_default();
            *known = known.take().or(page);
        }
    }

    /// What is to be read of pages that may be its own.
    pub(crate) fn depth(&self) -> Depth {
        if self.pages.values().flatten().next().is_some() { Depth::Texts } else { Depth::Links }
    }

    /// How many URLs are known.
    pub fn len(&self) -> usize {
        self.pages.len()
    }

    /// Whether none is known.
    pub fn is_empty(&self) -> bool {
        self.pages.is_empty()
    }
}

/// The path of a URL below another, which has no `/` at its end.
fn path_below<'u>(at: &str, url: &'u str) -> Option<&'u str> {
    let rest = if url.starts_with('/') { Some(url) } else { url.strip_prefix(at) };
    match rest?.split(['?', '#']).next().unwrap_or_default() {
        "" => Some("/"),
        path => path.starts_with('/').then_some(path),
    }
}
