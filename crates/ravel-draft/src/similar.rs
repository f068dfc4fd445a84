//! How alike pages are: by their text, their headings and their title.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use crate::page::PageText;

/// Words that are compared together.
const SHINGLE: usize = 3;
/// Fewer words say little.
const MIN_WORDS: usize = 12;
/// More of a page are not compared.
const MAX_SHINGLES: usize = 4_000;

/// A page, as it is compared with others.
pub(crate) struct Sketch {
    shingles: Vec<u64>,
    headings: Vec<u64>,
    title: u64,
    all: u64,
    pub(crate) is_empty: bool,
    /// It has so few words that another page may have the same by chance.
    pub(crate) is_short: bool,
}

/// The pages of a site by what they say.
pub(crate) struct PageIndex {
    sketches: Vec<Sketch>,
    by_shingle: HashMap<u64, Vec<usize>>,
    by_text: HashMap<u64, Vec<usize>>,
}

fn hash(value: impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    value.hash(&mut hasher);
    hasher.finish()
}

impl Sketch {
    pub(crate) fn of(text: &PageText) -> Sketch {
        let mut shingles: Vec<u64> =
            text.words.windows(SHINGLE).take(MAX_SHINGLES).map(hash).collect();
        if shingles.is_empty() {
            shingles.extend(text.words.first().map(|_| hash(&text.words)));
        }
        let mut headings: Vec<u64> =
            text.headings.iter().map(|one| hash(one.to_lowercase())).collect();
        for list in [&mut shingles, &mut headings] {
            list.sort_unstable();
            list.dedup();
        }
        Sketch {
            shingles,
            headings,
            title: hash(text.title.to_lowercase()),
            all: hash(&text.words),
            is_empty: text.words.is_empty(),
            is_short: text.words.len() < MIN_WORDS,
        }
    }
}

impl PageIndex {
    pub(crate) fn of<'t>(texts: impl Iterator<Item = &'t PageText>) -> PageIndex {
        let sketches: Vec<Sketch> = texts.map(Sketch::of).collect();
        let (mut by_shingle, mut by_text) =
            (HashMap::<u64, Vec<usize>>::new(), HashMap::<u64, Vec<usize>>::new());
        for (number, sketch) in sketches.iter().enumerate() {
            sketch.shingles.iter().for_each(|one| by_shingle.entry(*one).or_default().push(number));
            by_text.entry(sketch.all).or_default().push(number);
        }
        // What many pages say tells none of them apart.
        let most = (sketches.len() / 4).max(8);
        by_shingle.retain(|_, pages| pages.len() <= most);
        PageIndex { sketches, by_shingle, by_text }
    }

    /// The pages with the same words.
    pub(crate) fn same(&self, sketch: &Sketch) -> &[usize] {
        if sketch.is_empty { &[] } else { self.by_text.get(&sketch.all).map_or(&[], Vec::as_slice) }
    }

    /// How alike a page is to one of these, from 0 to 1.
    pub(crate) fn alike(&self, sketch: &Sketch, page: usize) -> f64 {
        let other = &self.sketches[page];
        let title = f64::from(u8::from(sketch.title == other.title));
        dice(&sketch.shingles, &other.shingles).max(0.5 * title)
    }

    /// The two pages that are most alike, the first with how alike, from 0 to 1.
    pub(crate) fn nearest(&self, sketch: &Sketch) -> Vec<(usize, f64)> {
        let mut shared: HashMap<usize, usize> = HashMap::new();
        for shingle in &sketch.shingles {
            for page in self.by_shingle.get(shingle).into_iter().flatten() {
                *shared.entry(*page).or_default() += 1;
            }
        }
        let telling = |one: &Sketch| {
            one.shingles.iter().filter(|shingle| self.by_shingle.contains_key(shingle)).count()
        };
        let own = sketch.shingles.len().max(1) as f64;
        let score = |(page, shared): (usize, usize)| {
            let other = &self.sketches[page];
            let shared = shared as f64;
            let alike = 2.0 * shared / (own + telling(other) as f64);
            // A page that went into a longer one is in it, whole.
            let within = 0.9 * shared / own;
            let headings = dice(&sketch.headings, &other.headings);
            let title = f64::from(u8::from(sketch.title == other.title));
            (page, 0.75 * alike.max(within) + 0.15 * headings + 0.1 * title)
        };
        let mut scores: Vec<(usize, f64)> = shared.into_iter().map(score).collect();
        scores.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        scores.truncate(2);
        scores
    }
}

/// How much two sorted lists have in common, from 0 to 1; 1 where both are empty.
fn dice(one: &[u64], other: &[u64]) -> f64 {
    let shared = one.iter().filter(|value| other.binary_search(value).is_ok()).count();
    match one.len() + other.len() {
        0 => 1.0,
        all => 2.0 * shared as f64 / all as f64,
    }
}
