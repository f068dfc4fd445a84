//! Distinct texts with counts, in compact form: at most 64 bytes for each beyond the text.

use std::hash::BuildHasher;

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use smallvec::{SmallVec, smallvec};

/// Records are kept in blocks of so many bytes, so that none is moved; one that is longer has a block
/// of its own.
const BLOCK: usize = 64 * 1024;
/// Records begin at multiples of so many bytes, and are numbered by these.
const UNIT: usize = 8;
const UNITS: usize = BLOCK / UNIT;
/// The bytes of a record in front of its text.
const HEAD: usize = 24;

/// What is kept of a text, in front of it: what is looked at together is fetched together.
#[derive(Debug, Clone, Copy)]
struct Head {
    /// How often it came with `status`.
    count: u64,
    verdict: u32,
    /// The number of the next status + 1; 0 if there is none.
    more: u32,
    length: u32,
    status: u16,
}

impl Head {
    fn of(record: &[u8]) -> Head {
        let (head, _) = record.split_first_chunk::<HEAD>().expect("a record has a head");
        let word =
            |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        Head {
            count: u64::from(word(0)) | u64::from(word(4)) << 32,
            verdict: word(8),
            more: word(12),
            length: word(16),
            status: word(20) as u16,
        }
    }

    fn bytes(self) -> [u8; HEAD] {
        let mut head = [0; HEAD];
        head[..8].copy_from_slice(&self.count.to_le_bytes());
        let words = [self.verdict, self.more, self.length, u32::from(self.status)];
        for (place, word) in head[8..].chunks_exact_mut(4).zip(words) {
            place.copy_from_slice(&word.to_le_bytes());
        }
        head
    }
}

/// Another status of a text.
#[derive(Debug, Clone, Copy)]
struct More {
    count: u64,
    next: u32,
    status: u16,
}

/// Counts by status, 0 for one that is not known.
pub(super) type Counts = SmallVec<[(u16, u64); 4]>;

/// Distinct texts, each with a verdict and its counts by status.
#[derive(Debug)]
pub(super) struct Table {
    hasher: RandomState,
    /// Where records begin.
    places: HashTable<u32>,
    records: Vec<Vec<u8>>,
    more: Vec<Vec<More>>,
    /// Bytes of blocks.
    kept: usize,
    /// Bytes of texts.
    texts: usize,
}

impl Table {
    pub(super) fn new(hasher: RandomState) -> Table {
        let (places, records, more) = Default::default();
        Table { hasher, places, records, more, kept: 0, texts: 0 }
    }

    pub(super) fn len(&self) -> usize {
        self.places.len()
    }

    pub(super) fn hash(&self, text: &[u8]) -> u64 {
        self.hasher.hash_one(text)
    }

    /// Bytes that it takes, with what is kept for more.
    pub(super) fn bytes(&self) -> usize {
        // A byte for each place tells which are taken.
        let places = self.places.capacity() * 8 / 7 * (size_of::<u32>() + 1);
        self.kept + places
    }

    /// Bytes beyond the texts, for each.
    #[cfg(test)]
    fn overhead(&self) -> usize {
        (self.bytes() - self.texts) / self.len().max(1)
    }

    fn record(&self, place: u32) -> &[u8] {
        &self.records[place as usize / UNITS][place as usize % UNITS * UNIT..]
    }

    fn text(&self, place: u32) -> &[u8] {
        text(self.record(place))
    }

    pub(super) fn verdict(&self, place: u32) -> u32 {
        Head::of(self.record(place)).verdict
    }

    /// The verdict of a text, and its counts by status, if it is there.
    pub(super) fn get(&self, text: &[u8]) -> Option<(u32, Counts)> {
        let is_it = |place: &u32| self.text(*place) == text;
        let place = self.places.find(self.hash(text), is_it)?;
        let head = Head::of(self.record(*place));
        Some((head.verdict, self.counts(head)))
    }

    /// The places of texts with these hashes, if they are there. What is asked for at once is fetched
    /// from memory at once.
    pub(super) fn known<const N: usize>(&self, texts: [(&[u8], u64); N]) -> [Option<u32>; N] {
        let places = texts.map(|(_, hash)| self.places.find(hash, |_| true).copied());
        let records = places.map(|place| place.map(|place| self.record(place)));
        // Both ends are looked at for all of them before all is for one.
        let mut is_alike = [false; N];
        for (is_alike, (record, (text, _))) in is_alike.iter_mut().zip(records.iter().zip(texts)) {
            *is_alike = record.is_some_and(|record| {
                let length = Head::of(record).length as usize;
                length == text.len() && record[HEAD..][..length].last() == text.last()
            });
        }
        std::array::from_fn(|one| {
            let is_same = |record: &[u8]| record[HEAD..].starts_with(texts[one].0);
            places[one].filter(|_| is_alike[one] && records[one].is_some_and(is_same))
        })
    }

