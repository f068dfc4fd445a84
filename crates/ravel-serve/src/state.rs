//! What is served at the moment: the last good rules, and what is wrong with newer ones.

use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use ravel::expect::Verdict;
use ravel_check::verify_all;
use ravel_check::{Audit, EntryPoints, Report};

use crate::visitor::with_own_names;
use crate::{ReadError, Site};

/// A site that is read again when it changes. Cheap to share.
#[derive(Debug)]
pub struct Live {
    path: PathBuf,
    listen: Option<IpAddr>,
    /// What is never served, wherever it is.
    private: Option<PathBuf>,
    now: RwLock<State>,
}

#[derive(Debug, Clone)]
struct State {
    /// As it is published.
    published: Arc<Site>,
    /// The same with the names of this machine as preview hosts.
    site: Arc<Site>,
    /// Why what is on disk is not what is served.
    problem: Option<Arc<ReadError>>,
    checked: Option<Arc<CheckResult>>,
}

/// What expectations and the audit say of a site.
#[derive(Debug)]
pub struct CheckResult {
    pub(crate) verdicts: Vec<Verdict>,
    pub(crate) report: Report,
    pub(crate) ways: EntryPoints,
}

impl CheckResult {
    /// Of each expectation, in the order of the file.
    pub fn verdicts(&self) -> &[Verdict] {
        &self.verdicts
    }

    /// The findings.
    pub fn report(&self) -> &Report {
        &self.report
    }

    /// Where each entry point ends.
    pub fn points(&self) -> &EntryPoints {
        &self.ways
    }
}

impl Live {
    /// Reads a site; names of this machine, and the address that is listened on, act as preview
    /// hosts.
    ///
    /// # Errors
    /// As [`Site::read`].
    pub fn read(path: &Path, listen: Option<IpAddr>) -> Result<Live, ReadError> {
        let now = RwLock::new(State::of(Site::read(path)?, listen, None));
        Ok(Live { path: path.to_owned(), listen, private: None, now })
    }

    /// The same without what is in a folder, should that be among the files.
    pub(crate) fn read_without(
        path: &Path,
        listen: Option<IpAddr>,
        private: &Path,
    ) -> Result<Live, ReadError> {
        let now = State::of(Site::read_without(path, Some(private))?, listen, None);
        let private = Some(private.to_owned());
        Ok(Live { path: path.to_owned(), listen, private, now: RwLock::new(now) })
    }

    /// The rules file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The site that is served.
    pub fn site(&self) -> Arc<Site> {
        Arc::clone(&self.now().site)
    }

    /// Why what is on disk is not served, if it is not.
    pub fn problem(&self) -> Option<Arc<ReadError>> {
        self.now().problem.clone()
    }

    /// What the last check said.
    pub fn checked(&self) -> Option<Arc<CheckResult>> {
        self.now().checked.clone()
    }

    /// Reads the site again; one that cannot be read leaves the last good one in place. Says
    /// whether it could be read.
    pub fn reload(&self) -> bool {
        let read = Site::read_without(&self.path, self.private.as_deref());
        let mut now = self.now.write().unwrap_or_else(std::sync::PoisonError::into_inner);
        match read {
            Ok(site) => *now = State::of(site, self.listen, now.checked.take()),
            Err(error) => now.problem = Some(Arc::new(error)),
        }
        now.problem.is_none()
    }

    /// Runs the expectations and the audit of the site that is served. It can take a while.
    pub fn check(&self) {
        let site = self.now().published;
        let (report, ways) =
            Audit::new(&site.edge).all(|name| site.bytes(name), site.domain_findings());
        let checked = CheckResult { verdicts: verify_all(&site.edge), report, ways };
        self.now.write().unwrap_or_else(std::sync::PoisonError::into_inner).checked =
            Some(Arc::new(checked));
    }

    fn now(&self) -> State {
        self.now.read().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

impl State {
    fn of(published: Site, listen: Option<IpAddr>, checked: Option<Arc<CheckResult>>) -> State {
        let site = published.answering(with_own_names(&published.rules, listen));
        State { published: Arc::new(published), site: Arc::new(site), problem: None, checked }
    }
}
