//! Distinct texts with counts, in compact form: at most 64 bytes for each beyond the text.

use std::hash::BuildHasher;

use foldhash::fast::RandomState;
use hashbrown::HashTable;

/// Texts are kept in blocks of so many bytes.
const BLOCK: usize = 64 * 1024;
/// Entries are kept in blocks of so many, so that none is moved.
const ENTRIES: usize = 512;

/// A text, with how often it came with each status.
#[derive(Debug, Clone, Copy)]
struct Entry {
    count: u64,
    block: u32,
    at: u32,
    length: u32,
    verdict: u32,
    /// The number of the next status, and its place + 1.
    more: u32,
    status: u16,
}

#[derive(Debug, Clone, Copy)]
struct More {
    count: u64,
    next: u32,
    status: u16,
}

/// A list that grows without a copy, and never has much more room than it needs.
#[derive(Debug)]
struct Blocks<T>(Vec<Vec<T>>);

impl<T> Blocks<T> {
    fn new() -> Blocks<T> {
        Blocks(Vec::new())
    }

    /// Adds one, and gives its number.
    fn push(&mut self, one: T) -> u32 {
        if self.0.last().is_none_or(|block| block.len() == ENTRIES) {
            self.0.push(Vec::with_capacity(ENTRIES));
        }
        let blocks = self.0.len();
        let block = &mut self.0[blocks - 1];
        block.push(one);
        ((blocks - 1) * ENTRIES + block.len() - 1) as u32
    }

    fn get(&self, number: u32) -> &T {
        &self.0[number as usize / ENTRIES][number as usize % ENTRIES]
    }

    fn get_mut(&mut self, number: u32) -> &mut T {
        &mut self.0[number as usize / ENTRIES][number as usize % ENTRIES]
    }

    fn bytes(&self) -> usize {
        self.0.len() * ENTRIES * size_of::<T>()
    }
}

/// Distinct texts, each with a verdict and its counts by status.
#[derive(Debug)]
pub(super) struct Table {
    hasher: RandomState,
    places: HashTable<u32>,
    entries: Blocks<Entry>,
    more: Blocks<More>,
    blocks: Vec<Vec<u8>>,
    /// Bytes of texts.
    texts: usize,
}

impl Table {
    pub(super) fn new(hasher: RandomState) -> Table {
        Table {
            hasher,
            places: HashTable::new(),
            entries: Blocks::new(),
            more: Blocks::new(),
            blocks: Vec::new(),
            texts: 0,
        }
    }

    pub(super) fn len(&self) -> usize {
        self.places.len()
    }

    /// Bytes that it takes, with what is kept for more.
    pub(super) fn bytes(&self) -> usize {
        let blocks: usize = self.blocks.iter().map(Vec::capacity).sum();
        // A byte for each place tells which are taken.
        let places = self.places.capacity() * 8 / 7 * (size_of::<u32>() + 1);
        blocks + places + self.entries.bytes() + self.more.bytes()
    }

    /// Bytes beyond the texts, for each.
    #[cfg(test)]
    fn overhead(&self) -> usize {
        (self.bytes() - self.texts) / self.len().max(1)
    }

    fn entry(&self, number: u32) -> &Entry {
        self.entries.get(number)
    }

    pub(super) fn text(&self, number: u32) -> &[u8] {
        let entry = self.entry(number);
        &self.blocks[entry.block as usize][entry.at as usize..][..entry.length as usize]
    }

    pub(super) fn verdict(&self, number: u32) -> u32 {
        self.entry(number).verdict
    }

