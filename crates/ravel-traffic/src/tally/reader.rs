//! Counts the lines of a log, block by block.

use std::hash::BuildHasher;
use std::sync::atomic::Ordering;

use http::header::{REFERER, USER_AGENT};

use super::shard::Counted;
use super::verdict::HEADER_MARK;
use super::{SHARDS, Tally, TallyError, UnreadLine, locked};
use crate::log::{
    Day, DayReader, LogFormat, LogLine, Parsed, Place, Urlless, unescaped, write_asked,
};

/// Longer lines are not read, in bytes.
pub(crate) const MAX_LINE: usize = 64 * 1024;

/// So many bytes of texts wait for their shards: many at once find more of a shard in the cache.
const ENOUGH: usize = 1 << 20;

/// Counts the lines of a log for a tally: one for each thread. All are counted when it is dropped.
///
/// ```
/// use ravel_traffic::{JsonKeys, LogFormat, LogReader, Tally, TallyOptions};
///
/// let rules = ravel::Rules::parse("site https://h.example/\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html"]));
/// let tally = Tally::new(&edge, &TallyOptions::default())?;
/// let log = b"192.0.2.7 - - [26/Nov/2026:10:00:00 +0000] \"GET / HTTP/1.1\" 200 512\n";
/// let format = LogFormat::of(log, &JsonKeys::default()).expect("a log");
/// LogReader::new(&tally, format).read(log, "access.log", 0)?;
/// assert_eq!(tally.report(10).requests(), 1);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct LogReader<'t, 'e> {
    tally: &'t Tally<'e>,
    format: LogFormat,
    days: DayReader,
    texts: Vec<u8>,
    buckets: Vec<Vec<Waiting>>,
    more: Vec<More>,
    /// The days of what waits; the first is for those of which it is not known.
    waiting_days: Vec<Option<Day>>,
    wants_agent: bool,
    wants_referer: bool,
}

/// A request that waits for its shard, with the place of its text.
#[derive(Debug)]
struct Waiting {
    hash: u64,
    from: u32,
    length: u32,
    /// Its place among what few requests have.
    more: u32,
    status: u16,
    day: u16,
}

/// What few requests have.
#[derive(Debug)]
struct More {
    /// The bytes of headers behind the text.
    headers: u32,
    count: u64,
}

/// There is no more.
const NOTHING: u32 = u32::MAX;

impl<'t, 'e> LogReader<'t, 'e> {
    /// Begins to read lines of a format.
    pub fn new(tally: &'t Tally<'e>, format: LogFormat) -> LogReader<'t, 'e> {
        let deciding = &tally.judge.deciding;
        LogReader {
            tally,
            format,
            days: DayReader::default(),
            texts: Vec::new(),
            buckets: (0..SHARDS).map(|_| Vec::new()).collect(),
            more: Vec::new(),
            waiting_days: vec![None],
            wants_agent: deciding.contains(&USER_AGENT),
            wants_referer: deciding.contains(&REFERER),
        }
    }

    /// Counts whole lines; `at` is the place of the first in the source, in bytes. Whatever is behind
    /// the last line end is a line, too.
    ///
    /// # Errors
    /// Too many distinct URLs for the memory that is allowed.
    pub fn read(&mut self, block: &[u8], source: &str, at: u64) -> Result<(), TallyError> {
        let mut urlless = [0_u64; Urlless::ALL.len()];
        let (mut lines, mut from) = (0, 0);
        while from < block.len() {
            let end = memchr::memchr(b'\n', &block[from..]).map_or(block.len(), |end| from + end);
            let line = &block[from..end];
            lines += 1;
            if line.first() == Some(&b'#') {
                self.format.take_directive(line);
            }
            let unread = match self.line(line) {
                Ok(None) => None,
                Ok(Some(why)) => {
                    urlless[why as usize] += 1;
                    None
                }
                Err(why) => Some(why),
            };
            if let Some(why) = unread {
                self.tally.note_unread(UnreadLine {
                    source: source.to_owned(),
                    at: Some(at + from as u64),
                    why: why.to_owned(),
                });
            }
            from = end + 1;
        }
        if urlless.iter().any(|count| *count > 0) {
            let mut others = locked(&self.tally.others);
            for (why, count) in Urlless::ALL.into_iter().zip(urlless).filter(|(_, n)| *n > 0) {
                *others.urlless.entry(why).or_default() += count;
            }
        }
        self.tally.lines.fetch_add(lines, Ordering::Relaxed);
        // What waits may be too much; nobody would say it later.
        if self.tally.bytes() + self.texts.len() > self.tally.budget {
            self.hand_over();
        }
        self.tally.is_within_budget()
    }

