//! What the words of a path say of the page that it names.

use std::collections::{BTreeMap, HashMap};

use url::Url;

use crate::candidate::{APART, Candidate, NEAR, SURE};

/// A name of fewer letters may be that of another page.
const MIN_NAME: usize = 7;
/// Of shorter words every letter counts.
const MIN_WORD: usize = 5;
/// Pages that are less alike are not one page, whatever their paths are.
const CONTRARY: f64 = 0.25;
/// Where pages are less alike, the words of their paths are not enough.
const HALF: f64 = 0.5;
/// Endings of pages, which say nothing of what they are about.
const ENDINGS: [&str; 8] = ["html", "htm", "xhtml", "shtml", "php", "asp", "aspx", "jsp"];

/// The words of new pages' paths, and how much each tells.
pub(crate) struct PathIndex {
    /// In order.
    words: Vec<Word>,
    /// How much the words of each page tell.
    sums: Vec<f64>,
    slugs: HashMap<String, Vec<usize>>,
    /// Of slugs without the number that they begin with.
    unnumbered: HashMap<String, Vec<usize>>,
}

/// A word of paths.
struct Word {
    text: String,
    count: usize,
    letters: Letters,
    weight: f64,
    pages: Vec<usize>,
}

impl PathIndex {
    pub(crate) fn of<'p>(paths: impl Iterator<Item = &'p str>) -> PathIndex {
        let (mut slugs, mut unnumbered): (HashMap<String, Vec<usize>>, HashMap<_, Vec<usize>>) =
            Default::default();
        let mut known: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        let mut sums = Vec::new();
        for (page, path) in paths.enumerate() {
            path_words(path).into_iter().for_each(|word| known.entry(word).or_default().push(page));
            let slug = slug(path);
            unnumbered.entry(without_number(&slug).to_owned()).or_default().push(page);
            slugs.entry(slug).or_default().push(page);
            sums.push(0.0);
        }
        let all = sums.len().max(1) as f64;
        let word = |(text, pages): (String, Vec<usize>)| {
            let weight = (1.0 + all / pages.len() as f64).ln();
            pages.iter().for_each(|page| sums[*page] += weight);
            Word { count: text.chars().count(), letters: Letters::of(&text), weight, pages, text }
        };
        let words = known.into_iter().map(word).collect();
        PathIndex { words, sums, slugs, unnumbered }
    }

    fn number(&self, word: &str) -> Option<usize> {
        self.words.binary_search_by(|known| (*known.text).cmp(word)).ok()
    }

    /// How alike the words of an old path and those of each page's path are, from 0 to 1.
    pub(crate) fn scores(&self, old: &[String]) -> Vec<f64> {
        // A word that no page has tells as much as the rarest.
        let most = (1.0 + self.sums.len() as f64).ln();
        let numbers: Vec<Option<usize>> = old.iter().map(|word| self.number(word)).collect();
        let told =
            numbers.iter().map(|at| at.map_or(most, |at| self.words[at].weight)).sum::<f64>();
        // What pages' words have of old ones, in the order of the words.
        let mut alike: BTreeMap<usize, Vec<(usize, f64)>> = BTreeMap::new();
        for (at, word) in old.iter().enumerate() {
            for (number, likeness) in self.alike(word) {
                alike.entry(number).or_default().push((at, likeness));
            }
        }
        let has = |page: usize, number: Option<usize>| {
            number.is_some_and(|at| self.words[at].pages.binary_search(&page).is_ok())
        };
        let mut shared = vec![0.0; self.sums.len()];
        for (number, of_old) in &alike {
            let word = &self.words[*number];
            let is_there = of_old.iter().any(|(at, _)| numbers[*at] == Some(*number));
            for page in &word.pages {
                // A word that is there itself stands for no other.
                let others = of_old.iter().filter(|(at, _)| !has(*page, numbers[*at]));
                let likeness = match is_there {
                    true => 1.0,
                    false => others.map(|(_, likeness)| *likeness).fold(0.0, f64::max),
                };
                shared[*page] += likeness * word.weight;
            }
        }
        let score = |(shared, told_new): (f64, &f64)| {
            2.0 * shared / (told + told_new).max(f64::MIN_POSITIVE)
        };
        shared.into_iter().zip(&self.sums).map(score).collect()
    }

    /// The words that say the same as one, or nearly, and how much, from 0 to 1: `order` and
    /// `ordering` do nearly.
    fn alike(&self, word: &str) -> Vec<(usize, f64)> {
        const MIN_STEM: usize = 4;
        let part = |short: usize, long: usize| short as f64 / long as f64;
        let stems = word.char_indices().map(|(at, _)| at).filter(|at| *at >= MIN_STEM);
        let mut alike: Vec<(usize, f64)> = stems
            .filter_map(|at| Some((self.number(&word[..at])?, part(at, word.len()))))
            .collect();
        let from = self.words.partition_point(|known| *known.text < *word);
        let longer = self.words[from..].iter().take_while(|known| known.text.starts_with(word));
        for (number, known) in (from..).zip(longer) {
            if known.text == word || word.len() >= MIN_STEM {
                alike.push((number, part(word.len(), known.text.len())));
            }
        }
        alike
    }

    /// Words that no page has as the one that they were meant for, if it is but a letter or two.
    fn corrected(&self, words: Vec<String>) -> Vec<String> {
        let nearest = |word: &String, count: usize| {
            let most = count.saturating_sub(MIN_WORD) / 4 + 1;
            let letters = Letters::of(word);
            let is_near = |known: &&Word| {
                known.text.len().abs_diff(word.len()) <= most
                    && known.count >= MIN_WORD
                    && known.letters.may_be_within(letters, most)
            };
            let known = self.words.iter().filter(is_near).map(|known| &known.text);
            known
                .map(|known| (strsim::osa_distance(known, word), known))
                .filter(|(distance, _)| *distance <= most)
                .min()
                .map(|(_, known)| known.clone())
        };
        let correct = |word: String| {
            let count = word.chars().count();
            let is_open = count >= MIN_WORD
                && self.number(&word).is_none()
                && word.chars().all(char::is_alphabetic);
            if is_open { nearest(&word, count).unwrap_or(word) } else { word }
        };
        words.into_iter().map(correct).collect()
    }

    /// The page whose path is most alike, for a path of which the last name is, or is not, that of
    /// one old page; `alike` says how alike what the page has is, from 0 to 1.
    pub(crate) fn find(
        &self,
        path: &str,
        is_alone: bool,
        alike: impl Fn(usize) -> f64,
    ) -> Option<Candidate> {
        let (slug, words) = (slug(path), self.corrected(path_words(path)));
        let contradicts = |page: usize| alike(page) < CONTRARY;
        let bounded =
            |page: usize, score: f64| if contradicts(page) { score.min(NEAR - 0.1) } else { score };
        let found =
            |page: usize, score: f64, why| Some(Candidate::new(page, bounded(page, score), why));
        let letters = slug.chars().filter(|c| c.is_alphabetic()).count();
        if let Some([only]) = self.slugs.get(&slug).map(Vec::as_slice)
            && slug.len() > 3
            && (is_alone || !contradicts(*only))
        {
            let is_telling = letters >= MIN_NAME || self.scores(&words)[*only] >= SURE;
            let score = if is_telling && is_alone { 0.85 } else { SURE - 0.03 };
            return found(*only, score, "the only page of that name");
        }
        let bare = without_number(&slug);
        if let Some([only]) = self.unnumbered.get(bare).map(Vec::as_slice)
            && letters >= MIN_NAME
            && is_alone
        {
            return found(*only, NEAR - 0.01, "the only page of that name, but for a number");
        }
        let corrected = self.corrected(slug.split('-').map(str::to_owned).collect()).join("-");
        if corrected != slug
            && let Some([only]) = self.slugs.get(&corrected).map(Vec::as_slice)
        {
            return found(*only, NEAR - 0.01, "the only page of nearly that name");
        }
        let mut scores: Vec<(usize, f64)> = self.scores(&words).into_iter().enumerate().collect();
        let by_score = |a: &(usize, f64), b: &(usize, f64)| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0));
        if scores.len() > 2 {
            scores.select_nth_unstable_by(1, by_score);
            scores.truncate(2);
        }
        scores.sort_by(by_score);
        match scores.as_slice() {
            [(page, score), (_, next), ..] if score - next < APART => {
                let score = bounded(*page, *score);
                Some(Candidate::tied(*page, score, "two paths are as alike"))
            }
            // Words alone are never as sure as what pages say, and not at all where these differ.
            [(page, score), ..] => {
                let most = if alike(*page) < HALF { SURE - 0.01 } else { 1.0 };
                found(*page, (score * 0.9).min(most), "words of the path")
            }
            [] => None,
        }
    }
}

