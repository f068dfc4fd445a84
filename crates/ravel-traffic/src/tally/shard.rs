//! A part of a tally: the requests whose texts have some of the hashes.

use std::borrow::Cow;
use std::collections::BTreeMap;

use foldhash::fast::RandomState;
use rustc_hash::FxHashMap;

use super::queue::Waiting;
use super::table::{Counts, Table};
use super::verdict::{Ending, Judge, Verdict};
use crate::log::Day;

/// So many are looked up at once.
const BATCH: usize = 32;

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
    pub(super) fn count_all(&mut self, waiting: &[Waiting<'_>], judge: &Judge<'_>) {
        for batch in waiting.chunks(BATCH) {
            let texts = std::array::from_fn(|one| {
                let one = batch.get(one).unwrap_or(&batch[0]);
                (one.text, one.hash)
            });
            let known = self.table.known::<BATCH>(texts);
            for (one, known) in batch.iter().zip(known) {
                self.count(one, known, judge);
            }
        }
    }

    fn count(&mut self, one: &Waiting<'_>, known: Option<u32>, judge: &Judge<'_>) {
        let mut place = known.unwrap_or_else(|| self.place_of(one.text, one.hash, judge));
        let mut ending = self.verdict(place).ending;
        if ending == Ending::Depends
            && let Some(text) = one.rare.and_then(|rare| rare.with_headers)
        {
            // With what the source has of it, it may be decided.
            place = self.place_of(text, self.table.hash(text), judge);
            ending = self.verdict(place).ending;
        }
        let count = one.count();
        self.table.add(place, one.status, count);
        if let Some(day) = one.day {
            if self.today.is_none_or(|(today, _)| today != day) {
                self.end_day();
                self.today = Some((day, [0; Ending::ALL.len()]));
            }
            if let Some((_, counts)) = &mut self.today {
                counts[ending as usize] += count;
            }
        }
    }

    fn place_of(&mut self, text: &[u8], hash: u64, judge: &Judge<'_>) -> u32 {
        let (verdicts, known) = (&mut self.verdicts, &mut self.known);
        self.table.place_of(text, hash, || {
            let verdict = judge.verdict(&as_text(text));
            *known.entry(verdict).or_insert_with_key(|verdict| {
                verdicts.push(verdict.clone());
                verdicts.len() as u32 - 1
            })
        })
    }

    fn verdict(&self, place: u32) -> &Verdict {
        &self.verdicts[self.table.verdict(place) as usize]
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

    /// What a request gets, and how often it came, if it did.
    pub(super) fn get(&self, text: &[u8]) -> Option<(&Verdict, u64)> {
        let (verdict, counts) = self.table.get(text)?;
        let requests: u64 = counts.iter().map(|(_, count)| count).sum();
        (requests > 0).then(|| (&self.verdicts[verdict as usize], requests))
    }

    /// Each distinct request, with its verdict and its counts by status.
    pub(super) fn each(&self) -> impl Iterator<Item = (&[u8], &Verdict, Counts)> {
        let all = self.table.each();
        // What was decided with its headers was looked up without them first.
        all.filter(|(.., counts)| counts.iter().any(|(_, count)| *count > 0))
            .map(|(text, verdict, counts)| (text, &self.verdicts[verdict as usize], counts))
    }
}

/// A text of a request; it is ASCII unless it was merged from a file that somebody has changed.
pub(super) fn as_text(text: &[u8]) -> Cow<'_, str> {
    std::str::from_utf8(text).map_or_else(|_| String::from_utf8_lossy(text), Cow::Borrowed)
}
