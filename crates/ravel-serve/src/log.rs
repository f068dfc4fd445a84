//! The requests that were answered.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use tokio::sync::{broadcast, mpsc};

use crate::Record;

/// The last requests, and streams of those to come.
#[derive(Debug)]
pub struct Log {
    last: Mutex<Kept>,
    stream: broadcast::Sender<Arc<Record>>,
    reader: OnceLock<mpsc::Sender<Arc<Record>>>,
}

#[derive(Debug, Default)]
struct Kept {
    records: VecDeque<Arc<Record>>,
    count: u64,
}

/// Requests that are kept.
const MAX_KEPT: usize = 300;
/// Requests that wait for the reader of all of them; then new ones wait, too.
const MAX_WAITING: usize = 1_024;

/// The place of a request in the queue of the one who reads all of them.
pub(crate) type ReaderPlace = Option<mpsc::OwnedPermit<Arc<Record>>>;

impl Default for Log {
    fn default() -> Log {
        Log { last: Mutex::default(), stream: broadcast::channel(256).0, reader: OnceLock::new() }
    }
}

impl Log {
    pub(crate) fn add(&self, mut record: Record, place: ReaderPlace) {
        let mut last = lock(&self.last);
        last.count += 1;
        record.number = last.count;
        let record = Arc::new(record);
        last.records.push_front(Arc::clone(&record));
        last.records.truncate(MAX_KEPT);
        if let Some(place) = place {
            place.send(Arc::clone(&record));
        }
        // Nobody may be listening.
        let _ = self.stream.send(record);
    }

    /// The last requests, the newest first.
    pub fn last(&self) -> Vec<Arc<Record>> {
        lock(&self.last).records.iter().cloned().collect()
    }

    /// A request that is kept, by its number.
    pub fn record(&self, number: u64) -> Option<Arc<Record>> {
        lock(&self.last).records.iter().find(|record| record.number == number).cloned()
    }

    /// Forgets the requests that are kept.
    pub fn clear(&self) {
        lock(&self.last).records.clear();
    }

    /// Explains what is kept, while the site is there that answered.
    pub(crate) fn settle(&self) {
        self.last().iter().for_each(|record| record.explain());
    }

    /// The requests to come; one who is slow misses some.
    pub fn subscribe(&self) -> broadcast::Receiver<Arc<Record>> {
        self.stream.subscribe()
    }

    /// Every request to come, for one reader: while many wait to be read, no new ones are answered.
    /// None where there is such a reader already.
    pub fn read_all(&self) -> Option<mpsc::Receiver<Arc<Record>>> {
        let (sender, receiver) = mpsc::channel(MAX_WAITING);
        self.reader.set(sender).ok().map(|()| receiver)
    }

    /// Waits until there is room for one more request. A reader that has gone holds nobody up.
    pub(crate) async fn place(&self) -> ReaderPlace {
        self.reader.get()?.clone().reserve_owned().await.ok()
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
