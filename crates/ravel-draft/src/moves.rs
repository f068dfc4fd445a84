//! Where old URLs have gone: by what pages say, or by the words of their paths.

use std::collections::{BTreeMap, HashMap};

use ravel::edge::Edge;
use ravel::{FileList, Outcome, Request, Rules};
use url::Url;

use crate::forms::page_form;
use crate::page::{PageText, words};
use crate::similar::{PageIndex, Sketch};
use crate::survey::Survey;

/// A move that is at least so sure is written as a rule.
pub(crate) const SURE: f64 = 0.75;
/// Several of one shape that are so sure bear each other out.
pub(crate) const NEAR: f64 = 0.71;
/// One that is less sure is not even named.
const POSSIBLE: f64 = 0.4;
/// Pages that are less alike are not one page, whatever their paths are.
const CONTRARY: f64 = 0.25;
/// A name of fewer letters may be that of another page.
const MIN_NAME: usize = 7;
/// The next page must be so much less alike.
const APART: f64 = 0.06;

/// What a site answered before: URLs that are known, or its build.
#[derive(Debug, Default)]
pub struct OldSite {
    /// Each path below the base path, with what its page says, if that is known, and its bytes' hash.
    pages: BTreeMap<String, Option<(PageText, u64)>>,
}

/// An old URL that is missing now, and where it has gone.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Move {
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) score: f64,
    pub(crate) why: &'static str,
}

