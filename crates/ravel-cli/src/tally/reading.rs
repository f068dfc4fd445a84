//! Reads sources on all cores: a log in blocks, of which each line belongs to the one where it
//! begins.

use std::fs::File;
use std::io::{self, BufRead, Read, Seek, SeekFrom};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};
use std::sync::{Mutex, PoisonError};
use std::thread;

use indicatif::ProgressBar;
use ravel_traffic::{Compression, JsonKeys, LogFormat, LogReader, Tally, TallyError, unpacked};

use super::piped::Piped;
use crate::Failure;
use crate::urls::UrlSources;

/// A thread reads so many bytes at once.
const BLOCK: u64 = 1 << 20;
/// The end of a block's last line is looked for so far behind it: longer lines are not read.
const TAIL: u64 = 1 << 17;
/// So much is looked at to find out what a source is.
const LOOK: usize = 1 << 16;

/// How sources are read.
pub(super) struct Reading<'a, 'e> {
    pub(super) tally: &'a Tally<'e>,
    pub(super) keys: &'a JsonKeys,
    pub(super) tables: &'a UrlSources,
    pub(super) threads: usize,
    pub(super) bar: &'a ProgressBar,
    /// Somebody wants to see what was read so far.
    pub(super) stopped: &'a AtomicBool,
}

/// What was read of a source.
#[derive(Debug)]
pub(super) struct ReadSource {
    pub(super) name: String,
    pub(super) format: &'static str,
    /// What is to say of how it was read.
    pub(super) note: Option<String>,
}

impl Reading<'_, '_> {
    /// Reads a source, or so many of its bytes.
    pub(super) fn source(
        &self,
        source: &str,
        range: Option<&Range<u64>>,
    ) -> Result<ReadSource, Failure> {
        let failed =
            |error: io::Error| Failure::Message(format!("cannot read `{source}`: {error}"));
        let read = |format| ReadSource { name: source.to_owned(), format, note: None };
        let is_dir = || Failure::Message(format!("`{source}` is a folder; name the files in it"));
        if source == "-" {
            return self.piped(io::stdin(), source, range).map(read);
        }
        let mut file = File::open(source).map_err(failed)?;
        match file.metadata().map_err(failed)? {
            known if known.is_dir() => return Err(is_dir()),
            known if known.is_file() => {}
            // What another program writes, as with `<(…)` in a shell.
            _ => return self.piped(file, source, range).map(read),
        }
        let mut first = vec![0; 4];
        let known = read_some(&mut file, &mut first).map_err(failed)?;
        let compression = Compression::of(&first[..known]);
        file.rewind().map_err(failed)?;
        let mut input = unpacked(&file).map_err(failed)?;
        let first = look(&mut input).map_err(failed)?;
        drop(input);
        let Some(format) = LogFormat::of(&first, self.keys) else {
            if range.is_some() {
                let what = "is no access log, of which a range could be read";
                return Err(Failure::Message(format!("`{source}` {what}")));
            }
            let done = self.tables.read(source, &mut |hit| {
                self.hit(source, hit)?;
                let stopped = || Failure::Message("it was stopped".to_owned());
                if self.stopped.load(Ordering::Relaxed) { Err(stopped()) } else { Ok(()) }
            });
            return self.unless_stopped(done).map(|()| read("URLs"));
        };
        let name = format.name();
        if compression.is_some() {
            if range.is_some() {
                let what = "is compressed: there are no ranges of it";
                return Err(Failure::Message(format!("`{source}` {what}")));
            }
            file.rewind().map_err(failed)?;
            let input = Piped::new(file, self.stopped);
            let input = unpacked(self.bar.wrap_read(input)).map_err(failed)?;
            self.stream(input, source, format)?;
            return Ok(read(name));
        }
        let note = self.file(source, range.cloned(), format).map_err(|error| match error {
            ReadFailure::Input(error) => failed(error),
            ReadFailure::Tally(error) => Failure::Message(error.to_string()),
        })?;
        Ok(ReadSource { note, ..read(name) })
    }

