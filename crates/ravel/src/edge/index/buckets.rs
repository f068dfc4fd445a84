use std::hash::Hasher;

use hashbrown::HashTable;
use rustc_hash::FxHasher;

/// Numbers of rules by a key that is not stored: each key is compared with that of the rule that came first under it.
///
/// Nearly every key has one rule, so a slot is that rule's number, or, with its high bit set, the number of a list. Five
/// bytes a rule: what is looked up at random among very many should fit into a near cache.
#[derive(Debug, Default)]
pub(super) struct Buckets {
    table: HashTable<u32>,
    lists: Vec<Vec<u32>>,
}

/// The bit of a slot that says that it is a list's.
const LIST: u32 = 1 << 31;

impl Buckets {
    /// Adds a rule under a key. `same` says whether a rule has that key, `hash_of` gives the hash of a rule's.
    pub(super) fn insert(&mut self, hash: u64, number: u32, same: impl Fn(u32) -> bool, hash_of: impl Fn(u32) -> u64) {
        let Buckets { table, lists } = self;
        if let Some(slot) = table.find_mut(hash, |slot| same(first(*slot, lists))) {
            if *slot & LIST == 0 {
                lists.push(vec![*slot]);
                *slot = LIST | (lists.len() - 1) as u32;
            }
            return lists[(*slot & !LIST) as usize].push(number);
        }
        table.insert_unique(hash, number, |slot| hash_of(first(*slot, lists)));
    }

    /// The rules under a key, in order.
    pub(super) fn find(&self, hash: u64, same: impl Fn(u32) -> bool) -> Found<'_> {
        match self.table.find(hash, |slot| same(first(*slot, &self.lists))) {
            None => Found::None,
            Some(slot) if slot & LIST == 0 => Found::One(*slot),
            Some(slot) => Found::Many(&self.lists[(slot & !LIST) as usize]),
        }
    }

    /// Makes room before the first rule comes.
    pub(super) fn reserve(&mut self, rules: usize) {
        debug_assert!(self.is_empty());
        self.table.reserve(rules, |_| 0);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.table.is_empty()
    }
}

fn first(slot: u32, lists: &[Vec<u32>]) -> u32 {
    if slot & LIST == 0 { slot } else { lists[(slot & !LIST) as usize][0] }
}

pub(super) enum Found<'i> {
    None,
    One(u32),
    Many(&'i [u32]),
}

/// Hashes texts one after another; with `fold`, as if in lower case.
#[inline]
pub(super) fn hash(seed: u64, text: &[u8], fold: bool) -> u64 {
    let mut hasher = FxHasher::default();
    hasher.write_u64(seed);
    match fold {
        true => text.iter().for_each(|byte| hasher.write_u8(byte.to_ascii_lowercase())),
        false => hasher.write(text),
    }
    hasher.finish()
}

/// Hashes two texts; where the first ends is part of the hash.
pub(super) fn hash_pair(seed: u64, [first, second]: [&[u8]; 2], fold: bool) -> u64 {
    let first = hash(seed, first, fold);
    if second.is_empty() { first } else { hash(first, second, fold) }
}

pub(super) fn same(a: &[u8], b: &[u8], fold: bool) -> bool {
    if fold { a.eq_ignore_ascii_case(b) } else { a == b }
}