impl Move {
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
            let rest = if url.starts_with('/') { Some(url) } else { url.strip_prefix(at) };
            let path = rest.map(|rest| rest.split(['?', '#']).next().unwrap_or_default());
            match path.filter(|path| path.starts_with('/') || path.is_empty()) {
                Some("") => drop(old.pages.entry("/".to_owned()).or_default()),
                Some(path) => drop(old.pages.entry(path.to_owned()).or_default()),
                None => others += 1,
            }
        }
        (old, others)
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
        // What its pages load does not matter here.
        let is_page = |name: &&str| name.ends_with(".html") || name.ends_with(".htm");
        let pages = files.names().iter().map(|name| &**name).filter(is_page);
        let survey = Survey::of(pages, &read);
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
        old
    }

    /// Takes in another's URLs.
    pub fn extend(&mut self, other: OldSite) {
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

/// The moves of old URLs that are missing on an edge, and those of which nothing is known.
pub(crate) fn moves(old: &OldSite, survey: &Survey<'_>, edge: &Edge) -> (Vec<Move>, Vec<String>) {
    let new: Vec<NewPage<'_>> =
        survey.pages.iter().filter_map(|(name, page)| NewPage::of(edge, name, page)).collect();
    let index = PageIndex::of(new.iter().map(|page| page.text));
    let paths = PathIndex::of(&new);
    // What several old pages say tells none of them apart.
    let mut texts: HashMap<&[String], usize> = HashMap::new();
    for (text, _) in old.pages.values().flatten() {
        *texts.entry(&text.words).or_default() += 1;
    }
    let (mut moves, mut lost) = (Vec::new(), Vec::new());
    for (path, page) in &old.pages {
        let Ok(request) = Request::get(&edge.site().url_of(path)) else { continue };
        if edge.walk_unexplained(&request).outcome() != Outcome::Missing {
            continue;
        }
        let by_content =
            page.as_ref().and_then(|page| by_content(path, page, &new, &index, &paths));
        let found = match by_content {
            Some(found)
                if page.as_ref().is_some_and(|(text, _)| texts[&*text.words] > 1)
                    && found.score < 1.0 =>
            {
                Some(Move { score: found.score.min(NEAR - 0.01), ..found })
            }
            Some(found) if found.score >= SURE => Some(found),
            by_content => {
                let sketch = page.as_ref().map(|(text, _)| Sketch::of(text));
                let contradicts =
                    |to: usize| sketch.as_ref().is_some_and(|own| index.alike(own, to) < CONTRARY);
                let by_path = paths.find(path, &new, contradicts);
                [by_content, by_path]
                    .into_iter()
                    .flatten()
                    .max_by(|a, b| a.score.total_cmp(&b.score))
            }
        };
        match found.filter(|found| found.score >= POSSIBLE) {
            Some(found) => moves.push(found),
            None => lost.push(path.clone()),
        }
    }
    (moves, lost)
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
    path: &str,
    (text, bytes): &(PageText, u64),
    new: &[NewPage<'_>],
    index: &PageIndex,
    paths: &PathIndex,
) -> Option<Move> {
    let moved = |to: usize, score: f64, why| Move {
        from: path.to_owned(),
        to: new[to].path.clone(),
        score,
        why,
    };
    let sketch = Sketch::of(text);
    // Of several that are the same, the path says which.
    let own = path_words(path);
    let best = |pages: &mut dyn Iterator<Item = usize>| {
        pages
            .map(|page| (page, paths.score(&own, page)))
            .max_by(|a, b| a.1.total_cmp(&b.1).then(b.0.cmp(&a.0)))
    };
    if let Some((page, _)) = best(&mut (0..new.len()).filter(|page| new[*page].bytes == *bytes)) {
        return Some(moved(page, 1.0, "the same page"));
    }
    let same = index.same(&sketch);
    if let Some((page, _)) = best(&mut same.iter().copied()) {
        if sketch.is_short {
            return Some(moved(page, NEAR - 0.01, "the same few words"));
        }
        return Some(moved(page, 0.99, "the same text"));
    }
    // What scripts fill has no text; its title may say what it is.
    let is_titled = |page: &NewPage<'_>| {
        !text.title.is_empty() && page.text.title.eq_ignore_ascii_case(&text.title)
    };
    if sketch.is_empty {
        let (page, _) = best(&mut (0..new.len()).filter(|page| is_titled(&new[*page])))?;
        return Some(moved(page, NEAR - 0.01, "the same title"));
    }
    match index.nearest(&sketch).as_slice() {
        [(page, score), (_, next), ..] if score - next < APART => {
            Some(moved(*page, score.min(SURE - 0.01), "two pages are as alike"))
        }
        [(page, score), ..] => Some(moved(*page, score.min(0.98), "alike")),
        [] => None,
    }
}

/// The words of new pages' paths, and how much each tells.
struct PathIndex {
    words: Vec<Vec<String>>,
    slugs: HashMap<String, Vec<usize>>,
    weights: HashMap<String, f64>,
}

impl PathIndex {
    fn of(new: &[NewPage<'_>]) -> PathIndex {
        let words: Vec<Vec<String>> = new.iter().map(|page| path_words(&page.path)).collect();
        let mut counts: HashMap<String, usize> = HashMap::new();
        let mut slugs: HashMap<String, Vec<usize>> = HashMap::new();
        for (number, (list, page)) in words.iter().zip(new).enumerate() {
            list.iter().for_each(|word| *counts.entry(word.clone()).or_default() += 1);
            slugs.entry(slug(&page.path)).or_default().push(number);
        }
        let all = words.len().max(1) as f64;
        let weight = |(word, count): (String, usize)| (word, (1.0 + all / count as f64).ln());
        PathIndex { words, slugs, weights: counts.into_iter().map(weight).collect() }
    }

    /// How alike the words of an old path and those of a page's path are, from 0 to 1.
    fn score(&self, old: &[String], page: usize) -> f64 {
        let new = &self.words[page];
        // A word that no page has tells as much as the rarest.
        let most = (1.0 + self.words.len() as f64).ln();
        let weight = |word: &String| self.weights.get(word).copied().unwrap_or(most);
        let sum = |words: &[String]| words.iter().map(&weight).sum::<f64>();
        let shared: f64 = new.iter().filter(|word| old.contains(word)).map(weight).sum();
        2.0 * shared / (sum(old) + sum(new)).max(f64::MIN_POSITIVE)
    }

    /// The page whose path is most alike; `contradicts` says that what it has is another page.
    fn find(
        &self,
        path: &str,
        new: &[NewPage<'_>],
        contradicts: impl Fn(usize) -> bool,
    ) -> Option<Move> {
        let (slug, words) = (slug(path), path_words(path));
        let moved = |to: usize, score: f64, why| {
            let score = if contradicts(to) { score.min(NEAR - 0.1) } else { score };
            Some(Move { from: path.to_owned(), to: new[to].path.clone(), score, why })
        };
        let letters = slug.chars().filter(|c| c.is_alphabetic()).count();
        if let Some([only]) = self.slugs.get(&slug).map(Vec::as_slice)
            && slug.len() > 3
        {
            let is_telling = letters >= MIN_NAME || self.score(&words, *only) >= SURE;
            let score = if is_telling { 0.85 } else { SURE - 0.03 };
            return moved(*only, score, "the only page of that name");
        }
        let mut scores: Vec<(usize, f64)> =
            (0..new.len()).map(|page| (page, self.score(&words, page))).collect();
        scores.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        match scores.as_slice() {
            [(page, score), (_, next), ..] if score - next < APART => {
                moved(*page, score.min(SURE - 0.01), "two paths are as alike")
            }
            // Words alone are never as sure as what pages say.
            [(page, score), ..] => moved(*page, score * 0.9, "words of the path"),
            [] => None,
        }
    }
}

/// The last name of a path, without an ending.
fn slug(path: &str) -> String {
    let path =
        path.trim_end_matches('/').trim_end_matches("/index.html").trim_end_matches("/index.php");
    let last = path.rsplit('/').next().unwrap_or_default();
    last.split('.').next().unwrap_or(last).to_lowercase()
}

fn path_words(path: &str) -> Vec<String> {
    let decoded = Url::parse(&format!("https://h.example{path}"))
        .map_or(path.to_owned(), |url| url.path().to_owned());
    let ending =
        decoded.rsplit_once('.').filter(|(_, ending)| ending.len() <= 5 && !ending.contains('/'));
    let stem = ending.map_or(&*decoded, |(stem, _)| stem);
    words(stem).filter(|word| word != "index").collect()
}
