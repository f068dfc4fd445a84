//! The certificates of a site's hosts, made when they are asked for.

use std::collections::HashMap;
use std::fmt;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use time::{Duration, OffsetDateTime};
use tokio_rustls::rustls::server::{ClientHello, ResolvesServerCert};
use tokio_rustls::rustls::sign::CertifiedKey;

use crate::visitor::Visitor;
use crate::{Authority, AuthorityError, Live};

/// How long before its end a certificate is made anew.
const HOST_RENEWAL: Duration = Duration::days(3);
/// Certificates that are kept; below a `*.` there can be very many hosts.
const MAX_KEPT: usize = 256;

/// Gives each host of a site its certificate, by the name that the client asks for (SNI, RFC 6066).
pub(crate) struct HostCertificates {
    folder: PathBuf,
    live: Arc<Live>,
    now: RwLock<Arc<Authority>>,
    kept: Mutex<HashMap<String, (Arc<CertifiedKey>, OffsetDateTime)>>,
}

impl HostCertificates {
    pub(crate) fn new(
        folder: PathBuf,
        live: Arc<Live>,
    ) -> Result<HostCertificates, AuthorityError> {
        let authority = Authority::in_folder(&folder, live.site().rules())?;
        let now = RwLock::new(Arc::new(authority));
        Ok(HostCertificates { folder, live, now, kept: Mutex::default() })
    }

    pub(crate) fn authority(&self) -> Arc<Authority> {
        Arc::clone(&self.now.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Makes another authority where the site has a host now that this one is not for; says whether
    /// it did.
    pub(crate) fn renew(&self) -> Result<bool, AuthorityError> {
        let site = self.live.site();
        if self.authority().covers(site.rules()) {
            return Ok(false);
        }
        let authority = Authority::in_folder(&self.folder, site.rules())?;
        *self.now.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(authority);
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).clear();
        Ok(true)
    }
}

impl fmt::Debug for HostCertificates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("HostCertificates").field("folder", &self.folder).finish_non_exhaustive()
    }
}

impl ResolvesServerCert for HostCertificates {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        // A client that asks for an address sends no name.
        let name = hello.server_name().unwrap_or("localhost").to_ascii_lowercase();
        let site = self.live.site();
        let meant = Visitor::of(&name, &site.rules).host;
        if !site.rules.site().has_host(&meant) {
            tracing::info!(%name, "no certificate: this is not a host of the site");
            return None;
        }
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let soon = OffsetDateTime::now_utc() + HOST_RENEWAL;
        if let Some((key, _)) = kept.get(&name).filter(|(_, ends)| *ends > soon) {
            return Some(Arc::clone(key));
        }
        if kept.len() >= MAX_KEPT {
            kept.clear();
        }
        let (key, ends) = self.authority().certify(&name)?;
        kept.insert(name, (Arc::clone(&key), ends));
        Some(key)
    }
}
