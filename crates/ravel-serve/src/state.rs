//! What is served at the moment: the last good rules, and what is wrong with newer ones.

use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use ravel::Rules;
use ravel::audit::{self, Audit, Report, WaysIn};
use ravel::expect::{Verdict, verify_all};

use crate::{ReadError, Site};

/// A site that is read again when it changes. Cheap to share.
#[derive(Debug)]
pub struct Live {
    path: PathBuf,
    change: fn(&Rules, Option<std::net::IpAddr>) -> Rules,
    listen: Option<std::net::IpAddr>,
    now: RwLock<Now>,
}

#[derive(Debug, Clone)]
struct Now {
    site: Arc<Site>,
    /// Why what is on disk is not what is served.
    problem: Option<Arc<ReadError>>,
    checked: Option<Arc<Checked>>,
}

/// What expectations and the audit say of a site.
#[derive(Debug)]
pub struct Checked {
    /// Of each expectation, in the order of the file.
    pub verdicts: Vec<Verdict>,
    /// The findings.
    pub report: Report,
    /// Where each way in ends.
    pub ways: WaysIn,
}

impl Live {
    /// Reads a site; names of this machine, and the address that is listened on, act as preview hosts.
    ///
    /// # Errors
    /// As [`Site::read`].
    pub fn read(path: &Path, listen: Option<std::net::IpAddr>) -> Result<Live, ReadError> {
        let change = crate::visitor::with_own_names;
        let site = Arc::new(Site::read_with(path, |rules| change(&rules, listen))?);
        Ok(Live { path: path.to_owned(), change, listen, now: RwLock::new(Now { site, problem: None, checked: None }) })
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
    pub fn checked(&self) -> Option<Arc<Checked>> {
        self.now().checked.clone()
    }

    /// Reads the site again; one that can not be read leaves the last good one in place. Says whether it could be read.
    pub fn reload(&self) -> bool {
        let read = Site::read_with(&self.path, |rules| (self.change)(&rules, self.listen));
        let mut now = self.now.write().unwrap_or_else(std::sync::PoisonError::into_inner);
        match read {
            Ok(site) => *now = Now { site: Arc::new(site), problem: None, checked: now.checked.take() },
            Err(error) => now.problem = Some(Arc::new(error)),
        }
        now.problem.is_none()
    }

    /// Runs the expectations and the audit of the site that is served. It can take a while.
    pub fn check(&self) {
        // As it is published, without the names of this machine.
        let Ok(site) = Site::read(&self.path) else { return };
        let mut audit = Audit::new(&site.edge);
        let mut findings = audit.rules();
        findings.extend(audit.names());
        for name in site.edge.files().names().iter().filter(|name| audit::reads(name)) {
            match site.root.as_ref().map(|root| std::fs::read(root.join(&**name))) {
                Some(Ok(bytes)) => audit.read(name, &bytes),
                Some(Err(error)) => audit.unreadable(name, &error.to_string()),
                None => {}
            }
        }
        findings.extend(audit.content());
        let ways = audit.ways_in();
        findings.extend(audit.way_findings(&ways));
        let checked = Checked { verdicts: verify_all(&site.edge), report: audit.report(findings), ways };
        self.now.write().unwrap_or_else(std::sync::PoisonError::into_inner).checked = Some(Arc::new(checked));
    }

    fn now(&self) -> Now {
        self.now.read().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}
