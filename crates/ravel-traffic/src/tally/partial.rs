//! What was counted of a part of the sources, as text that can be merged: one line for each distinct
//! request in the order of their texts, so that the same requests make the same bytes.

use std::fmt;
use std::io::{self, BufRead, Write};
use std::str::FromStr;

use ring::digest::{Context, SHA256};

use super::verdict::Ending;
use super::{MAX_EXAMPLES, Tally, TallyError, UnreadLine, locked};
use crate::log::{Day, Urlless};

/// The first word of a partial result, and the version of what follows.
const NAME: &str = "ravel-tally";
const VERSION: &str = "1";

/// Why a partial result cannot be merged.
#[derive(Debug)]
#[non_exhaustive]
pub enum PartialError {
    /// It cannot be read.
    Input(io::Error),
    /// It is no partial result.
    Unknown,
    /// It was written by another version, which is named.
    Version(String),
    /// It was counted with other rules, files, origin or queries.
    Rules,
    /// Its end is missing.
    CutShort,
    /// A line of it, from 1, is not as it was written.
    Line(u64),
    /// Its URLs are too many for the memory that is allowed.
    Tally(TallyError),
}

impl fmt::Display for PartialError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            PartialError::Input(error) => write!(f, "cannot be read: {error}"),
            PartialError::Unknown => f.write_str("is not a partial result of `ravel tally`"),
            PartialError::Version(version) => {
                write!(f, "is a partial result of version {version}; this is version {VERSION}")
            }
            PartialError::Rules => f.write_str(
                "was counted with other rules, other files, another `--at` or another `--no-query`; \
                 count its sources again",
            ),
            PartialError::CutShort => f.write_str("is cut short: its last line is missing"),
            PartialError::Line(line) => write!(f, "has a line {line} that was not written so"),
            PartialError::Tally(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for PartialError {}

impl Tally<'_> {
    /// Writes what was counted, to be merged with others.
    ///
    /// # Errors
    /// Those of the output.
    pub fn write_partial(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut lines = 0_u64;
        writeln!(out, "{NAME} {VERSION} {}", self.fingerprint())?;
        // Texts are sorted shard by shard, and merged.
        let shards: Vec<_> = self.shards.iter().map(locked).collect();
        let mut all: Vec<(&[u8], usize)> = Vec::new();
        let mut counts = Vec::new();
        for shard in &shards {
            for (text, _, of_text) in shard.each() {
                all.push((text, counts.len()));
                counts.push(of_text);
            }
        }
        all.sort_unstable();
        for (text, number) in all {
            let of_text = counts[number].iter().map(|(status, count)| format!("{status}:{count}"));
            out.write_all(b"request\x0b")?;
            out.write_all(text)?;
            writeln!(out, "\x0b{}", of_text.collect::<Vec<_>>().join(" "))?;
            lines += 1;
        }
        drop(shards);
        let days = self.report(0).days().clone();
        for (day, endings) in &days {
            let counts: Vec<String> = endings
                .iter()
                .map(|(ending, count)| format!("{}:{count}", ending.as_str()))
                .collect();
            writeln!(out, "day\x0b{day}\x0b{}", counts.join(" "))?;
            lines += 1;
        }
        let others = locked(&self.others);
        for (why, count) in &others.urlless {
            writeln!(out, "urlless\x0b{}\x0b{count}", why.as_str())?;
            lines += 1;
        }
        for line in &others.examples {
            let plain = |text: &str| text.replace(['\n', '\x0b'], " ");
            let (source, why) = (plain(&line.source), plain(&line.why));
            let at = line.at.map(|at| at.to_string()).unwrap_or_default();
            writeln!(out, "unread\x0b{source}\x0b{at}\x0b{why}")?;
            lines += 1;
        }
        writeln!(out, "end\x0b{lines}\x0b{}\x0b{}", self.lines(), others.unread)
    }

    /// Takes in what another tally wrote: in any order, the result is the same.
    ///
    /// # Errors
    /// What is cut short, of another version or of other rules.
    pub fn merge(&self, input: impl BufRead) -> Result<(), PartialError> {
        let mut lines = input.split(b'\n');
        let first = match lines.next() {
            None => return Err(PartialError::Unknown),
            Some(first) => first.map_err(PartialError::Input)?,
        };
        let first = String::from_utf8(first).map_err(|_| PartialError::Unknown)?;
        let mut words = first.split(' ');
        if words.next() != Some(NAME) {
            return Err(PartialError::Unknown);
        }
        match (words.next(), words.next()) {
            (Some(VERSION), Some(rules)) if rules == self.fingerprint() => {}
            (Some(VERSION), Some(_)) => return Err(PartialError::Rules),
            (Some(version), _) if version != VERSION => {
                return Err(PartialError::Version(version.to_owned()));
            }
            _ => return Err(PartialError::CutShort),
        }
        let mut number = 0;
        while let Some(line) = lines.next() {
            let line = line.map_err(PartialError::Input)?;
            number += 1;
            let fields: Vec<&[u8]> = line.split(|byte| *byte == b'\x0b').collect();
            if let [b"end", written, read, unread] = fields[..] {
                let [written, read, unread] = [written, read, unread].map(parsed::<u64>);
                let (Some(read), Some(unread)) = (read, unread) else {
                    return Err(PartialError::CutShort);
                };
                if written != Some(number - 1) {
                    return Err(PartialError::CutShort);
                }
                self.lines.fetch_add(read, std::sync::atomic::Ordering::Relaxed);
                locked(&self.others).unread += unread;
                return Ok(());
            }
            if self.take(&fields).is_none() {
                // The last line is half a line.
                let is_last = lines.next().is_none();
                return Err(if is_last {
                    PartialError::CutShort
                } else {
                    PartialError::Line(number + 1)
                });
            }
            self.is_within_budget().map_err(PartialError::Tally)?;
        }
        Err(PartialError::CutShort)
    }

    fn take(&self, fields: &[&[u8]]) -> Option<()> {
        let counts = |text: &[u8]| -> Option<Vec<(String, u64)>> {
            let text = std::str::from_utf8(text).ok()?;
            let pairs = text.split(' ').map(|pair| pair.split_once(':'));
            pairs.map(|pair| Some((pair?.0.to_owned(), pair?.1.parse().ok()?))).collect()
        };
        match *fields {
            [b"request", text, counted] => {
                for (status, count) in counts(counted)? {
                    self.count_one(text, Some(status.parse().ok()?), None, count);
                }
            }
            [b"day", day, counted] => {
                let day = parsed::<Day>(day)?;
                let mut others = locked(&self.others);
                let known = others.days.entry(day).or_default();
                for (name, count) in counts(counted)? {
                    let ending = Ending::ALL.into_iter().find(|one| one.as_str() == name)?;
                    *known.entry(ending).or_default() += count;
                }
            }
            [b"urlless", name, count] => {
                let why = Urlless::ALL.into_iter().find(|one| one.as_str().as_bytes() == name)?;
                *locked(&self.others).urlless.entry(why).or_default() += parsed::<u64>(count)?;
            }
            [b"unread", source, at, why] => {
                let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).ok();
                let at = if at.is_empty() { None } else { Some(parsed(at)?) };
                let line = UnreadLine { source: text(source)?, at, why: text(why)? };
                let mut others = locked(&self.others);
                others.examples.insert(line);
                if others.examples.len() > MAX_EXAMPLES {
                    others.examples.pop_last();
                }
            }
            _ => return None,
        }
        Some(())
    }

    /// What answers hang on: rules, files, the origin, queries.
    fn fingerprint(&self) -> String {
        let mut hasher = Context::new(&SHA256);
        let edge = self.judge.edge;
        let mut part = |text: &str| {
            hasher.update(&(text.len() as u64).to_le_bytes());
            hasher.update(text.as_bytes());
        };
        part(&self.at);
        part(if self.with_query { "queries" } else { "no queries" });
        part(&format!("{:?}", edge.site()));
        edge.program().all_rules().iter().for_each(|rule| part(&format!("{rule:?}")));
        edge.files().names().iter().for_each(|name| part(name));
        hasher.finish().as_ref().iter().take(16).map(|byte| format!("{byte:02x}")).collect()
    }
}

fn parsed<T: FromStr>(bytes: &[u8]) -> Option<T> {
    std::str::from_utf8(bytes).ok()?.parse().ok()
}
