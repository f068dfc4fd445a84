//! Changes on disk.
//!
//! Events say at once what changed; once a second a look at the folders says whether one of them
//! was removed, made anew, or led elsewhere by a link, of which there are no events.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use notify::event::ModifyKind;
use notify::{Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use tokio::sync::mpsc::{self, UnboundedSender};
use tokio::time::{Instant, MissedTickBehavior, interval, timeout_at};

use crate::Live;

/// A build writes many files; they are read once it has been quiet for so long.
const QUIET: Duration = Duration::from_millis(120);
/// Changes without a pause are read after so long.
const MAX_DELAY: Duration = Duration::from_secs(1);
/// How often it is looked whether a folder is another now.
const LOOK: Duration = Duration::from_secs(1);
/// A build that removes its folder has so long to make it again, before that is a problem.
const REBUILD: Duration = Duration::from_secs(3);

/// Watches the rules, what they include, and the folder, and reads the site again when something
/// changes; `changed` is told.
pub(crate) async fn watch(
    live: Arc<Live>,
    changed: impl Fn(bool) + Send + 'static,
) -> Result<(), notify::Error> {
    let (events, mut changes) = mpsc::unbounded_channel();
    let mut watched = Watched::follow(&events, &live)?;
    // What has changed since the site was first read was not watched yet.
    reload(&live).await;
    let mut looks = interval(LOOK);
    looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        let mut change = tokio::select! {
            change = changes.recv() => change.unwrap_or(Change::Content),
            _ = looks.tick() => if watched.are_others(&live) { Change::Folder } else { continue },
        };
        let latest = Instant::now() + MAX_DELAY;
        while let Ok(Some(next)) =
            timeout_at((Instant::now() + QUIET).min(latest), changes.recv()).await
        {
            change = change.max(next);
            if Instant::now() >= latest {
                break;
            }
        }
        rebuilt(&live).await;
        while let Ok(next) = changes.try_recv() {
            change = change.max(next);
        }
        watched.sources = sources(&live);
        let mut good = reload(&live).await;
        if change == Change::Folder || watched.are_others(&live) {
            watched = Watched::follow(&events, &live)?;
            // Between two watches nothing is seen.
            good = reload(&live).await;
        }
        changed(good);
    }
}

async fn reload(live: &Arc<Live>) -> bool {
    let reader = Arc::clone(live);
    tokio::task::spawn_blocking(move || reader.reload()).await.unwrap_or(false)
}

/// Waits for a folder that was removed to be there again, for some time.
async fn rebuilt(live: &Live) {
    let site = live.site();
    let Some(root) = site.root() else { return };
    let latest = Instant::now() + REBUILD;
    while !root.exists() && Instant::now() < latest {
        tokio::time::sleep(QUIET).await;
    }
}

/// Which file a path leads to.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum FileId {
    #[cfg(unix)]
    Node(u64, u64),
    #[cfg(not(unix))]
    Path(Option<PathBuf>),
    Nothing,
}

impl FileId {
    /// Of a file that is open, by what is known of it.
    #[cfg(unix)]
    pub(crate) fn of_data(data: &std::fs::Metadata, _: &Path) -> FileId {
        use std::os::unix::fs::MetadataExt;
        FileId::Node(data.dev(), data.ino())
    }

    #[cfg(not(unix))]
    pub(crate) fn of_data(_: &std::fs::Metadata, path: &Path) -> FileId {
        FileId::of(path)
    }

    #[cfg(unix)]
    fn of(path: &Path) -> FileId {
        use std::os::unix::fs::MetadataExt;
        match path.metadata() {
            Ok(data) => FileId::Node(data.dev(), data.ino()),
            Err(_) => FileId::Nothing,
        }
    }

    #[cfg(not(unix))]
    fn of(path: &Path) -> FileId {
        path.canonicalize().map_or(FileId::Nothing, |path| FileId::Path(Some(path)))
    }
}

/// The files that this process writes its output to: what is logged is no change of the site.
fn own_output() -> Vec<FileId> {
    let output = ["/dev/stdout", "/dev/stderr"].map(|path| FileId::of(Path::new(path)));
    output.into_iter().filter(|file| *file != FileId::Nothing).collect()
}

/// What an event says of what is watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Change {
    /// Something in it is another.
    Content,
    /// It was moved, removed or made itself, and is watched no more, even if it is back.
    Folder,
}

