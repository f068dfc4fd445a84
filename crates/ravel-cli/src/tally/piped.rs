//! What is read as it comes, which may be slowly, and without an end.

use std::io::{self, Cursor, Read};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::thread;
use std::time::Duration;

/// Bytes that are read at once: what a pipe holds on most systems.
const BLOCK: usize = 64 * 1024;
/// So many blocks are read ahead.
const AHEAD: usize = 16;
/// So often it is looked whether somebody wants to stop.
const PATIENCE: Duration = Duration::from_millis(50);

/// An input that ends when somebody wants to stop, also while nothing comes: a thread of its own waits
/// for it.
pub(super) struct Piped<'s> {
    blocks: Receiver<io::Result<Vec<u8>>>,
    block: Cursor<Vec<u8>>,
    stopped: &'s AtomicBool,
    /// So many blocks are taken after that: what has come by then.
    left: usize,
}

impl<'s> Piped<'s> {
    pub(super) fn new(mut input: impl Read + Send + 'static, stopped: &'s AtomicBool) -> Piped<'s> {
        let (send, blocks) = sync_channel(AHEAD);
        thread::spawn(move || {
            loop {
                let mut block = vec![0; BLOCK];
                let read = match input.read(&mut block) {
                    Ok(0) => return,
                    Ok(read) => Ok(read),
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                    Err(error) => Err(error),
                };
                let is_over = read.is_err();
                let sent = send.send(read.map(|read| {
                    block.truncate(read);
                    block
                }));
                if is_over || sent.is_err() {
                    return;
                }
            }
        });
        Piped { blocks, block: Cursor::default(), stopped, left: AHEAD }
    }
}

impl Read for Piped<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        loop {
            let read = self.block.read(into)?;
            if read > 0 || into.is_empty() {
                return Ok(read);
            }
            if self.stopped.load(Ordering::Relaxed) {
                match self.left.checked_sub(1) {
                    Some(left) => self.left = left,
                    None => return Ok(0),
                }
            }
            match self.blocks.recv_timeout(PATIENCE) {
                Ok(block) => self.block = Cursor::new(block?),
                Err(RecvTimeoutError::Timeout) if !self.stopped.load(Ordering::Relaxed) => {}
                Err(_) => return Ok(0),
            }
        }
    }
}