    /// Reads what another program writes; the name of its form.
    fn piped(
        &self,
        input: impl Read + Send + 'static,
        source: &str,
        range: Option<&Range<u64>>,
    ) -> Result<&'static str, Failure> {
        if range.is_some() {
            return Err(Failure::Message(format!(
                "`{source}` is not a file: there are no ranges of it"
            )));
        }
        let input = Piped::new(input, self.stopped);
        let read = |error: io::Error| Failure::Message(format!("cannot read `{source}`: {error}"));
        let mut input = unpacked(self.bar.wrap_read(input)).map_err(read)?;
        let first = look(&mut input).map_err(read)?;
        let format = LogFormat::of(&first, self.keys);
        let input = io::Cursor::new(first).chain(input);
        match format {
            Some(format) => {
                let name = format.name();
                self.stream(input, source, format).map(|()| name)
            }
            None => {
                let name = if source == "-" { "standard input" } else { source };
                let done = self.tables.read_from(input, name, &mut |hit| self.hit(source, hit));
                self.unless_stopped(done).map(|()| "URLs")
            }
        }
    }

    /// What is wrong with a source of which not all was wanted is not said.
    fn unless_stopped(&self, done: Result<(), Failure>) -> Result<(), Failure> {
        if self.stopped.load(Ordering::Relaxed) { Ok(()) } else { done }
    }

    fn hit(&self, source: &str, hit: Result<ravel_traffic::Hit, String>) -> Result<(), Failure> {
        match hit {
            Ok(hit) => self.tally.count([hit]).map_err(|error| Failure::Message(error.to_string())),
            Err(why) => {
                self.tally.unread(source, &why);
                Ok(())
            }
        }
    }

    /// Reads a file on all cores; what is to say of it.
    fn file(
        &self,
        source: &str,
        range: Option<Range<u64>>,
        format: LogFormat,
    ) -> Result<Option<String>, ReadFailure> {
        let size = std::fs::metadata(source)?.len();
        let range = range.map_or(0..size, |range| range.start.min(size)..range.end.min(size));
        let mut format = format;
        let mut threads = self.threads;
        if let LogFormat::W3c(_) = format {
            // Directives are for all that follows.
            threads = 1;
            if range.start > 0 {
                take_directives(source, range.start, &mut format)?;
            }
        }
        let next = AtomicU64::new(range.start);
        let failure: Mutex<Option<ReadFailure>> = Mutex::default();
        let was_short = AtomicBool::new(false);
        thread::scope(|scope| {
            for _ in 0..threads.max(1) {
                scope.spawn(|| {
                    let mut reader = LogReader::new(self.tally, format.clone());
                    let done = self.blocks(source, &range, &next, &mut reader, &was_short);
                    if let Err(error) = done {
                        self.stopped.store(true, Ordering::Relaxed);
                        *failure.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                    }
                });
            }
        });
        if let Some(error) = failure.into_inner().unwrap_or_else(PoisonError::into_inner) {
            return Err(error);
        }
        let now = std::fs::metadata(source)?.len();
        if now < size || was_short.into_inner() {
            return Ok(Some(format!(
                "it was {size} bytes long and became shorter while it was read: lines are missing"
            )));
        }
        let more = now - size;
        let grew = (more > 0 && range.end == size)
            .then(|| format!("it grew by {more} bytes while it was read; these are not counted"));
        Ok(grew)
    }

    fn blocks(
        &self,
        source: &str,
        range: &Range<u64>,
        next: &AtomicU64,
        reader: &mut LogReader<'_, '_>,
        was_short: &AtomicBool,
    ) -> Result<(), ReadFailure> {
        let mut file = File::open(source)?;
        let mut block = Vec::new();
        loop {
            let start = next.fetch_add(BLOCK, Ordering::Relaxed);
            if start >= range.end || self.stopped.load(Ordering::Relaxed) {
                return Ok(());
            }
            let end = (start + BLOCK).min(range.end);
            // The byte in front tells whether a line begins here.
            let from = start.saturating_sub(1);
            file.seek(SeekFrom::Start(from))?;
            block.clear();
            file.by_ref().take(end - from).read_to_end(&mut block)?;
            if (block.len() as u64) < end - from {
                was_short.store(true, Ordering::Relaxed);
            }
            read_to_line_end(&mut file, &mut block)?;
            let skipped = match start {
                0 => 0,
                _ => memchr::memchr(b'\n', &block).map_or(block.len(), |at| at + 1),
            };
            // A line that begins behind the block is another's.
            if from + (skipped as u64) < end {
                reader.read(&block[skipped..], source, from + skipped as u64)?;
            }
            self.bar.inc(end - start);
        }
    }

    /// Reads what comes from somewhere, on all cores; it ends where somebody wants to stop.
    fn stream(&self, mut input: impl Read, source: &str, format: LogFormat) -> Result<(), Failure> {
        let is_one = matches!(format, LogFormat::W3c(_));
        let threads = if is_one { 1 } else { self.threads.max(1) };
        let (send, receive) = sync_channel::<(u64, Vec<u8>)>(2 * threads);
        let receive = Mutex::new(receive);
        let failure: Mutex<Option<TallyError>> = Mutex::default();
        let take = |receive: &Mutex<Receiver<(u64, Vec<u8>)>>| {
            receive.lock().unwrap_or_else(PoisonError::into_inner).recv().ok()
        };
        let read = thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| {
                    let mut reader = LogReader::new(self.tally, format.clone());
                    while let Some((at, block)) = take(&receive) {
                        if let Err(error) = reader.read(&block, source, at) {
                            self.stopped.store(true, Ordering::Relaxed);
                            *failure.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                        }
                    }
                });
            }
            let (mut at, mut rest) = (0_u64, Vec::new());
            loop {
                let mut block = std::mem::take(&mut rest);
                let read = input.by_ref().take(BLOCK).read_to_end(&mut block)?;
                if read == 0 && block.is_empty() {
                    break;
                }
                let end = memchr::memrchr(b'\n', &block).map_or(0, |end| end + 1);
                if read > 0 && end > 0 {
                    rest = block.split_off(end);
                } else if read > 0 && block.len() as u64 > TAIL {
                    // It is said that the line is too long; its rest is passed over.
                    pass_over_line(&mut input)?;
                }
                let length = block.len() as u64;
                if send.send((at, block)).is_err() {
                    break;
                }
                at += length;
            }
            drop(send);
            Ok::<(), io::Error>(())
        });
        if let Some(error) = failure.into_inner().unwrap_or_else(PoisonError::into_inner) {
            return Err(Failure::Message(error.to_string()));
        }
        self.unless_stopped(
            read.map_err(|error| Failure::Message(format!("cannot read `{source}`: {error}"))),
        )
    }
}

