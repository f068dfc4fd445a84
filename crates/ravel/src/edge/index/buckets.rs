use std::hash::Hasher;

use rustc_hash::FxHasher;

/// Numbers of rules by a key that is not stored: each key is compared with that of the rule that came first under it.
///
/// An open table with linear probing. A slot holds 32 bits of the hash beside the number, so that a look-up mostly
/// touches one line of memory and a miss compares no text. Nearly every key has one rule; the others have a list.
#[derive(Debug, Default)]
pub(super) struct Buckets {
    /// A power of two of slots; 0 is empty.
    slots: Vec<u64>,
    used: usize,
    lists: Vec<Vec<u32>>,
}

/// The bit of a slot's number that says that it is a list's.
const LIST: u32 = 1 << 31;

impl Buckets {
    /// Adds a rule under a key; `same` says whether a rule has that key.
    pub(super) fn insert(&mut self, hash: u64, number: u32, same: impl Fn(u32) -> bool) {
        if (self.used + 1) * 5 > self.slots.len() * 3 {
            self.grow((self.slots.len() * 2).max(8));
        }
        let Some(at) = self.seek(hash, &same) else {
            let at = self.free(tag(hash));
            self.slots[at] = slot(tag(hash), number);
            self.used += 1;
            return;
        };
        let held = held(self.slots[at]);
        if held & LIST == 0 {
            self.slots[at] = slot(tag(hash), LIST | self.lists.len() as u32);
            self.lists.push(vec![held, number]);
        } else {
            self.lists[(held & !LIST) as usize].push(number);
        }
    }

    /// The rules under a key, in order.
    pub(super) fn find(&self, hash: u64, same: impl Fn(u32) -> bool) -> Found<'_> {
        match self.seek(hash, &same).map(|at| held(self.slots[at])) {
            None => Found::None,
            Some(held) if held & LIST == 0 => Found::One(held),
            Some(held) => Found::Many(&self.lists[(held & !LIST) as usize]),
        }
    }

    pub(super) fn reserve(&mut self, rules: usize) {
        let wanted = (rules * 5).div_ceil(3).next_power_of_two();
        if wanted > self.slots.len() {
            self.grow(wanted);
        }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.used == 0
    }

    fn seek(&self, hash: u64, same: &impl Fn(u32) -> bool) -> Option<usize> {
        let mask = self.slots.len().wrapping_sub(1);
        let tag = tag(hash);
        let mut at = tag as usize & mask;
        loop {
            let slot = *self.slots.get(at)?;
            if slot == 0 {
                return None;
            }
            if (slot >> 32) as u32 == tag && same(self.first(held(slot))) {
                return Some(at);
            }
            at = (at + 1) & mask;
        }
    }

    fn free(&self, tag: u32) -> usize {
        let mask = self.slots.len() - 1;
        let mut at = tag as usize & mask;
        while self.slots[at] != 0 {
            at = (at + 1) & mask;
        }
        at
    }

    fn grow(&mut self, slots: usize) {
        let old = std::mem::replace(&mut self.slots, vec![0; slots]);
        for slot in old.into_iter().filter(|slot| *slot != 0) {
            let at = self.free((slot >> 32) as u32);
            self.slots[at] = slot;
        }
    }

    fn first(&self, held: u32) -> u32 {
        if held & LIST == 0 { held } else { self.lists[(held & !LIST) as usize][0] }
    }
}

// The number is kept one higher, so that no slot in use is 0.
fn slot(tag: u32, held: u32) -> u64 {
    (u64::from(tag) << 32) | u64::from(held + 1)
}

fn held(slot: u64) -> u32 {
    slot as u32 - 1
}

fn tag(hash: u64) -> u32 {
    (hash >> 32) as u32
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
