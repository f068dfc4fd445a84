//! What the words of a path say of the page that it names.

use std::collections::HashMap;

use url::Url;

use crate::candidate::{APART, Candidate, NEAR, SURE};
use crate::page::words;

/// A name of fewer letters may be that of another page.
const MIN_NAME: usize = 7;
/// Of shorter words every letter counts.
const MIN_WORD: usize = 5;
/// Endings of pages, which say nothing of what they are about.
const ENDINGS: [&str; 8] = ["html", "htm", "xhtml", "shtml", "php", "asp", "aspx", "jsp"];

/// The words of new pages' paths, and how much each tells.
pub(crate) struct PathIndex {
    words: Vec<Vec<String>>,
    slugs: HashMap<String, Vec<usize>>,
    /// Of slugs without the number that they begin with.
    unnumbered: HashMap<String, Vec<usize>>,
    weights: HashMap<String, f64>,
}

impl PathIndex {
    pub(crate) fn of<'p>(paths: impl Iterator<Item = &'p str>) -> PathIndex {
        let mut index = PathIndex {
            words: Vec::new(),
            slugs: HashMap::new(),
            unnumbered: HashMap::new(),
            weights: HashMap::new(),
        };
        let mut counts: HashMap<String, usize> = HashMap::new();
        for (number, path) in paths.enumerate() {
            let words = path_words(path);
            words.iter().for_each(|word| *counts.entry(word.clone()).or_default() += 1);
            index.words.push(words);
            let slug = slug(path);
            index.unnumbered.entry(without_number(&slug).to_owned()).or_default().push(number);
            index.slugs.entry(slug).or_default().push(number);
        }
        let all = index.words.len().max(1) as f64;
        let weight = |(word, count): (String, usize)| (word, (1.0 + all / count as f64).ln());
        index.weights = counts.into_iter().map(weight).collect();
        index
    }

    /// How alike the words of an old path and those of a page's path are, from 0 to 1.
    pub(crate) fn score(&self, old: &[String], page: usize) -> f64 {
        let new = &self.words[page];
        // A word that no page has tells as much as the rarest.
        let most = (1.0 + self.words.len() as f64).ln();
        let weight = |word: &String| self.weights.get(word).copied().unwrap_or(most);
        let sum = |words: &[String]| words.iter().map(&weight).sum::<f64>();
        // A word that is there itself stands for no other.
        let others: Vec<&String> = old.iter().filter(|word| !new.contains(word)).collect();
        let shared = |word: &String| match old.contains(word) {
            true => weight(word),
            false => {
                others.iter().map(|known| likeness(word, known)).fold(0.0, f64::max) * weight(word)
            }
        };
        let shared: f64 = new.iter().map(shared).sum();
        2.0 * shared / (sum(old) + sum(new)).max(f64::MIN_POSITIVE)
    }

    /// Words that no page has as the one that they were meant for, if it is but a letter or two.
    fn corrected(&self, words: Vec<String>) -> Vec<String> {
        let nearest = |word: &String| {
            let most = word.chars().count().saturating_sub(MIN_WORD) / 4 + 1;
            let known = self.weights.keys().filter(|known| {
                known.len().abs_diff(word.len()) <= most && known.chars().count() >= MIN_WORD
            });
            known
                .map(|known| (strsim::osa_distance(known, word), known))
                .filter(|(distance, _)| *distance <= most)
                .min()
                .map(|(_, known)| known.clone())
        };
        let is_open = |word: &String| {
            word.chars().count() >= MIN_WORD
                && !self.weights.contains_key(word)
                && word.chars().all(char::is_alphabetic)
        };
        let correct = |word: String| match is_open(&word) {
            true => nearest(&word).unwrap_or(word),
            false => word,
        };
        words.into_iter().map(correct).collect()
    }

    /// The page whose path is most alike, for a path of which the last name is, or is not, that of
    /// one old page; `contradicts` says that what the page has is something else.
    pub(crate) fn find(
        &self,
        path: &str,
        is_alone: bool,
        contradicts: impl Fn(usize) -> bool,
    ) -> Option<Candidate> {
        let (slug, words) = (slug(path), self.corrected(path_words(path)));
        let found = |page: usize, score: f64, why| {
            let score = if contradicts(page) { score.min(NEAR - 0.1) } else { score };
            Some(Candidate { page, score, why })
        };
        let letters = slug.chars().filter(|c| c.is_alphabetic()).count();
        if let Some([only]) = self.slugs.get(&slug).map(Vec::as_slice)
            && slug.len() > 3
            && (is_alone || !contradicts(*only))
        {
            let is_telling = letters >= MIN_NAME || self.score(&words, *only) >= SURE;
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
        let mut scores: Vec<(usize, f64)> =
            (0..self.words.len()).map(|page| (page, self.score(&words, page))).collect();
        scores.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        match scores.as_slice() {
            [(page, score), (_, next), ..] if score - next < APART => {
                found(*page, score.min(SURE - 0.01), "two paths are as alike")
            }
            // Words alone are never as sure as what pages say.
            [(page, score), ..] => found(*page, score * 0.9, "words of the path"),
            [] => None,
        }
    }
}

/// How much two words say the same, from 0 to 1: `order` and `ordering` do nearly.
fn likeness(one: &str, other: &str) -> f64 {
    const MIN_STEM: usize = 4;
    if one == other {
        return 1.0;
    }
    let (short, long) = if one.len() < other.len() { (one, other) } else { (other, one) };
    let is_stem = short.len() >= MIN_STEM && long.starts_with(short);
    if is_stem { short.len() as f64 / long.len() as f64 } else { 0.0 }
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
    words(&spaced).collect::<Vec<_>>().into_iter()
}
