//! Where old URLs have gone: by what pages say, or by the words of their paths.

use std::collections::{BTreeMap, HashMap};
use std::hash::Hash;

use ravel::edge::Edge;
use ravel::{FileList, Outcome, Request, Rules};

use crate::candidate::{APART, Candidate, NEAR, SURE};
use crate::forms::{page_form, page_urls};
use crate::page::PageText;
use crate::paths::{PathIndex, path_words, slug};
use crate::similar::{PageIndex, Sketch};
use crate::survey::Survey;

/// One that is less sure is not even named.
const POSSIBLE: f64 = 0.4;
/// Pages that are less alike are not one page, whatever their paths are.
const CONTRARY: f64 = 0.25;
/// Pages that are so alike speak against one that the path names.
const CONTRADICTING: f64 = 0.6;
/// What several pages have alike.
const SHARED: f64 = 0.55;

/// What a site answered before: URLs that are known, or its build.
#[derive(Debug, Default)]
pub struct OldSite {
    /// Each path below the base path, with what its page says, if that is known, and its bytes' hash.
    pages: BTreeMap<String, Option<(PageText, u64)>>,
    /// How often paths were asked, where that is known.
    requests: HashMap<String, u64>,
}

/// An old URL that is missing now, and where it has gone.
#[derive(Debug, Clone, PartialEq)]
pub struct Move {
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) score: f64,
    pub(crate) why: &'static str,
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
        read: impl Fn(&str) -> Result<Vec<u8>, E>,
    ) -> OldSite {
        let files: FileList = names.iter().map(AsRef::as_ref).collect();
        let survey = Survey::of_pages(&files, &read);
        let mut old = OldSite::default();
        let form = page_form(&survey, at, &files);
        let Ok(rules) = Rules::parse(&format!("site {at}\n  pages {}\n", form.name)) else {
            return old;
        };
        let edge = Edge::new(&rules, files.clone());
        for (name, page) in &survey.pages {
            let Some(file) = edge.number_of(name) else { continue };
            old.pages
                .insert(edge.own_address(file).to_owned(), Some((page.text.clone(), page.bytes)));
        }
        // Where a page has several URLs, those are known that are linked to.
        for url in page_urls(&survey, &edge) {
            let path = &url.path()[edge.site().open_base().len()..];
            let page = edge.file_of(path).and_then(|name| survey.pages.get(name));
            let is_shown = Request::get(url.as_str())
                .is_ok_and(|request| edge.answer(&request).outcome() == Outcome::File);
            if let Some(page) = page.filter(|_| is_shown) {
                let known = old.pages.entry(path.to_owned()).or_default();
                *known = Some((page.text.clone(), page.bytes));
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

/// The moves of old URLs that are missing on an edge, and those of which nothing is known.
pub(crate) fn moves(old: &OldSite, survey: &Survey<'_>, edge: &Edge) -> (Vec<Move>, Vec<String>) {
    let new: Vec<NewPage<'_>> =
        survey.pages.iter().filter_map(|(name, page)| NewPage::of(edge, name, page)).collect();
    let index = PageIndex::of(new.iter().map(|page| page.text));
    let paths = PathIndex::of(new.iter().map(|page| &*page.path));
    // What several old pages say, or how several are named, tells none of them apart.
    let (mut texts, mut titles) = (Times::default(), Times::default());
    for (text, _) in old.pages.values().flatten() {
        texts.add(&text.words);
        titles.add(&text.title);
    }
    let mut slugs = Times::default();
    old.pages.keys().for_each(|path| slugs.add(slug(path)));
    let (mut moves, mut lost) = (Vec::new(), Vec::new());
    for (path, page) in &old.pages {
        let Ok(request) = Request::get(&edge.site().url_of(path)) else { continue };
        if edge.walk_unexplained(&request).outcome() != Outcome::Missing {
            continue;
        }
        let is_one_of_many = |text: &PageText| texts.of(&&text.words) > 1;
        let by_content = page.as_ref().and_then(|page| {
            let is_titled = !page.0.title.is_empty() && titles.of(&&page.0.title) == 1;
            let found = by_content(page, path, is_titled, &new, &index, &paths)?;
            let is_unsure = found.score < 1.0 && is_one_of_many(&page.0);
            Some(if is_unsure { found.at_most(NEAR - 0.01) } else { found })
        });
        let sketch = page.as_ref().map(|(text, _)| Sketch::of(text));
        let contradicts =
            |to: usize| sketch.as_ref().is_some_and(|own| index.alike(own, to) < CONTRARY);
        let by_path = paths.find(path, slugs.of(&slug(path)) == 1, contradicts);
        let found = both(by_content, by_path).filter(|found| found.score >= POSSIBLE);
        match found {
            Some(found) => moves.push(Move {
                from: path.clone(),
                to: new[found.page].path.clone(),
                score: found.score,
                why: found.why,
                requests: old.requests.get(path).copied().unwrap_or(0),
            }),
            None => lost.push(path.clone()),
        }
    }
    (moves, lost)
}

/// What the page says and what its path says, together.
fn both(by_content: Option<Candidate>, by_path: Option<Candidate>) -> Option<Candidate> {
    let (content, path) = match (by_content, by_path) {
        (Some(content), Some(path)) => (content, path),
        (content, path) => return content.or(path),
    };
    if content.page == path.page {
        // Either may be wrong alone.
        let score = 1.0 - (1.0 - content.score) * (1.0 - path.score);
        let why = if content.score >= path.score { content.why } else { path.why };
        return Some(Candidate {
            score: score.min(0.99).max(content.score).max(path.score),
            why,
            ..content
        });
    }
    if content.score >= SURE {
        return Some(content);
    }
    if content.score >= CONTRADICTING {
        let (more, _) = if content.score >= path.score { (content, path) } else { (path, content) };
        return Some(more.at_most(SURE - 0.01));
    }
    Some(if path.score > content.score { path } else { content })
}

/// How often something was there.
struct Times<T>(HashMap<T, usize>);

impl<T> Default for Times<T> {
    fn default() -> Times<T> {
        Times(HashMap::new())
    }
}

impl<T: Hash + Eq> Times<T> {
    fn add(&mut self, one: T) {
        *self.0.entry(one).or_default() += 1;
    }

    fn of(&self, one: &T) -> usize {
        self.0.get(one).copied().unwrap_or_default()
    }
}

struct NewPage<'p> {
    path: String,
    text: &'p PageText,
    bytes: u64,
}

impl<'p> NewPage<'p> {
    /// A page that is shown under its own address, and is not the 404 page.
    fn of(edge: &Edge, name: &str, page: &'p crate::page::Page) -> Option<NewPage<'p>> {
        let file = edge.number_of(name)?;
        let path = edge.own_address(file).to_owned();
        let is_missing =
            edge.site().missing().is_some_and(|(path, _)| edge.file_of(path) == Some(name));
        let request = Request::get(&edge.url_of(file)).ok()?;
        let is_shown = edge.answer(&request).outcome() == Outcome::File;
        let is_plain = !path.contains(['{', '}', ' ', '"', '#', '?']);
        (is_shown && is_plain && !is_missing).then_some(NewPage {
            path,
            text: &page.text,
            bytes: page.bytes,
        })
    }
}

fn by_content(
    (text, bytes): &(PageText, u64),
    path: &str,
    is_titled: bool,
    new: &[NewPage<'_>],
    index: &PageIndex,
    paths: &PathIndex,
) -> Option<Candidate> {
    let sketch = Sketch::of(text);
    // Of several that are the same, the path says which.
    let own = paths.scores(&path_words(path));
    let best = |pages: &mut dyn Iterator<Item = usize>| {
        pages
            .map(|page| (page, own[page]))
            .max_by(|a, b| a.1.total_cmp(&b.1).then(b.0.cmp(&a.0)))
            .map(|(page, _)| page)
    };
    if let Some(page) = best(&mut (0..new.len()).filter(|page| new[*page].bytes == *bytes)) {
        return Some(Candidate { page, score: 1.0, why: "the same page" });
    }
    if let Some(page) = best(&mut index.same(&sketch).iter().copied()) {
        return Some(match sketch.is_short {
            true => Candidate { page, score: NEAR - 0.01, why: "the same few words" },
            false => Candidate { page, score: 0.99, why: "the same text" },
        });
    }
    let has_title = |page: &usize| {
        !text.title.is_empty() && new[*page].text.title.eq_ignore_ascii_case(&text.title)
    };
    let mut titled = (0..new.len()).filter(has_title);
    let by_title = match (titled.next(), titled.next()) {
        (Some(page), None) if is_titled => {
            Some(Candidate { page, score: NEAR - 0.01, why: "the only page of that title" })
        }
        // What scripts fill has no text; its title may say what it is.
        (Some(_), _) if sketch.is_empty => best(&mut (0..new.len()).filter(has_title))
            .map(|page| Candidate { page, score: SHARED, why: "the same title" }),
        _ => None,
    };
    let by_text = match index.nearest(&sketch).as_slice() {
        [(page, score), (_, next), ..] if score - next < APART => {
            let score = score.min(SURE - 0.01);
            Some(Candidate { page: *page, score, why: "two pages are as alike" })
        }
        [(page, score), ..] => {
            Some(Candidate { page: *page, score: score.min(0.98), why: "alike" })
        }
        [] => None,
    };
    by_text.into_iter().chain(by_title).max_by(|a, b| a.score.total_cmp(&b.score))
}