/// Which letters a word has, by their last bits.
#[derive(Clone, Copy)]
struct Letters(u64);

impl Letters {
    fn of(word: &str) -> Letters {
        Letters(word.chars().fold(0, |all, letter| all | 1 << (u32::from(letter) % u64::BITS)))
    }

    /// Whether so many changes could make one word of the other; each adds a letter and takes one
    /// away, at most.
    fn may_be_within(self, other: Letters, changes: usize) -> bool {
        (self.0 ^ other.0).count_ones() as usize <= 2 * changes
    }
}

/// The last name of a path that is no `index`, as words.
pub(crate) fn slug(path: &str) -> String {
    let stem = stem(path);
    let last = stem.rsplit('/').next().unwrap_or_default();
    words_of(last).collect::<Vec<_>>().join("-")
}

/// A slug without the short number that it begins with, which puts pages in order.
fn without_number(slug: &str) -> &str {
    let is_number = |word: &str| word.len() < 4 && word.bytes().all(|byte| byte.is_ascii_digit());
    slug.split_once('-').filter(|(first, _)| is_number(first)).map_or(slug, |(_, rest)| rest)
}

/// The words of all names of a path.
pub(crate) fn path_words(path: &str) -> Vec<String> {
    let decoded = Url::parse(&format!("https://h.example{path}"))
        .map_or(path.to_owned(), |url| url.path().to_owned());
    let mut words: Vec<String> = words_of(stem(&decoded)).collect();
    // A word that is there twice tells as much as once.
    words.sort_unstable();
    words.dedup();
    words
}

/// A path without the ending of a page, or the name of an index.
fn stem(path: &str) -> &str {
    let path = path.trim_end_matches('/');
    let ending = path.rsplit_once('.').filter(|(_, ending)| ENDINGS.contains(ending));
    let stem = ending.map_or(path, |(stem, _)| stem);
    stem.strip_suffix("/index").unwrap_or(stem)
}

/// Words, also of names that begin each with a capital.
fn words_of(text: &str) -> impl Iterator<Item = String> {
    let mut spaced = String::with_capacity(text.len());
    let mut was_small = false;
    for c in text.chars() {
        if was_small && c.is_uppercase() {
            spaced.push(' ');
        }
        was_small = c.is_lowercase();
        spaced.push(c);
    }
    let words = spaced.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
    words.map(str::to_lowercase).collect::<Vec<_>>().into_iter()
}
