//! Reading sites, and writing files.

use std::collections::HashMap;
use std::ops::Deref;
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use ravel_dns::{Certificate, Moment};
use ravel_serve::{ReadError, Site};

use crate::Failure;

/// A site that was read.
pub(crate) struct LoadedSite(Arc<Site>);

impl Deref for LoadedSite {
    type Target = Site;

    fn deref(&self) -> &Site {
        &self.0
    }
}

impl LoadedSite {
    /// Takes in the text of a file that the rules do not name themselves.
    pub(crate) fn know(&mut self, name: &str, text: &str) {
        if let Some(site) = Arc::get_mut(&mut self.0) {
            site.know(name, text);
        }
    }

    /// The site, to be shared.
    pub(crate) fn shared(&self) -> &Arc<Site> {
        &self.0
    }

    /// What is to say of each HTTPS host's certificate, where the rules name one.
    pub(crate) fn certificate_judgements(&self) -> HashMap<String, String> {
        let now = Moment::from(SystemTime::now());
        let mut judgements = HashMap::new();
        for domain in self.rules().domains() {
            let read = |path: &str| self.named(path);
            let Ok(Some(certificate)) = Certificate::of_domain(domain, read) else { continue };
            let (from, until) = certificate.validity();
            for host in self.rules().site().hosts().filter(|host| domain.holds(host)) {
                let judgement = match certificate.names(&host) {
                    false => "not in the certificate".to_owned(),
                    true if now < from => format!("certificate valid from {from}"),
                    true if now >= until => format!("certificate expired on {until}"),
                    true => format!("certificate until {until}"),
                };
                judgements.insert(host.replace('*', "branch"), judgement);
            }
        }
        judgements
    }

    /// Reads a rules file alone: its folder need not be built.
    pub(crate) fn read_rules(path: &Path) -> Result<LoadedSite, Failure> {
        Ok(LoadedSite(Arc::new(Site::read_rules(path)?)))
    }

    /// Reads a rules file and its folder.
    pub(crate) fn read(path: &Path) -> Result<LoadedSite, Failure> {
        Ok(LoadedSite(Arc::new(Site::read(path)?)))
    }
}

impl From<ReadError> for Failure {
    fn from(error: ReadError) -> Failure {
        match error {
            ReadError::Rules(problems, texts) => Failure::Rules(problems, texts),
            error => Failure::Message(error.to_string()),
        }
    }
}

/// The text of a file, which must be UTF-8.
pub(crate) fn text_of(bytes: Vec<u8>, name: &str) -> Result<String, Failure> {
    ravel_serve::text_of(bytes, name).map_err(Failure::Message)
}
