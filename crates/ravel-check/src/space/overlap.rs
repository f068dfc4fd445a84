//! Which rules of a stage could have an address in common with a pattern, without asking each.
//!
//! Patterns that have an address in common agree on the text before the first expression of either,
//! so rules are sorted by that text: those that go on from the pattern's text are a range, those
//! that it goes on from are one look-up each.

use ravel::edge::Edge;
use ravel::program::Stage;
use ravel::template::{Pattern, Target};

/// The text that a rule's paths begin with, whether it is the whole path, and the rule's number.
type OverlapKey = (Box<str>, bool, u32);

/// The rules of a stage by the text that their paths begin with.
#[derive(Debug)]
pub(crate) struct Overlaps {
    sorted: Vec<OverlapKey>,
    base: Box<str>,
    fold: bool,
    /// The numbers of rules whose text has an empty segment.
    doubled: Vec<u32>,
}

impl Overlaps {
    pub(crate) fn new(edge: &Edge, stage: Stage) -> Overlaps {
        let site = edge.site();
        let mut overlaps = Overlaps {
            sorted: Vec::new(),
            base: site.open_base().into(),
            fold: site.ignore_case(),
            doubled: Vec::new(),
        };
        let rules = edge.program().stage(stage);
        overlaps.sorted = (0..)
            .zip(rules)
            .map(|(number, rule)| {
                let (text, whole) = overlaps.key(rule.pattern());
                (text, whole, number)
            })
            .collect();
        overlaps.sorted.sort_unstable();
        let doubled = overlaps.sorted.iter().filter(|(text, ..)| text.contains("//"));
        overlaps.doubled = doubled.map(|(.., number)| *number).collect();
        overlaps
    }

    /// The text before a pattern's first expression, below the base path, and whether that is all
    /// of it.
    fn key(&self, pattern: &Pattern) -> (Box<str>, bool) {
        self.key_of(
            pattern.path().literal_prefix(),
            pattern.path().is_literal(),
            pattern.origin().is_some(),
        )
    }

    fn key_of(&self, text: &str, whole: bool, from_root: bool) -> (Box<str>, bool) {
        let (text, whole) = match from_root {
            false => (text, whole),
            true => match text.strip_prefix(&*self.base) {
                Some(rest) => (rest, whole),
                // It could be below another base path, or its text ends before the base path does.
                None => ("", false),
            },
        };
        (if self.fold { text.to_ascii_lowercase().into() } else { text.into() }, whole)
    }

    /// The numbers of rules that could have an address in common with a pattern, in the order of
    /// the file.
    pub(crate) fn with(&self, pattern: &Pattern) -> Vec<u32> {
        self.with_key(self.key(pattern))
    }

    /// The numbers of rules that could match what a target leads to.
    pub(crate) fn with_target(&self, target: &Target) -> Vec<u32> {
        let path = target.path();
        self.with_key(self.key_of(
            path.literal_prefix(),
            path.is_literal(),
            target.origin().is_some(),
        ))
    }

    /// The numbers of rules that could match paths that begin with a text, or are it; `from_root`:
    /// whole paths, and not those below the base path.
    pub(crate) fn with_text(&self, text: &str, whole: bool, from_root: bool) -> Vec<u32> {
        self.with_key(self.key_of(text, whole, from_root))
    }

    /// The numbers of rules that could match paths that differ from these by empty segments, or by the
    /// case of letters: where a rule's text has none, such a path begins as one of these does.
    pub(crate) fn with_spellings<'p>(&self, paths: impl Iterator<Item = &'p str>) -> Vec<u32> {
        let mut found = self.doubled.clone();
        for path in paths {
            let (text, _) = self.key_of(path, true, false);
            self.visit(&text, true, |(_, whole, number)| {
                // The path itself is none of its other spellings.
                if self.fold || !whole {
                    found.push(*number);
                }
            });
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    /// The numbers of rules that could match a path below the base path.
    pub(crate) fn with_path(&self, path: &str) -> Vec<u32> {
        self.with_key(self.key_of(path, true, false))
    }

    fn with_key(&self, (text, whole): (Box<str>, bool)) -> Vec<u32> {
        let mut found = Vec::new();
        self.visit(&text, whole, |(.., number)| found.push(*number));
        found.sort_unstable();
        found
    }

    /// Shows the rules that could match paths that begin with a text, or are it.
    fn visit(&self, text: &str, whole: bool, mut see: impl FnMut(&OverlapKey)) {
        // The rules whose text begins as this one does, so far; the shortest come first.
        let mut range = &self.sorted[..];
        for (at, byte) in text.bytes().enumerate() {
            let longer = range.partition_point(|(key, ..)| key.len() == at);
            range[..longer].iter().filter(|(_, whole, _)| !whole).for_each(&mut see);
            range = &range[longer..];
            let next = |key: &str| key.as_bytes()[at];
            range = &range[range.partition_point(|(key, ..)| next(key) < byte)..];
            range = &range[..range.partition_point(|(key, ..)| next(key) == byte)];
            if range.is_empty() {
                return;
            }
        }
        let goes_on = |(key, ..): &&OverlapKey| !whole || key.len() == text.len();
        range.iter().filter(goes_on).for_each(see);
    }
}
