//! A part of a tally: the requests whose texts have some of the hashes.

use std::collections::BTreeMap;
use std::hash::BuildHasher;

use foldhash::fast::RandomState;
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::table::Table;
use super::verdict::{Ending, Judge, Verdict};
use crate::log::Day;

/// A request that came so often.
pub(super) struct Counted<'t> {
    /// `METHOD URL`.
    pub(super) text: &'t [u8],
    /// The headers that the source has of it, each behind a mark.
    pub(super) headers: &'t [u8],
    pub(super) hash: u64,
    pub(super) status: u16,
    pub(super) day: Option<Day>,
    pub(super) count: u64,
}

/// So many are looked up at once.
const BATCH: usize = 16;

/// A part of a tally.
#[derive(Debug)]
pub(super) struct Shard {
    table: Table,
    verdicts: Vec<Verdict>,
    known: FxHashMap<Verdict, u32>,
    days: BTreeMap<Day, [u64; Ending::ALL.len()]>,
    /// The day of the request before, with its counts, which go to `days` when another comes.
    today: Option<(Day, [u64; Ending::ALL.len()])>,
}

impl Shard {
    pub(super) fn new(hasher: RandomState) -> Shard {
        Shard {
            table: Table::new(hasher),
            verdicts: Vec::new(),
            known: FxHashMap::default(),
            days: BTreeMap::new(),
            today: None,
        }
    }

    pub(super) fn len(&self) -> usize {
        self.table.len()
    }

    pub(super) fn bytes(&self) -> usize {
        self.table.bytes()
    }

    /// Counts requests, some at once.
    pub(super) fn count_all<'t>(
        &mut self,
        counted: impl Iterator<Item = Counted<'t>>,
        judge: &Judge<'_>,
        hasher: &RandomState,
    ) {
        let mut counted = counted;
        loop {
            let batch: SmallVec<[Counted<'t>; BATCH]> = counted.by_ref().take(BATCH).collect();
            let Some(last) = batch.last() else { return };
            let texts = std::array::from_fn(|one| {
                let one = batch.get(one).unwrap_or(last);
                (one.text, one.hash)
            });
            let known = self.table.known::<BATCH>(texts);
            for (one, known) in batch.iter().zip(known) {
                self.count(one, known, judge, hasher);
            }
        }
    }

    fn count(
        &mut self,
        one: &Counted<'_>,
        known: Option<u32>,
        judge: &Judge<'_>,
        hasher: &RandomState,
    ) {
        let mut number = known.unwrap_or_else(|| self.number_of(one.text, one.hash, judge));
        if !one.headers.is_empty() && self.verdict(number).ending == Ending::Depends {
            // With what the source has of it, it may be decided.
            let text = [one.text, one.headers].concat();
            number = self.number_of(&text, hasher.hash_one(&text[..]), judge);
        }
        self.table.add(number, one.status, one.count);
        if let Some(day) = one.day {
            let ending = self.verdict(number).ending as usize;
            if self.today.is_none_or(|(today, _)| today != day) {
                self.end_day();
                self.today = Some((day, [0; Ending::ALL.len()]));
            }
            if let Some((_, counts)) = &mut self.today {
                counts[ending] += one.count;
            }
        }
    }

    fn number_of(&mut self, text: &[u8], hash: u64, judge: &Judge<'_>) -> u32 {
        let (verdicts, known) = (&mut self.verdicts, &mut self.known);
        self.table.number_of(text, hash, || {
            let verdict = judge.verdict(&String::from_utf8_lossy(text));
            *known.entry(verdict).or_insert_with_key(|verdict| {
                verdicts.push(verdict.clone());
                verdicts.len() as u32 - 1
            })
        })
    }

    fn verdict(&self, number: u32) -> &Verdict {
        &self.verdicts[self.table.verdict(number) as usize]
    }

    fn end_day(&mut self) {
        if let Some((day, counts)) = self.today.take() {
            let known = self.days.entry(day).or_default();
            known.iter_mut().zip(counts).for_each(|(known, count)| *known += count);
        }
    }

    /// The requests of each day by how they end.
    pub(super) fn days(&mut self) -> &BTreeMap<Day, [u64; Ending::ALL.len()]> {
        self.end_day();
        &self.days
    }

    /// Each distinct request, with its verdict and its counts by status.
    pub(super) fn each(&self) -> impl Iterator<Item = (&[u8], &Verdict, Vec<(u16, u64)>)> {
        let all = (0..self.table.len() as u32).map(|number| {
            (self.table.text(number), self.verdict(number), self.table.counts(number))
        });
        // What was decided with its headers was looked up without them first.
        all.filter(|(_, _, counts)| counts.iter().any(|(_, count)| *count > 0))
    }
}
