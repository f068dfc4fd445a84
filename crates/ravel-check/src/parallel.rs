//! Work by several threads that is taken in order.

use std::num::NonZero;
use std::sync::mpsc::sync_channel;
use std::thread;

/// So much that is done waits for being taken, for each thread.
const AHEAD: usize = 8;
/// More threads wait for the one that takes.
const MAX_THREADS: usize = 16;

/// Makes something of each name, by as many threads as there are cores, and takes it in the order of
/// the names.
///
/// ```
/// let mut lengths = Vec::new();
/// ravel_check::in_order(&["a", "bcd"], |name| name.len(), |name, length| lengths.push((name, length)));
/// assert_eq!(lengths, [("a", 1), ("bcd", 3)]);
/// ```
pub fn in_order<'n, T: Send>(
    names: &[&'n str],
    make: impl Fn(&'n str) -> T + Sync,
    mut take: impl FnMut(&'n str, T),
) {
    let cores = thread::available_parallelism().map_or(1, NonZero::get);
    let threads = cores.min(MAX_THREADS).min(names.len());
    let make = &make;
    thread::scope(|scope| {
        let makers: Vec<_> = (0..threads)
            .map(|first| {
                let (sender, receiver) = sync_channel(AHEAD);
                let mut own = names.iter().skip(first).step_by(threads);
                let send = move || own.all(|name| sender.send(make(name)).is_ok());
                // One core makes and takes in turns, as does a machine that has no threads.
                let started =
                    threads > 1 && thread::Builder::new().spawn_scoped(scope, send).is_ok();
                started.then_some(receiver)
            })
            .collect();
        for (name, maker) in names.iter().zip(makers.iter().cycle()) {
            let sent = maker.as_ref().and_then(|maker| maker.recv().ok());
            take(name, sent.unwrap_or_else(|| make(name)));
        }
    });
}
