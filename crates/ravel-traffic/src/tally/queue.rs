//! Requests that wait for their shards: of many at once, more are found in the cache.

use super::SHARDS;
use crate::log::Day;

/// So many are enough.
const ENOUGH: usize = 1 << 15;

/// A request that came once, or more often.
#[derive(Debug)]
pub(super) struct Waiting<'b> {
    /// `METHOD URL`.
    pub(super) text: &'b [u8],
    pub(super) hash: u64,
    /// 0 where it is not known.
    pub(super) status: u16,
    pub(super) day: Option<Day>,
    /// What few requests have.
    pub(super) rare: Option<&'b Rare<'b>>,
}

/// What few requests have.
#[derive(Debug)]
pub(super) struct Rare<'b> {
    pub(super) count: u64,
    /// The text with the headers that the source has of the request, each behind a mark, if any.
    pub(super) with_headers: Option<&'b [u8]>,
}

impl Waiting<'_> {
    pub(super) fn count(&self) -> u64 {
        self.rare.map_or(1, |rare| rare.count)
    }

    pub(super) fn shard(&self) -> usize {
        shard_of(self.hash)
    }
}

/// The number of the shard for a text with a hash, of which tables use the other bits.
pub(super) fn shard_of(hash: u64) -> usize {
    (hash >> 32) as usize % SHARDS
}

/// Requests that wait for their shards.
#[derive(Debug)]
pub(super) struct Queue<'b> {
    shards: Vec<Vec<Waiting<'b>>>,
    waiting: usize,
}

impl<'b> Queue<'b> {
    /// With room for so many.
    pub(super) fn new(expected: usize) -> Queue<'b> {
        let each = expected.min(ENOUGH).div_ceil(SHARDS);
        Queue { shards: (0..SHARDS).map(|_| Vec::with_capacity(each)).collect(), waiting: 0 }
    }

    pub(super) fn push(&mut self, one: Waiting<'b>) {
        self.waiting += 1;
        self.shards[one.shard()].push(one);
    }

    pub(super) fn is_full(&self) -> bool {
        self.waiting >= ENOUGH
    }

    /// The number of each shard for which some wait, with these; first of one that others seldom begin
    /// with.
    pub(super) fn shards(&self) -> impl Iterator<Item = (usize, &[Waiting<'b>])> {
        let first = self.waiting % SHARDS;
        let numbers = (0..SHARDS).map(move |number| (first + number) % SHARDS);
        numbers
            .map(|number| (number, &self.shards[number][..]))
            .filter(|(_, some)| !some.is_empty())
    }

    pub(super) fn clear(&mut self) {
        self.shards.iter_mut().for_each(Vec::clear);
        self.waiting = 0;
    }
}
