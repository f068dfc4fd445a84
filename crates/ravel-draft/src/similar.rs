//! How alike pages are: by hashes of their text, their headings and their title.

use std::collections::HashMap;
use std::hash::Hasher;

use rustc_hash::FxHasher;

/// Words that are compared together.
const SHINGLE: usize = 3;
/// Fewer words say little.
const MIN_WORDS: usize = 12;
/// More of a page are not compared.
const MAX_SHINGLES: usize = 4_000;
/// So many pages are compared whole with one.
const MAX_COMPARED: usize = 16;
/// So often a page is counted, at most, to find these; the rarest words come first.
const MAX_COUNTED: usize = 20_000;

/// What people read on a page, as it is compared with others: hashes, but for its title.
#[derive(Debug, Default, Clone)]
pub(crate) struct PageText {
    pub(crate) title: String,
    /// Of the first two levels, sorted.
    headings: Vec<u32>,
    /// Of words in a row, sorted.
    shingles: Vec<u32>,
    /// Of all words.
    pub(crate) all: u64,
    words: usize,
}

/// Takes in what people read on a page.
#[derive(Default)]
pub(crate) struct TextReader {
    text: PageText,
    all: FxHasher,
    /// The words before the next.
    before: [u64; SHINGLE - 1],
}

/// The pages of a site by what they say.
pub(crate) struct PageIndex<'t> {
    texts: Vec<&'t PageText>,
    /// Which page says what, sorted, without what many say.
    said: Vec<(u32, u32)>,
    /// How much each page says of this.
    telling: Vec<usize>,
    by_text: HashMap<u64, Vec<usize>>,
}

/// A hash of a text, whether in capitals or not.
fn hash(text: &str) -> u64 {
    let mut hasher = FxHasher::default();
    text.chars().flat_map(char::to_lowercase).for_each(|c| hasher.write_u32(u32::from(c)));
    hasher.finish()
}

impl PageText {
    pub(crate) fn is_empty(&self) -> bool {
        self.words == 0
    }

    /// Whether it has so few words that another page may have the same by chance.
    pub(crate) fn is_short(&self) -> bool {
        self.words < MIN_WORDS
    }
}

impl TextReader {
    pub(crate) fn title(&mut self, more: &str) {
        self.text.title.push_str(more.trim());
    }

    pub(crate) fn heading(&mut self, heading: &str) {
        self.text.headings.push(hash(heading.trim()) as u32);
    }

    pub(crate) fn words(&mut self, more: &str) {
        let words = more.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
        for word in words.map(hash) {
            self.all.write_u64(word);
            self.text.words += 1;
            let is_whole = self.text.words >= SHINGLE && self.text.shingles.len() < MAX_SHINGLES;
            if is_whole {
                let mut hasher = FxHasher::default();
                self.before.iter().chain([&word]).for_each(|word| hasher.write_u64(*word));
                self.text.shingles.push(hasher.finish() as u32);
            }
            self.before.rotate_left(1);
            self.before[SHINGLE - 2] = word;
        }
    }

    pub(crate) fn finish(self) -> PageText {
        let mut text = self.text;
        text.all = self.all.finish();
        if text.shingles.is_empty() && text.words > 0 {
            text.shingles.push(text.all as u32);
        }
        for list in [&mut text.shingles, &mut text.headings] {
            list.sort_unstable();
            list.dedup();
            list.shrink_to_fit();
        }
        text
    }
}

