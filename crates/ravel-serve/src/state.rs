//! What is served at the moment: the last good rules, and what is wrong with newer ones.

use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use ravel::expect::Verdict;
use ravel::{Edge, Request};
use ravel_check::verify_all;
use ravel_check::{Audit, EntryPoints, Report};

use crate::visitor::with_own_names;
use crate::{OldEdition, ReadError, RequestDifference, Site};

/// A site that is read again when it changes. Cheap to share.
#[derive(Debug)]
pub struct Live {
    path: PathBuf,
    listen: Option<IpAddr>,
    /// What is never served, wherever it is.
    private: Option<PathBuf>,
    /// With which each answer is compared.
    old: Option<OldEdition>,
    now: RwLock<State>,
}

#[derive(Debug, Clone)]
struct State {
    /// As it is published.
    published: Arc<Site>,
    /// The same with the names of this machine as preview hosts.
    site: Arc<Site>,
    /// As it answered until now.
    old: Option<Arc<Edge>>,
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
        let now = RwLock::new(State::of(Site::read(path)?, listen, None, None));
        Ok(Live { path: path.to_owned(), listen, private: None, old: None, now })
    }

    /// The same without what is in a folder, should that be among the files.
    pub(crate) fn read_without(
        path: &Path,
        listen: Option<IpAddr>,
        private: &Path,
    ) -> Result<Live, ReadError> {
        let now = State::of(Site::read_without(path, Some(private))?, listen, None, None);
        let private = Some(private.to_owned());
        Ok(Live { path: path.to_owned(), listen, private, old: None, now: RwLock::new(now) })
    }

    /// The same, of which each answer is compared with another edition's.
    #[must_use]
    pub fn with_old_edition(mut self, old: OldEdition) -> Live {
        let now = self.now.get_mut().unwrap_or_else(std::sync::PoisonError::into_inner);
        now.old = Some(Arc::new(old.beside(&now.site, self.listen)));
        self.old = Some(old);
        self
    }

    /// The edition with which each answer is compared.
    pub fn old_edition(&self) -> Option<&OldEdition> {
        self.old.as_ref()
    }

    /// How the old edition answers a request differently, if it does.
    pub(crate) fn difference(&self, site: &Site, request: &Request) -> Option<RequestDifference> {
        self.old.as_ref()?;
        RequestDifference::of(&*self.now().old?, site, request)
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
            Ok(site) => {
                *now = State::of(site, self.listen, self.old.as_ref(), now.checked.take());
            }
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
    fn of(
        published: Site,
        listen: Option<IpAddr>,
        old: Option<&OldEdition>,
        checked: Option<Arc<CheckResult>>,
    ) -> State {
        let site = published.answering(with_own_names(&published.rules, listen));
        let old = old.map(|old| Arc::new(old.beside(&site, listen)));
        let (published, site) = (Arc::new(published), Arc::new(site));
        State { published, site, old, problem: None, checked }
    }
}
