//! A certificate authority of this machine, and the certificates of the site's hosts.

use std::collections::HashMap;
use std::fmt;
use std::fs;
use std::io::Write;
use std::net::{Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    KeyUsagePurpose, SanType,
};
use time::{Duration, OffsetDateTime};
use tokio_rustls::rustls::crypto::ring::sign::any_ecdsa_type;
use tokio_rustls::rustls::pki_types::{
    CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, pem::PemObject,
};
use tokio_rustls::rustls::server::{ClientHello, ResolvesServerCert};
use tokio_rustls::rustls::sign::CertifiedKey;

use crate::Live;
use crate::visitor::Visitor;

/// How long the authority lasts, and how long before its end it is made anew.
const AUTHORITY_LIFE: Duration = Duration::days(3 * 365);
const AUTHORITY_RENEWAL: Duration = Duration::days(90);
/// The same of a host's certificate. Browsers accept no longer ones from a local authority than
/// from another.
const HOST_LIFE: Duration = Duration::days(30);
const HOST_RENEWAL: Duration = Duration::days(3);
/// Certificates that are kept; below a `*.` there can be very many hosts.
const MAX_KEPT: usize = 256;

/// A certificate authority that is kept in a folder of the user, and made on first use.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    certificate: CertificateDer<'static>,
    path: PathBuf,
}

/// Why there is no authority.
#[derive(Debug)]
#[non_exhaustive]
pub enum AuthorityError {
    /// A file could not be read or written.
    Disk(PathBuf, std::io::Error),
    /// A certificate could not be made or read.
    Certificate(rcgen::Error),
}

impl fmt::Display for AuthorityError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AuthorityError::Disk(path, error) => {
                write!(f, "the local authority's file `{}`: {error}", path.display())
            }
            AuthorityError::Certificate(error) => {
                write!(f, "the local authority's certificate: {error}")
            }
        }
    }
}

impl std::error::Error for AuthorityError {}

impl From<rcgen::Error> for AuthorityError {
    fn from(error: rcgen::Error) -> AuthorityError {
        AuthorityError::Certificate(error)
    }
}

impl fmt::Debug for Authority {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Authority").field("path", &self.path).finish_non_exhaustive()
    }
}

impl Authority {
    /// The authority of a folder; made if there is none, or if it is about to end.
    ///
    /// # Errors
    /// A file that cannot be read or written, or that holds something else.
    pub fn in_folder(folder: &Path) -> Result<Authority, AuthorityError> {
        let (path, key_path) = (folder.join("authority.pem"), folder.join("authority.key"));
        let kept = fs::read_to_string(&path).ok().zip(fs::read_to_string(&key_path).ok());
        if let Some((certificate, key)) = kept
            && let Some(authority) = Authority::from_pem(&certificate, &key, &path)
        {
            return Ok(authority);
        }
        tracing::info!(folder = %folder.display(), "a local authority is made");
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::default();
        let now = OffsetDateTime::now_utc();
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.distinguished_name.push(DnType::CommonName, "Ravel local authority");
        (params.not_before, params.not_after) = (now - Duration::days(1), now + AUTHORITY_LIFE);
        let certificate = params.self_signed(&key)?;
        private_folder(folder).map_err(|error| AuthorityError::Disk(folder.to_owned(), error))?;
        let write = |path: &Path, text: &str| {
            write_private(path, text).map_err(|error| AuthorityError::Disk(path.to_owned(), error))
        };
        write(&key_path, &key.serialize_pem())?;
        write(&path, &certificate.pem())?;
        let der = certificate.der().clone();
        Ok(Authority { issuer: Issuer::new(params, key), certificate: der, path })
    }

    /// None where it cannot be used, or not for long any more.
    fn from_pem(certificate: &str, key: &str, path: &Path) -> Option<Authority> {
        let der = CertificateDer::from_pem_slice(certificate.as_bytes()).ok()?;
        let ends =
            x509_parser::parse_x509_certificate(&der).ok()?.1.validity().not_after.to_datetime();
        if ends - OffsetDateTime::now_utc() < AUTHORITY_RENEWAL {
            return None;
        }
        let issuer = Issuer::from_ca_cert_pem(certificate, KeyPair::from_pem(key).ok()?).ok()?;
        Some(Authority { issuer, certificate: der, path: path.to_owned() })
    }