/// Why a file was not read to its end.
enum ReadFailure {
    Input(io::Error),
    Tally(TallyError),
}

impl From<io::Error> for ReadFailure {
    fn from(error: io::Error) -> ReadFailure {
        ReadFailure::Input(error)
    }
}

impl From<TallyError> for ReadFailure {
    fn from(error: TallyError) -> ReadFailure {
        ReadFailure::Tally(error)
    }
}

/// The first bytes of a source.
fn look(input: &mut impl Read) -> io::Result<Vec<u8>> {
    let mut first = Vec::new();
    input.by_ref().take(LOOK as u64).read_to_end(&mut first)?;
    Ok(first)
}

fn read_some(input: &mut impl Read, into: &mut [u8]) -> io::Result<usize> {
    let mut known = 0;
    while known < into.len() {
        match input.read(&mut into[known..])? {
            0 => break,
            more => known += more,
        }
    }
    Ok(known)
}

/// Reads on until the line that a block ends in is whole.
fn read_to_line_end(file: &mut File, block: &mut Vec<u8>) -> io::Result<()> {
    const STEP: u64 = 4 * 1024;
    if block.last().is_none_or(|byte| *byte == b'\n') {
        return Ok(());
    }
    let most = block.len() as u64 + TAIL;
    while (block.len() as u64) < most {
        let from = block.len();
        let read = file.by_ref().take(STEP).read_to_end(block)?;
        if let Some(at) = memchr::memchr(b'\n', &block[from..]) {
            block.truncate(from + at + 1);
            return Ok(());
        }
        if read == 0 {
            return Ok(());
        }
    }
    Ok(())
}

fn pass_over_line(input: &mut impl Read) -> io::Result<()> {
    io::BufReader::with_capacity(1, input).skip_until(b'\n').map(drop)
}

/// The directive that holds where a range begins: the last one before it.
fn take_directives(source: &str, until: u64, format: &mut LogFormat) -> io::Result<()> {
    let file = io::BufReader::new(File::open(source)?.take(until));
    for line in file.split(b'\n') {
        let line = line?;
        if line.starts_with(b"#Fields:") {
            format.take_directive(&line);
        }
    }
    Ok(())
}
