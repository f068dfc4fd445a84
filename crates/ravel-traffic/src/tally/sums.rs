//! What is summed up while all requests are gone through, on all cores.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::hash::BuildHasher;
use std::sync::Mutex;
use std::thread;

use http::HeaderName;
use ravel::program::RuleId;
use rustc_hash::{FxHashMap, FxHashSet};

use super::queue::shard_of;
use super::shard::{Shard, as_text};
use super::verdict::{Ending, Judge, Verdict, url_of_others};
use super::{Tally, locked};
use crate::log::Day;

/// What is summed up of all requests.
pub(super) struct Sums {
    /// Requests, and URLs.
    pub(super) endings: [(u64, u64); Ending::ALL.len()],
    /// Distinct URLs: one that ends in several ways, by its method, is one.
    pub(super) urls: u64,
    others: FxHashMap<String, Others>,
    pub(super) hops: BTreeMap<u8, u64>,
    pub(super) rules: FxHashMap<RuleId, u64>,
    /// Those for the origin of requests that do not say theirs.
    pub(super) at_home: u64,
    pub(super) origins: FxHashMap<String, u64>,
    pub(super) headers: BTreeMap<String, (HeaderName, u64)>,
    /// By the status that is logged and the one that is answered.
    pub(super) differing: BTreeMap<(u16, u16), Differing>,
    pub(super) missing: Most,
    pub(super) redirected: Most,
    pub(super) days: BTreeMap<Day, [u64; Ending::ALL.len()]>,
}

/// Requests with another status, and the URL that has most of them.
#[derive(Default)]
pub(super) struct Differing {
    pub(super) requests: u64,
    pub(super) example: One,
}

/// What is asked of a URL by other methods than GET, and with headers that decide.
#[derive(Default)]
struct Others {
    /// How it ends, as bits.
    endings: u16,
    /// The first text of those that are missing, with their requests; and of those that redirect.
    missing: Option<One>,
    redirected: Option<One>,
}

/// A request by how often it came, its text, and its redirects.
pub(super) type One = (u64, String, u8);

impl Tally<'_> {
    pub(super) fn sums(&self, most: usize) -> Sums {
        let cores = thread::available_parallelism().map_or(1, std::num::NonZero::get);
        let of_some = |shards: &[Mutex<Shard>]| {
            let mut sums = Sums::new(most);
            shards.iter().for_each(|shard| sums.add(&mut locked(shard), &self.judge));
            sums
        };
        thread::scope(|scope| {
            let parts = self.shards.chunks(self.shards.len().div_ceil(cores));
            let parts: Vec<_> = parts.map(|part| scope.spawn(|| of_some(part))).collect();
            let sums = parts.into_iter().map(|part| part.join().expect("it does not panic"));
            let mut sums = sums.reduce(Sums::with).unwrap_or_else(|| Sums::new(most));
            self.with_others(&mut sums);
            sums
        })
    }

    /// Puts together what is asked of one URL in several ways.
    fn with_others(&self, sums: &mut Sums) {
        sums.urls = sums.endings.iter().map(|(_, urls)| urls).sum();
        for (url, others) in std::mem::take(&mut sums.others) {
            let text = format!("GET {url}");
            let shard = locked(&self.shards[shard_of(self.hasher.hash_one(text.as_bytes()))]);
            let plain = shard.get(text.as_bytes());
            let known = plain.map_or(0, |(verdict, _)| 1 << verdict.ending as u16);
            for (bit, (_, urls)) in sums.endings.iter_mut().enumerate() {
                *urls += u64::from((others.endings & !known) >> bit & 1);
            }
            sums.urls += u64::from(plain.is_none());
            let with_plain = |(requests, other, hops): One, is_it: fn(&Verdict) -> bool| match plain
                .filter(|(verdict, _)| is_it(verdict))
            {
                Some((verdict, more)) => (requests + more, text.clone(), verdict.hops),
                None => (requests, other, hops),
            };
            if let Some(one) = others.missing {
                let one = with_plain(one, |verdict| verdict.ending == Ending::Missing);
                sums.missing.offer(one.0, &one.1, one.2);
            }
            if let Some(one) = others.redirected {
                let one = with_plain(one, |verdict| verdict.hops > 0);
                sums.redirected.offer(one.0, &one.1, one.2);
            }
        }
    }
}

impl Others {
    fn add(&mut self, requests: u64, text: &str, verdict: &Verdict) {
        self.endings |= 1 << verdict.ending as u16;
        let one = || (requests, text.to_owned(), verdict.hops);
        let kinds = [
            (&mut self.missing, verdict.ending == Ending::Missing),
            (&mut self.redirected, verdict.hops > 0),
        ];
        for (known, _) in kinds.into_iter().filter(|(_, is_it)| *is_it) {
            *known = together(known.take(), Some(one()));
        }
    }

    fn extend(&mut self, other: Others) {
        self.endings |= other.endings;
        self.missing = together(self.missing.take(), other.missing);
        self.redirected = together(self.redirected.take(), other.redirected);
    }
}

/// Two counts of one URL, by the text that comes first.
fn together(one: Option<One>, other: Option<One>) -> Option<One> {
    match (one, other) {
        (Some(one), Some(other)) => {
            let requests = one.0 + other.0;
            let first = if other.1 < one.1 { other } else { one };
            Some((requests, first.1, first.2))
        }
        (one, other) => one.or(other),
    }
}