    /// The file with its certificate, for those who want to trust it.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A certificate for a host, with its key and its end.
    fn certify(&self, host: &str) -> Option<(Arc<CertifiedKey>, OffsetDateTime)> {
        let names = if host == "localhost" { Vec::new() } else { vec![host.to_owned()] };
        let mut params = CertificateParams::new(names).ok()?;
        if host == "localhost" {
            params.subject_alt_names.push(SanType::DnsName("localhost".try_into().ok()?));
            params.subject_alt_names.push(SanType::IpAddress(Ipv4Addr::LOCALHOST.into()));
            params.subject_alt_names.push(SanType::IpAddress(Ipv6Addr::LOCALHOST.into()));
        }
        let now = OffsetDateTime::now_utc();
        let ends = now + HOST_LIFE;
        (params.not_before, params.not_after) = (now - Duration::hours(1), ends);
        params
            .distinguished_name
            .push(DnType::CommonName, if host.len() <= 64 { host } else { "a host of the site" });
        params.use_authority_key_identifier_extension = true;
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        let key = KeyPair::generate().ok()?;
        let certificate = params.signed_by(&key, &self.issuer).ok()?;
        let der = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
        let chain = vec![certificate.der().clone(), self.certificate.clone()];
        Some((Arc::new(CertifiedKey::new(chain, any_ecdsa_type(&der).ok()?)), ends))
    }
}

/// Gives each host of a site its certificate, by the name that the client asks for (SNI, RFC 6066).
pub(crate) struct HostCertificates {
    authority: Authority,
    live: Arc<Live>,
    kept: Mutex<HashMap<String, (Arc<CertifiedKey>, OffsetDateTime)>>,
}

impl HostCertificates {
    pub(crate) fn new(authority: Authority, live: Arc<Live>) -> HostCertificates {
        HostCertificates { authority, live, kept: Mutex::default() }
    }
}

impl fmt::Debug for HostCertificates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("HostCertificates")
            .field("authority", &self.authority)
            .finish_non_exhaustive()
    }
}

impl ResolvesServerCert for HostCertificates {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        // A client that asks for an address sends no name.
        let name = hello.server_name().unwrap_or("localhost").to_ascii_lowercase();
        let site = self.live.site();
        let meant = Visitor::of(&name, &site.rules).host;
        if !site.rules.site().has_host(&meant) {
            tracing::info!(%name, "no certificate: this is no host of the site");
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
        let (key, ends) = self.authority.certify(&name)?;
        kept.insert(name, (Arc::clone(&key), ends));
        Some(key)
    }
}

fn private_folder(folder: &Path) -> std::io::Result<()> {
    fs::create_dir_all(folder)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
    }
    Ok(())
}

/// Writes a file that nobody else can read, beside its place, and renames it.
fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    let beside = path.with_extension(format!("new-{}", std::process::id()));
    let mut options = fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    let written = options
        .open(&beside)
        .and_then(|mut file| file.write_all(text.as_bytes()).and_then(|()| file.sync_all()));
    written.and_then(|()| fs::rename(&beside, path)).inspect_err(|_| drop(fs::remove_file(&beside)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> tempfile::TempDir {
        tempfile::TempDir::new().unwrap()
    }

    /// An authority that ends so many days from now.
    fn ending_in(days: i64, folder: &Path) {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::default();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        (params.not_before, params.not_after) = (
            OffsetDateTime::now_utc() - Duration::days(400),
            OffsetDateTime::now_utc() + Duration::days(days),
        );
        fs::write(folder.join("authority.pem"), params.self_signed(&key).unwrap().pem()).unwrap();
        fs::write(folder.join("authority.key"), key.serialize_pem()).unwrap();
    }

    #[test]
    fn an_authority_is_kept_until_its_end_is_near() {
        for (days, kept) in [(365, true), (100, true), (80, false), (-1, false)] {
            let folder = folder();
            ending_in(days, folder.path());
            let before = fs::read(folder.path().join("authority.pem")).unwrap();
            let authority = Authority::in_folder(folder.path()).unwrap();
            assert_eq!(
                fs::read(authority.path()).unwrap() == before,
                kept,
                "{days} days before its end"
            );
        }
    }

    #[test]
    fn a_certificate_names_its_host_and_ends_soon() {
        let folder = folder();
        let authority = Authority::in_folder(folder.path()).unwrap();
        for (host, names) in [("www.harbour.example", 1), ("localhost", 3)] {
            let (key, ends) = authority.certify(host).unwrap();
            let (_, certificate) = x509_parser::parse_x509_certificate(&key.cert[0]).unwrap();
            let named =
                certificate.subject_alternative_name().unwrap().unwrap().value.general_names.len();
            let days = (ends - OffsetDateTime::now_utc()).whole_days();
            assert_eq!((named, days, key.cert.len()), (names, 29, 2), "{host}");
            let (_, issuer) = x509_parser::parse_x509_certificate(&key.cert[1]).unwrap();
            assert!(issuer.is_ca() && certificate.issuer() == issuer.subject());
        }
    }
}