impl Change {
    /// Of an event, unless it changes nothing.
    fn of(event: &Event, folders: &[OsString], own: &[FileId]) -> Option<Change> {
        let is_own = |path: &PathBuf| own.contains(&FileId::of(path));
        let is_folder = |path: &PathBuf| {
            path.file_name().is_some_and(|name| folders.iter().any(|one| one == name))
        };
        if event.need_rescan() {
            return Some(Change::Folder);
        }
        if event.kind.is_access() || !event.paths.is_empty() && event.paths.iter().all(is_own) {
            return None;
        }
        let renames = event.kind.is_create()
            || event.kind.is_remove()
            || matches!(event.kind, EventKind::Modify(ModifyKind::Name(_)));
        let is_folder = renames && event.paths.iter().any(is_folder);
        Some(if is_folder { Change::Folder } else { Change::Content })
    }
}

/// What is watched, and what it was.
struct Watched {
    paths: Vec<(PathBuf, FileId)>,
    /// The rules' files, with when they were written: a link could lead to another now.
    sources: Vec<StampedFile>,
    /// Ends with this.
    _watcher: RecommendedWatcher,
}

type StampedFile = (PathBuf, FileId, Option<SystemTime>);

impl Watched {
    /// Watches the folders that the site is in now, and sends word of each change.
    ///
    /// The watcher is a new one each time: one that has still to take in that a folder was moved
    /// would cease to watch the one that is in its place.
    fn follow(events: &UnboundedSender<Change>, live: &Live) -> Result<Watched, notify::Error> {
        let (events, own, folders) = (events.clone(), own_output(), folders(live));
        let names: Vec<_> =
            folders.iter().filter_map(|(path, _)| Some(path.file_name()?.to_owned())).collect();
        let mut watcher = notify::recommended_watcher(move |event: Result<Event, _>| {
            // Events that were lost could have been any.
            let change =
                event.map_or(Some(Change::Folder), |event| Change::of(&event, &names, &own));
            if let Some(change) = change {
                // The receiver is gone only when the server is.
                let _ = events.send(change);
            }
        })?;
        let watch = |(path, mode): (PathBuf, RecursiveMode)| {
            // What it is is asked first: if it becomes another before it is watched, it is followed
            // again. One that is not there is looked for.
            let id = FileId::of(&path);
            let _ = watcher.watch(&path, mode);
            (path, id)
        };
        let paths = folders.into_iter().map(watch).collect();
        Ok(Watched { paths, sources: sources(live), _watcher: watcher })
    }

    /// Whether a folder or a file is another than when it was last watched.
    fn are_others(&self, live: &Live) -> bool {
        let is_folder = |path: &PathBuf| self.paths.contains(&(path.clone(), FileId::of(path)));
        !folders(live).iter().all(|(path, _)| is_folder(path)) || sources(live) != self.sources
    }
}

/// The files of a site's rules.
fn sources(live: &Live) -> Vec<StampedFile> {
    let stamped = |path: PathBuf| {
        let written = path.metadata().and_then(|data| data.modified()).ok();
        let id = FileId::of(&path);
        (path, id, written)
    };
    source_paths(live).into_iter().map(stamped).collect()
}

fn rules_folder(live: &Live) -> PathBuf {
    match live.path().parent() {
        Some(parent) if parent != Path::new("") => parent.to_owned(),
        _ => PathBuf::from("."),
    }
}

fn source_paths(live: &Live) -> Vec<PathBuf> {
    let site = live.site();
    let included = site.rules.sources().iter().skip(1).map(|source| PathBuf::from(&**source));
    included.chain([live.path().to_owned()]).collect()
}

/// The folders of a site, and those that they are in.
fn folders(live: &Live) -> Vec<(PathBuf, RecursiveMode)> {
    let site = live.site();
    let mut folders = vec![(rules_folder(live), RecursiveMode::NonRecursive)];
    let root = site.root.iter().cloned();
    for path in source_paths(live).into_iter().chain(root) {
        // The folder that something is in says when it comes back.
        let parent = path.parent().filter(|parent| *parent != Path::new(""));
        folders.extend(parent.map(|parent| (parent.to_owned(), RecursiveMode::NonRecursive)));
    }
    folders.extend(site.root.iter().map(|root| (root.clone(), RecursiveMode::Recursive)));
    folders.sort_by(|one, other| one.0.cmp(&other.0));
    folders.dedup_by(|one, other| one.0 == other.0 && one.1 == other.1);
    folders
}