impl<'t> PageIndex<'t> {
    pub(crate) fn of(texts: impl Iterator<Item = &'t PageText>) -> PageIndex<'t> {
        let texts: Vec<&PageText> = texts.collect();
        let mut by_text = HashMap::<u64, Vec<usize>>::new();
        let mut said = Vec::with_capacity(texts.iter().map(|text| text.shingles.len()).sum());
        for (number, text) in texts.iter().enumerate() {
            said.extend(text.shingles.iter().map(|one| (*one, number as u32)));
            by_text.entry(text.all).or_default().push(number);
        }
        said.sort_unstable();
        // What many pages say tells none of them apart.
        let most = (texts.len() / 4).max(8);
        let mut telling = vec![0; texts.len()];
        let mut kept = 0;
        let mut at = 0;
        while let Some((one, _)) = said.get(at) {
            let pages = said[at..].iter().take_while(|(other, _)| other == one).count();
            if pages <= most {
                said[at..at + pages].iter().for_each(|(_, page)| telling[*page as usize] += 1);
                said.copy_within(at..at + pages, kept);
                kept += pages;
            }
            at += pages;
        }
        said.truncate(kept);
        said.shrink_to_fit();
        PageIndex { texts, said, telling, by_text }
    }

    /// The pages with the same words.
    pub(crate) fn same(&self, text: &PageText) -> &[usize] {
        if text.is_empty() { &[] } else { self.by_text.get(&text.all).map_or(&[], Vec::as_slice) }
    }

    /// How alike a page is to one of these, from 0 to 1.
    pub(crate) fn alike(&self, text: &PageText, page: usize) -> f64 {
        let other = self.texts[page];
        let title = f64::from(u8::from(hash(&text.title) == hash(&other.title)));
        dice(&text.shingles, &other.shingles).max(0.5 * title)
    }

    /// The two pages that are most alike, the first with how alike, from 0 to 1.
    pub(crate) fn nearest(&self, text: &PageText) -> Vec<(usize, f64)> {
        let mut telling: Vec<(u32, &[(u32, u32)])> = Vec::with_capacity(text.shingles.len());
        for one in &text.shingles {
            let from = self.said.partition_point(|(known, _)| known < one);
            let pages = self.said[from..].iter().take_while(|(known, _)| known == one).count();
            if pages > 0 {
                telling.push((*one, &self.said[from..from + pages]));
            }
        }
        let own_telling: Vec<u32> = telling.iter().map(|(one, _)| *one).collect();
        telling.sort_by_key(|(_, pages)| pages.len());
        let mut counts: HashMap<u32, usize> = HashMap::new();
        for (_, page) in telling.iter().flat_map(|(_, pages)| *pages).take(MAX_COUNTED) {
            *counts.entry(*page).or_default() += 1;
        }
        let mut counts: Vec<(u32, usize)> = counts.into_iter().collect();
        counts.sort_unstable_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
        counts.truncate(MAX_COMPARED);
        let own = text.shingles.len().max(1) as f64;
        let title = hash(&text.title);
        let score = |(page, _): (u32, usize)| {
            let page = page as usize;
            let other = self.texts[page];
            let shared = common(&own_telling, &other.shingles) as f64;
            let alike = 2.0 * shared / (own + self.telling[page] as f64);
            // A page that went into a longer one is in it, whole.
            let within = 0.9 * shared / own;
            let headings = dice(&text.headings, &other.headings);
            let title = f64::from(u8::from(title == hash(&other.title)));
            (page, 0.75 * alike.max(within) + 0.15 * headings + 0.1 * title)
        };
        let mut scores: Vec<(usize, f64)> = counts.into_iter().map(score).collect();
        scores.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        scores.truncate(2);
        scores
    }
}

/// How much two sorted lists have in common, from 0 to 1; 1 where both are empty.
fn dice(one: &[u32], other: &[u32]) -> f64 {
    match one.len() + other.len() {
        0 => 1.0,
        all => 2.0 * common(one, other) as f64 / all as f64,
    }
}

/// How many values two sorted lists have in common.
fn common(one: &[u32], other: &[u32]) -> usize {
    let mut others = other.iter().peekable();
    let is_there = |value: &&u32| {
        while others.next_if(|other| other < value).is_some() {}
        others.next_if_eq(value).is_some()
    };
    one.iter().filter(is_there).count()
}
