//! Which page an old one has become: by what pages say, or else by the words of their paths.

use std::collections::HashMap;
use std::hash::Hash;

use ravel::edge::Edge;
use ravel::{Outcome, Request};

use crate::candidate::{APART, Candidate, NEAR, SURE};
use crate::moves::{Move, OldPage, OldSite};
use crate::page::Page;
use crate::paths::{PathIndex, path_words, slug};
use crate::similar::{PageIndex, PageText};
use crate::survey::Survey;

/// One that is less sure is not even named.
const POSSIBLE: f64 = 0.4;
/// Pages that are so alike speak against one that the path names.
const CONTRADICTING: f64 = 0.6;
/// Nothing adds to what is so sure.
const CERTAIN: f64 = 0.99;
/// What several pages have alike.
const SHARED: f64 = 0.55;

/// The moves of old URLs that are missing on an edge, and those of which nothing is known; each old
/// URL is told when it was looked at.
pub(crate) fn moves(
    old: &OldSite,
    survey: &Survey<'_>,
    edge: &Edge,
    looked_at: &dyn Fn(&str),
) -> (Vec<Move>, Vec<String>) {
    let site = NewSite::of(survey, edge);
    let old_names = OldNames::of(old);
    let (mut moves, mut lost) = (Vec::new(), Vec::new());
    for (path, page) in &old.pages {
        looked_at(path);
        let Ok(request) = Request::get(&edge.site().url_of(path)) else { continue };
        if edge.walk_unexplained(&request).outcome() != Outcome::Missing {
            continue;
        }
        match site.find(path, page.as_deref(), &old_names) {
            Some(found) => moves.push(Move {
                from: path.clone(),
                to: site.pages[found.page].path.clone(),
                score: found.score,
                why: found.why,
                is_tied: found.is_tied,
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
        // Either may be wrong alone; of two that fit as well by the one, the other says which.
        let score = 1.0 - (1.0 - content.score) * (1.0 - path.score);
        let score = score.min(CERTAIN).max(content.score).max(path.score);
        let is_path = match (content.is_tied, path.is_tied) {
            (true, true) => return Some(Candidate::tied(content.page, score, content.why)),
            (false, false) => path.score > content.score,
            (is_tied, _) => is_tied,
        };
        return Some(Candidate { score, ..if is_path { path } else { content } });
    }
    if content.score >= SURE {
        return Some(content);
    }
    // What pages say comes before the words of their paths.
    if content.score >= CONTRADICTING {
        return Some(content.at_most(SURE - 0.01));
    }
    Some(if path.score > content.score { path } else { content })
}

/// How often old pages say the same, or are named alike: this tells none of them apart.
struct OldNames<'o> {
    texts: Times<u64>,
    titles: Times<&'o str>,
    slugs: Times<String>,
}

impl<'o> OldNames<'o> {
    fn of(old: &'o OldSite) -> OldNames<'o> {
        let pages = || old.pages.values().flatten();
        OldNames {
            texts: Times::of(pages().map(|page| page.text.all)),
            titles: Times::of(pages().map(|page| &*page.text.title)),
            slugs: Times::of(old.pages.keys().map(|path| slug(path))),
        }
    }
}

/// How often something was there.
struct Times<T>(HashMap<T, usize>);

impl<T: Hash + Eq> Times<T> {
    fn of(all: impl Iterator<Item = T>) -> Times<T> {
        let mut times = HashMap::new();
        all.for_each(|one| *times.entry(one).or_default() += 1);
        Times(times)
    }

    fn is_once(&self, one: &T) -> bool {
        self.0.get(one).is_none_or(|times| *times == 1)
    }
}

struct NewPage<'p> {
    path: String,
    text: &'p PageText,
    bytes: u64,
}

impl<'p> NewPage<'p> {
    /// A page that is shown under its own address, and is not the 404 page.
    fn of(edge: &Edge, name: &str, page: &'p Page) -> Option<NewPage<'p>> {
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

/// The pages that are there now, by all that tells them apart.
struct NewSite<'p> {
    pages: Vec<NewPage<'p>>,
    by_bytes: HashMap<u64, Vec<usize>>,
    /// In lower case.
    by_title: HashMap<String, Vec<usize>>,
    texts: PageIndex<'p>,
    paths: PathIndex,
}

impl<'p> NewSite<'p> {
    fn of(survey: &'p Survey<'_>, edge: &Edge) -> NewSite<'p> {
        let found = survey.pages.iter().filter_map(|(name, page)| NewPage::of(edge, name, page));
        let pages: Vec<NewPage<'_>> = found.collect();
        let (mut by_bytes, mut by_title) = (HashMap::new(), HashMap::new());
        for (number, page) in pages.iter().enumerate() {
            by_bytes.entry(page.bytes).or_insert_with(Vec::new).push(number);
            let title = page.text.title.to_ascii_lowercase();
            by_title.entry(title).or_insert_with(Vec::new).push(number);
        }
        let texts = PageIndex::of(pages.iter().map(|page| page.text));
        let paths = PathIndex::of(pages.iter().map(|page| &*page.path));
        NewSite { pages, by_bytes, by_title, texts, paths }
    }

    /// Which page an old one is now.
    fn find(&self, path: &str, page: Option<&OldPage>, old: &OldNames<'_>) -> Option<Candidate> {
        let by_content = page.and_then(|page| {
            let found = self.by_content(page, path, old.titles.is_once(&&*page.text.title))?;
            let is_unsure = found.score < 1.0 && !old.texts.is_once(&page.text.all);
            Some(if is_unsure { found.at_most(NEAR - 0.01) } else { found })
        });
        if by_content.is_some_and(|found| found.score >= CERTAIN) {
            return by_content;
        }
        // Where nothing is known of what the page had, nothing speaks against a path.
        let alike = |to: usize| page.map_or(1.0, |page| self.texts.alike(&page.text, to));
        let by_path = self.paths.find(path, old.slugs.is_once(&slug(path)), alike);
        both(by_content, by_path).filter(|found| found.score >= POSSIBLE)
    }

    fn by_content(&self, page: &OldPage, path: &str, is_titled: bool) -> Option<Candidate> {
        let text = &page.text;
        // Of several that are the same, the path says which.
        let best = |pages: &[usize]| match pages {
            [] | [_] => pages.first().copied(),
            pages => {
                let own = self.paths.scores(&path_words(path));
                let alike = |a: &usize, b: &usize| own[*a].total_cmp(&own[*b]).then(b.cmp(a));
                pages.iter().copied().max_by(alike)
            }
        };
        if let Some(page) = self.by_bytes.get(&page.bytes).and_then(|pages| best(pages)) {
            return Some(Candidate::new(page, 1.0, "the same page"));
        }
        if let Some(page) = best(self.texts.same(text)) {
            return Some(match text.is_short() {
                true => Candidate::new(page, NEAR - 0.01, "the same few words"),
                false => Candidate::new(page, CERTAIN, "the same text"),
            });
        }
        let titled = match text.title.is_empty() {
            true => &[][..],
            false => {
                let title = text.title.to_ascii_lowercase();
                self.by_title.get(&title).map_or(&[][..], Vec::as_slice)
            }
        };
        let by_title = match titled {
            [page] if is_titled => {
                Some(Candidate::new(*page, NEAR - 0.01, "the only page of that title"))
            }
            // What scripts fill has no text; its title may say what it is.
            pages if text.is_empty() => {
                best(pages).map(|page| Candidate::new(page, SHARED, "the same title"))
            }
            _ => None,
        };
        let by_text = match self.texts.nearest(text).as_slice() {
            [(page, score), (_, next), ..] if score - next < APART => {
                Some(Candidate::tied(*page, *score, "two pages are as alike"))
            }
            [(page, score), ..] => Some(Candidate::new(*page, score.min(0.98), "alike")),
            [] => None,
        };
        by_text.into_iter().chain(by_title).max_by(|a, b| a.score.total_cmp(&b.score))
    }
}