    /// The place of a text; `judge` gives its verdict if it is new.
    pub(super) fn place_of(
        &mut self,
        text: &[u8],
        hash_of: u64,
        judge: impl FnOnce() -> u32,
    ) -> u32 {
        let known = self.places.find(hash_of, |place| self.text(*place) == text).copied();
        if let Some(place) = known {
            return place;
        }
        let length = (HEAD + text.len()).next_multiple_of(UNIT);
        let is_full = |block: &Vec<u8>| block.len() + length > block.capacity();
        if self.records.last().is_none_or(is_full) {
            self.records.push(Vec::with_capacity(BLOCK.max(length)));
            self.kept += BLOCK.max(length);
        }
        let number = self.records.len() - 1;
        let block = &mut self.records[number];
        let at = block.len();
        let head =
            Head { count: 0, verdict: judge(), more: 0, length: text.len() as u32, status: 0 };
        block.extend_from_slice(&head.bytes());
        block.extend_from_slice(text);
        block.resize(at + length, 0);
        self.texts += text.len();
        let place = (number * UNITS + at / UNIT) as u32;
        let (records, hasher) = (&self.records, &self.hasher);
        let rehash = |place: &u32| {
            let (block, at) = (*place as usize / UNITS, *place as usize % UNITS * UNIT);
            hasher.hash_one(self::text(&records[block][at..]))
        };
        self.places.insert_unique(hash_of, place, rehash);
        place
    }

    /// Counts a text with a status.
    pub(super) fn add(&mut self, place: u32, status: u16, count: u64) {
        let at = place as usize % UNITS * UNIT;
        let record = &mut self.records[place as usize / UNITS][at..at + HEAD];
        let mut head = Head::of(record);
        if head.count == 0 {
            head.status = status;
        }
        if head.status == status {
            head.count = head.count.saturating_add(count);
            record.copy_from_slice(&head.bytes());
            return;
        }
        let mut next = head.more;
        while next != 0 {
            let more = &mut self.more[(next as usize - 1) / MORE][(next as usize - 1) % MORE];
            if more.status == status {
                more.count = more.count.saturating_add(count);
                return;
            }
            next = more.next;
        }
        if self.more.last().is_none_or(|block| block.len() == MORE) {
            self.more.push(Vec::with_capacity(MORE));
            self.kept += MORE * size_of::<More>();
        }
        let number = self.more.len() - 1;
        let block = &mut self.more[number];
        block.push(More { count, next: head.more, status });
        head.more = (number * MORE + block.len()) as u32;
        record.copy_from_slice(&head.bytes());
    }

    /// All texts in the order in which they came.
    pub(super) fn each(&self) -> impl Iterator<Item = (&[u8], u32, Counts)> {
        self.records.iter().flat_map(move |block| {
            let mut rest = &block[..];
            std::iter::from_fn(move || {
                let record = (!rest.is_empty()).then_some(rest)?;
                let head = Head::of(record);
                rest = &rest[(HEAD + head.length as usize).next_multiple_of(UNIT)..];
                Some((text(record), head.verdict, self.counts(head)))
            })
        })
    }

    fn counts(&self, head: Head) -> Counts {
        let mut counts = smallvec![(head.status, head.count)];
        let mut next = head.more as usize;
        while next != 0 {
            let more = &self.more[(next - 1) / MORE][(next - 1) % MORE];
            counts.push((more.status, more.count));
            next = more.next as usize;
        }
        counts.sort_unstable();
        counts
    }
}

/// Further statuses are kept in blocks of so many.
const MORE: usize = 512;

fn text(record: &[u8]) -> &[u8] {
    &record[HEAD..][..Head::of(record).length as usize]
}

#[cfg(test)]
mod tests {
    use std::hash::BuildHasher;

    use smallvec::smallvec;

    use super::{BLOCK, RandomState, Table};

    #[test]
    fn each_text_takes_at_most_64_bytes_more() {
        let hasher = RandomState::default();
        let mut table = Table::new(hasher.clone());
        let of = |number: u32| format!("GET /a/{number}").into_bytes();
        for number in 0..300_000_u32 {
            let text = of(number);
            let at = table.place_of(&text, hasher.hash_one(&text[..]), || number % 7);
            table.add(at, 200, 1);
            table.add(at, 404, u64::from(number));
            if number > 50_000 && number % 10_000 == 0 {
                assert!(table.overhead() <= 64, "{} at {number}", table.overhead());
            }
        }
        assert_eq!(table.len(), 300_000);
        for (number, (text, verdict, counts)) in (0..).zip(table.each()) {
            let counted = smallvec![(200, 1), (404, u64::from(number))];
            assert_eq!((text, verdict, counts), (&of(number)[..], number % 7, counted));
        }
    }

    #[test]
    fn texts_longer_than_a_block_are_found_again() {
        let hasher = RandomState::default();
        let mut table = Table::new(hasher.clone());
        let texts = [10, BLOCK, 1, 3 * BLOCK, 20].map(|length| vec![b'a'; length]);
        let hash = |text: &[u8]| hasher.hash_one(text);
        let places = texts.each_ref().map(|text| table.place_of(text, hash(text), || 1));
        let found = table.known(texts.each_ref().map(|text| (&text[..], hash(text))));
        assert_eq!(found, places.map(Some));
        assert!(table.each().map(|(text, ..)| text).eq(texts.iter()));
    }
}
