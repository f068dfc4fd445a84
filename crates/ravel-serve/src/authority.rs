//! A certificate authority of this machine, for the hosts of one site.

use std::fmt;
use std::fs;
use std::io::{self, Write};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::visitor::OWN_NAMES;
use ravel::Rules;
use ravel_dns::{Certificate, Moment, PermittedName};
use rcgen::{
    BasicConstraints, CertificateParams, CidrSubnet, DnType, ExtendedKeyUsagePurpose,
    GeneralSubtree, IsCa, Issuer, KeyPair, KeyUsagePurpose, NameConstraints, PublicKeyData,
    SanType,
};
use time::{Duration, OffsetDateTime};
use tokio_rustls::rustls::crypto::ring::sign::any_ecdsa_type;
use tokio_rustls::rustls::pki_types::{
    CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, pem::PemObject,
};
use tokio_rustls::rustls::sign::CertifiedKey;

/// How long the authority lasts, and how long before its end it is made anew.
const AUTHORITY_LIFE: Duration = Duration::days(3 * 365);
const AUTHORITY_RENEWAL: Duration = Duration::days(90);
/// How long a host's certificate lasts. Browsers accept no longer ones from a local authority than
/// from another.
const HOST_LIFE: Duration = Duration::days(30);

const CERTIFICATE_FILE: &str = "authority.pem";
const KEY_FILE: &str = "authority.key";

/// A certificate authority that is kept in a folder of the user, and made on first use. It is for
/// the hosts of one site, their subdomains, and this machine alone (RFC 5280, section 4.2.1.10).
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    certificate: CertificateDer<'static>,
    /// What its certificate says.
    stated: Certificate,
    path: PathBuf,
    replaced: Option<&'static str>,
}

/// Why there is no authority.
#[derive(Debug)]
#[non_exhaustive]
pub enum AuthorityError {
    /// A file could not be read or written.
    Disk(PathBuf, io::Error),
    /// A certificate could not be made or read.
    Certificate(rcgen::Error),
    /// Its folder is among the files that are served, and published.
    Served(PathBuf),
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
            AuthorityError::Served(path) => write!(
                f,
                "the local authority's folder `{}` is in the folder of files, where its key would be published; name another with `--authority`",
                path.display()
            ),
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
    /// The authority of a site, in a folder that is named after its canonical host; made if there
    /// is none, or if it cannot be used. Two that ask at once get the same.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n")?;
    /// let folder = tempfile::TempDir::new()?;
    /// let first = ravel_serve::Authority::in_folder(folder.path(), &rules)?;
    /// assert!(first.path().ends_with("h.example/authority.pem") && first.replaced().is_none());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// A file that cannot be read or written.
    pub fn in_folder(folder: &Path, rules: &Rules) -> Result<Authority, AuthorityError> {
        let disk = |path: &Path| {
            let path = path.to_owned();
            move |error| AuthorityError::Disk(path, error)
        };
        private_folder(folder).map_err(disk(folder))?;
        let _lock = lock(folder).map_err(disk(folder))?;
        let host = rules.site().host().to_string().replace(['[', ']', ':'], "_");
        let own = folder.join(host);
        let replaced = match Authority::kept(&own, rules) {
            Ok(authority) => return Ok(authority),
            Err(why) => why,
        };
        tracing::info!(folder = %own.display(), "a local authority is made");
        let (params, key) = (authority_params(rules)?, KeyPair::generate()?);
        let certificate = params.self_signed(&key)?;
        // Both files at one moment: a pair belongs together.
        let beside = folder.join(format!(".made-{}", std::process::id()));
        let _ = fs::remove_dir_all(&beside);
        private_folder(&beside).map_err(disk(&beside))?;
        let write = |name: &str, text: &str| {
            write_private(&beside.join(name), text).map_err(disk(&own.join(name)))
        };
        write(KEY_FILE, &key.serialize_pem())?;
        let pem = certificate.pem();
        let stated = Certificate::read(pem.as_bytes())
            .map_err(|_| rcgen::Error::CouldNotParseCertificate)?;
        write(CERTIFICATE_FILE, &pem)?;
        put_in_place(&beside, &own).map_err(disk(&own))?;
        let certificate = certificate.der().clone();
        let path = own.join(CERTIFICATE_FILE);
        let issuer = Issuer::new(params, key);
        Ok(Authority { issuer, certificate, stated, path, replaced })
    }

