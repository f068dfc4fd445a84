//! Counts the lines of a log, block by block.

use std::hash::BuildHasher;
use std::sync::atomic::Ordering;

use bumpalo::Bump;
use http::header::{REFERER, USER_AGENT};

use super::queue::{Queue, Rare, Waiting};
use super::verdict::HEADER_MARK;
use super::{Tally, TallyError, UnreadLine, locked};
use crate::log::{DayReader, LogFormat, LogLine, Parsed, Place, Urlless, unescaped};

/// Longer lines are not read, in bytes.
pub(crate) const MAX_LINE: usize = 64 * 1024;
/// Most lines have about so many bytes.
const TYPICAL_LINE_BYTES: usize = 200;

/// Counts the lines of a log for a tally: one for each thread.
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
    /// What a request is written into that is not asked as it stands.
    written: Vec<u8>,
    wants_agent: bool,
    wants_referer: bool,
}

impl<'t, 'e> LogReader<'t, 'e> {
    /// Begins to read lines of a format.
    pub fn new(tally: &'t Tally<'e>, format: LogFormat) -> LogReader<'t, 'e> {
        let deciding = &tally.judge.deciding;
        LogReader {
            tally,
            format,
            days: DayReader::default(),
            written: Vec::new(),
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
        let arena = Bump::new();
        let mut queue = Queue::new(block.len() / TYPICAL_LINE_BYTES);
        let mut urlless = [0_u64; Urlless::ALL.len()];
        let (mut lines, mut from) = (0, 0);
        while from < block.len() {
            let end = memchr::memchr(b'\n', &block[from..]).map_or(block.len(), |end| from + end);
            let line = &block[from..end];
            lines += 1;
            if line.first() == Some(&b'#') {
                self.format.take_directive(line);
            }
            let unread = match self.line(line, &arena, &mut queue) {
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
            if queue.is_full() {
                self.tally.hand_over(&mut queue);
                self.tally.is_within_budget()?;
            }
            from = end + 1;
        }
        self.tally.hand_over(&mut queue);
        if urlless.iter().any(|count| *count > 0) {
            let mut others = locked(&self.tally.others);
            for (why, count) in Urlless::ALL.into_iter().zip(urlless).filter(|(_, n)| *n > 0) {
                *others.urlless.entry(why).or_default() += count;
            }
        }
        self.tally.lines.fetch_add(lines, Ordering::Relaxed);
        self.tally.is_within_budget()
    }

    fn line<'b>(
        &mut self,
        line: &'b [u8],
        arena: &'b Bump,
        queue: &mut Queue<'b>,
    ) -> Result<Option<Urlless>, &'static str> {
        if line.len() > MAX_LINE {
            return Err("it is longer than 64 KiB");
        }
        let wants_headers = self.wants_agent || self.wants_referer;
        match self.format.parse(line, &mut self.days, wants_headers) {
            Parsed::Nothing => Ok(None),
            Parsed::Unread(why) => Err(why),
            Parsed::Line(parsed) => Ok(self.take(&parsed, arena, queue).err()),
        }
    }

    fn take<'b>(
        &mut self,
        line: &LogLine<'b>,
        arena: &'b Bump,
        queue: &mut Queue<'b>,
    ) -> Result<(), Urlless> {
        let place = Place { scheme: line.scheme.as_deref(), host: line.host.as_deref() };
        let (at, with_query) = (self.tally.at.as_bytes(), self.tally.with_query);
        let wants_headers = self.wants_agent || self.wants_referer;
        let as_it_stands = || line.asked.as_it_stands(place, at, with_query);
        let plain = if wants_headers { None } else { as_it_stands() };
        let (text, with_headers) = match plain {
            Some(text) => (text, None),
            None => {
                self.written.clear();
                line.asked.write(place, at, with_query, &mut self.written)?;
                let length = self.written.len();
                if self.wants_agent {
                    write_header("user-agent", line.user_agent, &mut self.written);
                }
                if self.wants_referer {
                    write_header("referer", line.referer, &mut self.written);
                }
                let written = &*arena.alloc_slice_copy(&self.written);
                (&written[..length], (length < written.len()).then_some(written))
            }
        };
        let (count, hash) = (line.count, self.tally.hasher.hash_one(text));
        let is_rare = count != 1 || with_headers.is_some();
        let rare = is_rare.then(|| &*arena.alloc(Rare { count, with_headers }));
        queue.push(Waiting { text, hash, status: line.status, day: line.day, rare });
        Ok(())
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
