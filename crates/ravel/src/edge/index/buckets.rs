//! A hash table whose buckets are cache lines, so that a look-up waits for memory once.

use std::hash::Hasher;

use rustc_hash::FxHasher;

use super::Candidates;

/// Numbers of rules by a key that is not stored. What is found for a key may be another's: rules
/// are held against what is asked anyway.
///
/// A look-up among very many rules waits for memory, so mostly one cache line says that a path has
/// no rule, or which one.
#[derive(Debug, Default)]
pub(super) struct Buckets {
    lines: Vec<CacheLine>,
    keys: usize,
    lists: Vec<Vec<u32>>,
}

/// A cache line with the keys whose hash leads there; those that find no place in it stand in the
/// next.
#[derive(Debug, Clone, Default)]
#[repr(align(64))]
struct CacheLine {
    /// A part of each key's hash.
    tags: [u16; PLACES],
    taken: u8,
    /// Whether a key that belongs here stands in a later line.
    overflowed: bool,
    /// What each key leads to. Nearly every key has one rule, so this is its number; with the high
    /// bit set that of a list.
    slots: [u32; PLACES],
}

const PLACES: usize = 8;
/// So many places of a line are taken in the mean, when all keys are there.
const MEAN_PLACES: usize = 5;
/// The bit of a slot that says that it leads to a list.
const LIST: u32 = 1 << 31;

impl Buckets {
    /// Adds a rule under a key. `same` says whether a rule has that key, `hash_of` gives the hash
    /// of a rule's.
    pub(super) fn insert(
        &mut self,
        hash: u64,
        number: u32,
        same: impl Fn(u32) -> bool,
        hash_of: impl Fn(u32) -> u64,
    ) {
        let mut known = None;
        self.places(hash, |line, at| {
            if same(self.first(self.lines[line].slots[at])) {
                known = Some((line, at));
            }
        });
        if let Some((line, at)) = known {
            let slot = &mut self.lines[line].slots[at];
            if *slot & LIST == 0 {
                self.lists.push(vec![*slot]);
                *slot = LIST | (self.lists.len() - 1) as u32;
            }
            return self.lists[(*slot & !LIST) as usize].push(number);
        }
        if self.keys >= self.lines.len() * MEAN_PLACES {
            let old = std::mem::take(&mut self.lines);
            self.make_room((self.keys * 2).max(MEAN_PLACES));
            for slot in old.iter().flat_map(|line| &line.slots[..line.taken.into()]) {
                self.put(hash_of(self.first(*slot)), *slot);
            }
        }
        self.put(hash, number);
        self.keys += 1;
    }

    /// Adds the rules under a key, and perhaps others.
    pub(super) fn find(&self, hash: u64, found: &mut Candidates) {
        self.places(hash, |line, at| match self.lines[line].slots[at] {
            number if number & LIST == 0 => found.push(number),
            list => found.extend_from_slice(&self.lists[(list & !LIST) as usize]),
        });
    }

    /// The first rule under a key, or another.
    pub(super) fn one(&self, hash: u64) -> Option<u32> {
        let mut found = None;
        self.places(hash, |line, at| {
            found = found.or(Some(self.first(self.lines[line].slots[at])))
        });
        found
    }

    /// Makes room before the first rule comes.
    pub(super) fn reserve(&mut self, rules: usize) {
        debug_assert!(self.is_empty());
        self.make_room(rules);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.keys == 0
    }

    fn make_room(&mut self, keys: usize) {
        self.lines = vec![CacheLine::default(); keys.div_ceil(MEAN_PLACES)];
    }

    /// Where a key could stand: which lines, and at which places.
    #[inline]
    fn places(&self, hash: u64, mut each: impl FnMut(usize, usize)) {
        let mut number = self.home(hash);
        while let Some(line) = self.lines.get(number) {
            let mut alike = line.alike(tag(hash));
            while alike != 0 {
                each(number, alike.trailing_zeros() as usize);
                alike &= alike - 1;
            }
            if !line.overflowed {
                return;
            }
            number = self.after(number);
        }
    }

    fn put(&mut self, hash: u64, slot: u32) {
        let mut number = self.home(hash);
        while usize::from(self.lines[number].taken) == PLACES {
            self.lines[number].overflowed = true;
            number = self.after(number);
        }
        let line = &mut self.lines[number];
        let at = usize::from(line.taken);
        (line.tags[at], line.slots[at], line.taken) = (tag(hash), slot, line.taken + 1);
    }

    /// The line that a hash leads to. All its bits are mixed into the high ones, which choose the
    /// line.
    fn home(&self, hash: u64) -> usize {
        let mixed = hash.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        ((u128::from(mixed) * self.lines.len() as u128) >> 64) as usize
    }

    fn after(&self, line: usize) -> usize {
        if line + 1 == self.lines.len() { 0 } else { line + 1 }
    }

    /// The first rule of a slot.
    fn first(&self, slot: u32) -> u32 {
        if slot & LIST == 0 { slot } else { self.lists[(slot & !LIST) as usize][0] }
    }
}

impl CacheLine {
    /// The places with this tag, a bit each.
    #[inline]
    fn alike(&self, tag: u16) -> u32 {
        const BITS: [u16; PLACES] = [1, 2, 4, 8, 16, 32, 64, 128];
        // In this form compilers compare all at once.
        let bits: [u16; PLACES] =
            std::array::from_fn(|at| if self.tags[at] == tag { BITS[at] } else { 0 });
        u32::from(bits.iter().sum::<u16>()) & ((1 << self.taken) - 1)
    }
}

fn tag(hash: u64) -> u16 {
    (hash >> 16) as u16
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
