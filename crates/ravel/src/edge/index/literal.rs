//! The rules that one literal path has, by its hash.

use std::num::NonZeroU64;

use rustc_hash::FxHashMap;

use super::Candidates;
use super::buckets::{Buckets, hash, hash_pair, same};
use crate::address::{form_decode, parameters, path_hash};
use crate::program::Rule;
use crate::template::QueryTest;

/// Rules whose path is literal, by that path, and by a literal query value where they have one.
#[derive(Debug, Default)]
pub(super) struct Literals {
    /// Without a literal query value.
    free: Buckets,
    /// With one: path, key and value are the key.
    valued: Buckets,
    /// The query keys that stand with literal values below a path, by the path's hash.
    keys: FxHashMap<u64, Vec<Box<str>>>,
}

const VALUED: u64 = 1;

impl Literals {
    pub(super) fn reserve(&mut self, rules: usize) {
        self.free.reserve(rules);
    }

    pub(super) fn insert(&mut self, rules: &[Rule], number: u32, fold: bool) {
        let path_of = |number: u32| rules[number as usize].pattern.path.as_str().as_bytes();
        let path = path_of(number);
        let Some((key, value)) = literal_query(&rules[number as usize]) else {
            let same_path = |other: u32| same(path_of(other), path, fold);
            let hash_of = |other: u32| free_hash(path_of(other), fold);
            return self.free.insert(free_hash(path, fold), number, same_path, hash_of);
        };
        let path_hash = hash(VALUED, path, fold);
        let keys = self.keys.entry(path_hash).or_default();
        if !keys.iter().any(|known| **known == *key) {
            keys.push(key.into());
        }
        let same_key = |other: u32| {
            same(path_of(other), path, fold)
                && literal_query(&rules[other as usize]) == Some((key, value))
        };
        let valued = |(key, value): (&str, &str), path_hash| {
            hash_pair(path_hash, [key.as_bytes(), value.as_bytes()], false)
        };
        let hash_of = |other: u32| {
            let query = literal_query(&rules[other as usize]).unwrap_or_default();
            valued(query, hash(VALUED, path_of(other), fold))
        };
        self.valued.insert(valued((key, value), path_hash), number, same_key, hash_of);
    }

    /// Whether a rule could have this path, with any query.
    pub(super) fn has_path(&self, path: &str, fold: bool) -> bool {
        let mut found = Candidates::new();
        self.find((path, None), None, fold, &mut found);
        !found.is_empty()
            || (!self.keys.is_empty()
                && self.keys.contains_key(&hash(VALUED, path.as_bytes(), fold)))
    }

    /// One of the rules that may have this path, in this case of letters.
    pub(super) fn one(&self, path: &str, hash: Option<NonZeroU64>) -> Option<u32> {
        self.free.one(hash.map_or_else(|| path_hash(path.as_bytes()), NonZeroU64::get))
    }

    /// Whether rules want literal query values.
    pub(super) fn have_values(&self) -> bool {
        !self.valued.is_empty()
    }

    /// Adds the rules that could match a path, whose hash may be known already.
    pub(super) fn find(
        &self,
        (path, known): (&str, Option<NonZeroU64>),
        query: Option<&str>,
        fold: bool,
        found: &mut Candidates,
    ) {
        let path = path.as_bytes();
        if !self.free.is_empty() {
            let hash =
                known.filter(|_| !fold).map_or_else(|| free_hash(path, fold), NonZeroU64::get);
            self.free.find(hash, found);
        }
        let Some(query) = query.filter(|_| !self.valued.is_empty()) else { return };
        let path_hash = hash(VALUED, path, fold);
        let Some(keys) = self.keys.get(&path_hash) else { return };
        for (_, raw_key, raw_value) in parameters(query) {
            let decoded = form_decode(raw_key);
            let Some(key) = keys.iter().find(|key| key.as_bytes() == &*decoded) else { continue };
            let value = form_decode(raw_value.unwrap_or_default());
            self.valued.find(hash_pair(path_hash, [key.as_bytes(), &value], false), found);
        }
    }
}

fn free_hash(path: &[u8], fold: bool) -> u64 {
    if fold { hash(0, path, true) } else { path_hash(path) }
}

/// The first literal value that a rule wants of a query.
fn literal_query(rule: &Rule) -> Option<(&str, &str)> {
    rule.pattern.query().iter().find_map(|part| match &part.test {
        QueryTest::Text(value) => Some((&*part.key, &**value)),
        _ => None,
    })
}