    fn line(&mut self, line: &[u8]) -> Result<Option<Urlless>, &'static str> {
        if line.len() > MAX_LINE {
            return Err("it is longer than 64 KiB");
        }
        match self.format.parse(line, &mut self.days, self.wants_agent || self.wants_referer) {
            Parsed::Nothing => Ok(None),
            Parsed::Unread(why) => Err(why),
            Parsed::Line(parsed) => Ok(self.take(&parsed)),
        }
    }

    fn take(&mut self, line: &LogLine<'_>) -> Option<Urlless> {
        let Some((method, target)) = &line.asked else { return line.urlless };
        let place = Place { scheme: line.scheme.as_deref(), host: line.host.as_deref() };
        let from = self.texts.len();
        let (at, with_query) = (self.tally.at.as_bytes(), self.tally.with_query);
        if let Err(why) = write_asked((method, target), place, at, with_query, &mut self.texts) {
            return Some(why);
        }
        let until = self.texts.len();
        let logged = [
            (self.wants_agent, "user-agent", line.user_agent),
            (self.wants_referer, "referer", line.referer),
        ];
        for (_, name, value) in logged.into_iter().filter(|(is_wanted, ..)| *is_wanted) {
            write_header(name, value, &mut self.texts);
        }
        let hash = self.tally.hasher.hash_one(&self.texts[from..until]);
        let more = match (self.texts.len() - until, line.count) {
            (0, 1) => NOTHING,
            (headers, count) => {
                self.more.push(More { headers: headers as u32, count });
                self.more.len() as u32 - 1
            }
        };
        let day = match line.day {
            None => 0,
            Some(_) if self.waiting_days.last() == Some(&line.day) => self.waiting_days.len() - 1,
            Some(_) => {
                self.waiting_days.push(line.day);
                self.waiting_days.len() - 1
            }
        } as u16;
        let (from, length) = (from as u32, (until - from) as u32);
        self.buckets[self.tally.shard_of(hash)].push(Waiting {
            hash,
            from,
            length,
            more,
            status: line.status,
            day,
        });
        if self.texts.len() > ENOUGH || self.waiting_days.len() > usize::from(u16::MAX) {
            self.hand_over();
        }
        None
    }

    /// Hands what waits over to the shards, first to those that nobody else has.
    fn hand_over(&mut self) {
        let first = self.texts.len() % SHARDS;
        for shard in (0..SHARDS).map(|number| (first + number) % SHARDS) {
            let (texts, days, more) = (&self.texts, &self.waiting_days, &self.more);
            let counted = self.buckets[shard].iter().map(|one| {
                let until = one.from as usize + one.length as usize;
                let few = more.get(one.more as usize);
                let headers = few.map_or(0, |few| few.headers as usize);
                Counted {
                    text: &texts[one.from as usize..until],
                    headers: &texts[until..until + headers],
                    hash: one.hash,
                    status: one.status,
                    day: days[usize::from(one.day)],
                    count: few.map_or(1, |few| few.count),
                }
            });
            self.tally.add(shard, counted);
            self.buckets[shard].clear();
        }
        self.texts.clear();
        self.more.clear();
        self.waiting_days.truncate(1);
    }
}

impl Drop for LogReader<'_, '_> {
    fn drop(&mut self) {
        self.hand_over();
    }
}

/// Writes a header with a mark in front; one that cannot be a field is as one that is not there.
fn write_header(name: &str, value: Option<&[u8]>, out: &mut Vec<u8>) {
    let Some(value) = value.filter(|value| *value != b"-") else { return };
    let value = unescaped(value);
    if value.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ') {
        out.push(HEADER_MARK as u8);
        out.extend_from_slice(name.as_bytes());
        out.extend_from_slice(b": ");
        out.extend_from_slice(&value);
    }
}