    /// The one that is there; an error where it cannot be used: why it is made anew, or none where
    /// there is none.
    fn kept(folder: &Path, rules: &Rules) -> Result<Authority, Option<&'static str>> {
        if !folder.exists() {
            return Err(None);
        }
        let unreadable = Some("its files could not be read");
        let key_path = folder.join(KEY_FILE);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode = fs::metadata(&key_path).map_err(|_| unreadable)?.permissions().mode();
            if mode & 0o077 != 0 {
                return Err(Some("others could read its key"));
            }
        }
        let path = folder.join(CERTIFICATE_FILE);
        let text = fs::read_to_string(&path).map_err(|_| unreadable)?;
        let key = fs::read_to_string(&key_path).map_err(|_| unreadable)?;
        let key = KeyPair::from_pem(&key).map_err(|_| unreadable)?;
        let certificate =
            CertificateDer::from_pem_slice(text.as_bytes()).map_err(|_| unreadable)?;
        let stated = Certificate::read(text.as_bytes()).map_err(|_| unreadable)?;
        if !stated.is_authority() {
            return Err(Some("it was no certificate authority"));
        }
        if stated.public_key() != key.subject_public_key_info() {
            return Err(Some("its key was not that of its certificate"));
        }
        let now = Moment::from(std::time::SystemTime::now());
        if stated.validity().1.since(now) < AUTHORITY_RENEWAL.whole_seconds() {
            return Err(Some("its end was near"));
        }
        if !permits(&stated, rules) {
            return Err(Some("it was not for all hosts of the site"));
        }
        // What it signs names it as its certificate does.
        let params = authority_params(rules).map_err(|_| unreadable)?;
        if stated.subject() != format!("CN={}", common_name(rules)) {
            return Err(Some("it had another name"));
        }
        let issuer = Issuer::new(params, key);
        Ok(Authority { issuer, certificate, stated, path, replaced: None })
    }

    /// The file with its certificate, for those who want to trust it.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Why it was made in place of another, which those who trusted that must know.
    pub fn replaced(&self) -> Option<&'static str> {
        self.replaced
    }

    /// Whether it is for every host of a site.
    ///
    /// ```
    /// let rules = |more: &str| ravel::Rules::parse(&format!("site https://h.example/\n{more}"));
    /// let folder = tempfile::TempDir::new()?;
    /// let authority = ravel_serve::Authority::in_folder(folder.path(), &rules("")?)?;
    /// assert!(authority.covers(&rules("  alias www.h.example\n")?));
    /// assert!(!authority.covers(&rules("  alias other.example\n")?));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn covers(&self, rules: &Rules) -> bool {
        permits(&self.stated, rules)
    }

    /// A certificate for a host, with its key and its end.
    pub(crate) fn certify(&self, host: &str) -> Option<(Arc<CertifiedKey>, OffsetDateTime)> {
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

/// The hosts that certificates may be for.
fn permitted(rules: &Rules) -> Vec<GeneralSubtree> {
    let mut names: Vec<String> = rules.site().hosts().collect();
    // This machine's own names act as previews; they are named once, and whole.
    names.retain(|name| !OWN_NAMES.contains(&&**name));
    names.push("localhost".to_owned());
    let mut subtrees: Vec<GeneralSubtree> = names
        .iter()
        .map(|name| {
            let name = name.trim_start_matches("*.");
            match name.trim_matches(['[', ']']).parse::<IpAddr>() {
                Ok(IpAddr::V4(ip)) => {
                    GeneralSubtree::IpAddress(CidrSubnet::from_v4_prefix(ip.octets(), 32))
                }
                Ok(IpAddr::V6(ip)) => {
                    GeneralSubtree::IpAddress(CidrSubnet::from_v6_prefix(ip.octets(), 128))
                }
                Err(_) => GeneralSubtree::DnsName(name.to_owned()),
            }
        })
        .collect();
    let loopback = [
        CidrSubnet::from_v4_prefix([127, 0, 0, 0], 8),
        CidrSubnet::from_v6_prefix(Ipv6Addr::LOCALHOST.octets(), 128),
    ];
    subtrees.extend(loopback.map(GeneralSubtree::IpAddress));
    subtrees
}

/// Whether a certificate is limited to some names, and a site's hosts are among them.
fn permits(certificate: &Certificate, rules: &Rules) -> bool {
    let Some(known) = certificate.permitted() else { return false };
    permitted(rules).iter().all(|wanted| match wanted {
        GeneralSubtree::DnsName(name) => known.iter().any(|known| {
            matches!(known, PermittedName::Dns(known) if {
                name == known || name.strip_suffix(known.as_str()).is_some_and(|rest| rest.ends_with('.'))
            })
        }),
        GeneralSubtree::IpAddress(subnet) => {
            let bytes = match subnet {
                CidrSubnet::V4(address, mask) => [&address[..], mask].concat(),
                CidrSubnet::V6(address, mask) => [&address[..], mask].concat(),
            };
            known
                .iter()
                .any(|known| matches!(known, PermittedName::Ip(known) if *known == bytes))
        }
        _ => true,
    })
}

fn authority_params(rules: &Rules) -> Result<CertificateParams, AuthorityError> {
    let mut params = CertificateParams::default();
    let now = OffsetDateTime::now_utc();
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params.name_constraints = Some(NameConstraints {
        permitted_subtrees: permitted(rules),
        excluded_subtrees: Vec::new(),
    });
    params.distinguished_name.push(DnType::CommonName, common_name(rules));
    (params.not_before, params.not_after) = (now - Duration::days(1), now + AUTHORITY_LIFE);
    Ok(params)
}

/// A common name has at most 64 characters (RFC 5280, appendix A.1).
fn common_name(rules: &Rules) -> String {
    let name = format!("Ravel local authority for {}", rules.site().host());
    if name.len() <= 64 { name } else { "Ravel local authority".to_owned() }
}

/// Holds others up who look for an authority in a folder.
fn lock(folder: &Path) -> io::Result<fs::File> {
    let file = fs::OpenOptions::new()
        .create(true)
        .truncate(false)
        .write(true)
        .open(folder.join(".lock"))?;
    #[cfg(unix)]
    rustix::fs::flock(&file, rustix::fs::FlockOperation::LockExclusive)?;
    Ok(file)
}

/// Makes a folder that is for its owner alone; one that is there stays as it is.
fn private_folder(folder: &Path) -> io::Result<()> {
    let mut builder = fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::DirBuilderExt;
        builder.mode(0o700);
    }
    builder.create(folder)
}

/// Puts a folder where another may be, which is gone then. Where the system can exchange them, who
/// reads there finds the one or the other at every moment.
fn put_in_place(made: &Path, place: &Path) -> io::Result<()> {
    #[cfg(any(target_os = "linux", target_os = "android", target_vendor = "apple"))]
    {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        if renameat_with(CWD, made, CWD, place, RenameFlags::EXCHANGE).is_ok() {
            return fs::remove_dir_all(made);
        }
    }
    if place.exists() {
        fs::remove_dir_all(place)?;
    }
    fs::rename(made, place)
}

/// Writes a new file that nobody else can read.
fn write_private(path: &Path, text: &str) -> io::Result<()> {
    let mut options = fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    let mut file = options.open(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

#[cfg(test)]
mod tests;
