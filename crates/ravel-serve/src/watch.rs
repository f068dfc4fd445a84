//! Changes on disk.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use notify::{Event, RecursiveMode, Watcher};
use tokio::sync::mpsc;

use crate::Live;

/// A build writes many files; they are read once it has been quiet for so long.
const QUIET: Duration = Duration::from_millis(120);

/// Watches the rules, what they include, and the folder, and reads the site again when something
/// changes; `changed` is told.
pub(crate) async fn watch(
    live: Arc<Live>,
    changed: impl Fn(bool) + Send + 'static,
) -> Result<(), notify::Error> {
    let (events, mut changes) = mpsc::unbounded_channel();
    let mut watcher = notify::recommended_watcher(move |event: Result<Event, notify::Error>| {
        if event.is_ok_and(|event| !event.kind.is_access()) {
            // The receiver is gone only when the server is.
            let _ = events.send(());
        }
    })?;
    let mut watched: Vec<PathBuf> = Vec::new();
    follow(&mut watcher, &live, &mut watched);
    while changes.recv().await.is_some() {
        while tokio::time::timeout(QUIET, changes.recv()).await.is_ok_and(|change| change.is_some())
        {
        }
        let reader = Arc::clone(&live);
        let good = tokio::task::spawn_blocking(move || reader.reload()).await.unwrap_or(false);
        changed(good);
        follow(&mut watcher, &live, &mut watched);
    }
    Ok(())
}

/// Watches the folders that the site is in now; one that was removed and made again is a new one.
fn follow(watcher: &mut impl Watcher, live: &Live, watched: &mut Vec<PathBuf>) {
    let site = live.site();
    for path in watched.drain(..) {
        let _ = watcher.unwatch(&path);
    }
    let folder = match live.path().parent() {
        Some(parent) if parent != Path::new("") => parent.to_owned(),
        _ => PathBuf::from("."),
    };
    let sources = site
        .rules
        .sources()
        .iter()
        .filter_map(|source| folder.join(&**source).parent().map(Path::to_owned));
    let mut folders: Vec<(PathBuf, RecursiveMode)> =
        sources.map(|source| (source, RecursiveMode::NonRecursive)).collect();
    folders.push((folder, RecursiveMode::NonRecursive));
    folders.extend(site.root.iter().map(|root| (root.clone(), RecursiveMode::Recursive)));
    for (path, mode) in folders {
        if !watched.contains(&path) && watcher.watch(&path, mode).is_ok() {
            watched.push(path);
        }
    }
}