    /// The numbers of texts with these hashes, of which some may be other texts, and whether they
    /// are there. What is asked for at once is fetched from memory at once.
    pub(super) fn known<const N: usize>(&self, texts: [(&[u8], u64); N]) -> [Option<u32>; N] {
        let numbers = texts.map(|(_, hash)| self.places.find(hash, |_| true).copied());
        let places = numbers.map(|number| number.map(|number| self.entry(number)));
        let is_same = |place: Option<&Entry>, text: &[u8]| {
            place.is_some_and(|entry| {
                let (at, length) = (entry.at as usize, entry.length as usize);
                self.blocks[entry.block as usize][at..at + length] == *text
            })
        };
        std::array::from_fn(|one| numbers[one].filter(|_| is_same(places[one], texts[one].0)))
    }

    /// The number of a text; `judge` gives its verdict if it is new.
    pub(super) fn number_of(
        &mut self,
        text: &[u8],
        hash_of: u64,
        judge: impl FnOnce() -> u32,
    ) -> u32 {
        let known = self.places.find(hash_of, |number| self.text(*number) == text).copied();
        if let Some(number) = known {
            return number;
        }
        let number = self.places.len() as u32;
        let is_full = |block: &Vec<u8>| block.len() + text.len() > block.capacity();
        if self.blocks.last().is_none_or(is_full) {
            self.blocks.push(Vec::with_capacity(BLOCK.max(text.len())));
        }
        let block = self.blocks.len() as u32 - 1;
        let bytes = self.blocks.last_mut().expect("one was added");
        let at = bytes.len() as u32;
        bytes.extend_from_slice(text);
        self.texts += text.len();
        let length = text.len() as u32;
        let entry = Entry { count: 0, block, at, length, verdict: judge(), more: 0, status: 0 };
        self.entries.push(entry);
        let (entries, blocks, hasher) = (&self.entries, &self.blocks, &self.hasher);
        let rehash = |number: &u32| {
            let entry = entries.get(*number);
            hasher.hash_one(
                &blocks[entry.block as usize][entry.at as usize..][..entry.length as usize],
            )
        };
        self.places.insert_unique(hash_of, number, rehash);
        number
    }

    /// Counts a text with a status.
    pub(super) fn add(&mut self, number: u32, status: u16, count: u64) {
        let entry = self.entries.get_mut(number);
        if entry.count == 0 {
            entry.status = status;
        }
        if entry.status == status {
            entry.count = entry.count.saturating_add(count);
            return;
        }
        let mut place = entry.more;
        while place != 0 {
            let more = self.more.get_mut(place - 1);
            if more.status == status {
                more.count = more.count.saturating_add(count);
                return;
            }
            place = more.next;
        }
        entry.more = self.more.push(More { count, next: entry.more, status }) + 1;
    }

    /// The counts of a text by status, 0 for one that is not known.
    pub(super) fn counts(&self, number: u32) -> Vec<(u16, u64)> {
        let entry = self.entry(number);
        let mut counts = vec![(entry.status, entry.count)];
        let mut place = entry.more;
        while place != 0 {
            let more = self.more.get(place - 1);
            counts.push((more.status, more.count));
            place = more.next;
        }
        counts.sort_unstable();
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::{BuildHasher, RandomState, Table};

    #[test]
    fn each_text_takes_at_most_64_bytes_more() {
        let hasher = RandomState::default();
        let mut table = Table::new(hasher.clone());
        let of = |number: u32| format!("GET /a/{number}").into_bytes();
        for number in 0..300_000_u32 {
            let text = of(number);
            let at = table.number_of(&text, hasher.hash_one(&text[..]), || number % 7);
            table.add(at, 200, 1);
            table.add(at, 404, u64::from(number));
            if number > 50_000 && number % 10_000 == 0 {
                assert!(table.overhead() <= 64, "{} at {number}", table.overhead());
            }
        }
        let last = of(299_999);
        let at = table.number_of(&last, hasher.hash_one(&last[..]), || unreachable!());
        assert_eq!((table.len(), table.counts(at)), (300_000, vec![(200, 1), (404, 299_999)]));
        assert_eq!((table.text(at), table.verdict(at)), (&last[..], 299_999 % 7));
    }
}