impl Sums {
    fn new(most: usize) -> Sums {
        let (hops, rules, origins, headers) = Default::default();
        Sums {
            endings: Default::default(),
            urls: 0,
            others: FxHashMap::default(),
            hops,
            rules,
            at_home: 0,
            origins,
            headers,
            differing: BTreeMap::new(),
            missing: Most::new(most),
            redirected: Most::new(most),
            days: BTreeMap::new(),
        }
    }

    fn add(&mut self, shard: &mut Shard, judge: &Judge<'_>) {
        for (day, counts) in shard.days() {
            let known = self.days.entry(*day).or_default();
            known.iter_mut().zip(counts).for_each(|(known, count)| *known += count);
        }
        for (text, verdict, counts) in shard.each() {
            let text = as_text(text);
            let requests: u64 = counts.iter().map(|(_, count)| count).sum();
            let (all, urls) = &mut self.endings[verdict.ending as usize];
            *all += requests;
            let hops = verdict.hops;
            if hops > 0 {
                *self.hops.entry(hops).or_default() += requests;
            }
            match url_of_others(&text) {
                None => {
                    *urls += 1;
                    if hops > 0 {
                        self.redirected.offer(requests, &text, hops);
                    }
                    if verdict.ending == Ending::Missing {
                        self.missing.offer(requests, &text, hops);
                    }
                }
                Some(url) => match self.others.get_mut(url) {
                    Some(known) => known.add(requests, &text, verdict),
                    None => {
                        let known = self.others.entry(url.to_owned()).or_default();
                        known.add(requests, &text, verdict);
                    }
                },
            }
            // A rule that decides twice on one way is one that the request has met.
            for (at, id) in verdict.rules.iter().enumerate() {
                if !verdict.rules[..at].contains(id) {
                    *self.rules.entry(*id).or_default() += requests;
                }
            }
            for name in &verdict.headers {
                let known = self.headers.entry(name.to_string());
                known.or_insert_with(|| (name.clone(), 0)).1 += requests;
            }
            match judge.origin(&text) {
                None => self.at_home += requests,
                Some(origin) => match self.origins.get_mut(origin) {
                    Some(known) => *known += requests,
                    None => drop(self.origins.insert(origin.to_owned(), requests)),
                },
            }
            for (status, count) in counts {
                let is_same = status == verdict.status
                    || (matches!(status, 206 | 304) && verdict.status == 200);
                if status != 0 && !is_same && verdict.ending != Ending::Depends {
                    let known = self.differing.entry((status, verdict.status)).or_default();
                    known.requests += count;
                    known.offer(count, &text, hops);
                }
            }
        }
    }

    fn with(mut self, other: Sums) -> Sums {
        for ((all, urls), (more, others)) in self.endings.iter_mut().zip(other.endings) {
            *all += more;
            *urls += others;
        }
        for (url, others) in other.others {
            self.others.entry(url).or_default().extend(others);
        }
        other.hops.into_iter().for_each(|(hops, n)| *self.hops.entry(hops).or_default() += n);
        other.rules.into_iter().for_each(|(id, n)| *self.rules.entry(id).or_default() += n);
        self.at_home += other.at_home;
        for (origin, requests) in other.origins {
            *self.origins.entry(origin).or_default() += requests;
        }
        for (key, (name, requests)) in other.headers {
            self.headers.entry(key).or_insert((name, 0)).1 += requests;
        }
        for (key, Differing { requests, example: (count, text, hops) }) in other.differing {
            let known = self.differing.entry(key).or_default();
            known.requests += requests;
            known.offer(count, &text, hops);
        }
        self.missing.extend(other.missing);
        self.redirected.extend(other.redirected);
        for (day, counts) in other.days {
            let known = self.days.entry(day).or_default();
            known.iter_mut().zip(counts).for_each(|(known, count)| *known += count);
        }
        self
    }
}

impl Differing {
    /// Of those that came as often, the first by its text.
    fn offer(&mut self, count: u64, text: &str, hops: u8) {
        let (most, example, _) = &self.example;
        if (count, Reverse(text)) > (*most, Reverse(example)) {
            self.example = (count, text.to_owned(), hops);
        }
    }
}

/// The requests that are most, of any number.
pub(super) struct Most {
    most: usize,
    kept: Vec<One>,
    /// Those with fewer requests are not among them.
    least: u64,
}

impl Most {
    fn new(most: usize) -> Most {
        Most { most, kept: Vec::new(), least: 0 }
    }

    fn offer(&mut self, requests: u64, text: &str, hops: u8) {
        if requests < self.least {
            return;
        }
        self.kept.push((requests, text.to_owned(), hops));
        if self.kept.len() > self.most.max(16).saturating_mul(4) {
            self.cut();
        }
    }

    fn cut(&mut self) {
        self.kept.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
        // A URL that was offered again has more requests than before.
        let mut seen = FxHashSet::default();
        self.kept.retain(|(_, text, _)| seen.len() < self.most && seen.insert(text.clone()));
        let is_full = self.kept.len() == self.most;
        self.least = self.kept.last().filter(|_| is_full).map_or(0, |(requests, ..)| *requests);
    }

    fn extend(&mut self, other: Most) {
        other.kept.iter().for_each(|(requests, text, hops)| self.offer(*requests, text, *hops));
    }

    pub(super) fn sorted(mut self) -> impl Iterator<Item = One> {
        self.cut();
        self.kept.into_iter()
    }
}
