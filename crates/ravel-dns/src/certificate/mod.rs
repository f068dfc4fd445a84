//! Certificate chains, and what is wrong with them.
//!
//! ```text
//!   PEM ──Certificate::read──▶ the chain ──chain_fault──▶ what keeps browsers from following it to a root
//!                                  └───────certificate_findings──▶ that, and hosts, dates, the file
//! ```

mod chain;
mod findings;
mod pem_file;
mod x509;

pub use chain::{ChainFault, Roots};
pub use findings::{CertificateCheck, WARN_BEFORE, certificate_findings};

use std::fmt;

use super::Moment;
use pem_file::blocks;

/// A certificate chain as it will be served; the private key is not needed.
#[derive(Debug, Clone)]
pub struct Certificate {
    chain: Vec<Link>,
    /// What else the file holds, by the labels of its blocks.
    others: Vec<String>,
    /// Whether the file begins with a byte order mark.
    marked: bool,
}

/// What can be wrong with a file of certificates.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum CertificateError {
    /// It is not PEM (RFC 7468).
    Pem,
    /// A certificate in it, by its number from 1, is not X.509 (RFC 5280).
    X509 {
        /// Its number in the file, from 1.
        number: usize,
        /// What is wrong with it.
        why: &'static str,
    },
    /// It holds no certificate.
    Empty,
}

impl fmt::Display for CertificateError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            CertificateError::Pem => {
                f.write_str("it is no PEM: a block is not closed, or not Base64")
            }
            CertificateError::X509 { number, why } => {
                write!(f, "certificate {number} in it cannot be read: {why}")
            }
            CertificateError::Empty => f.write_str(
                "it holds no certificate; write the chain as PEM blocks that begin with `-----BEGIN CERTIFICATE-----`",
            ),
        }
    }
}

impl std::error::Error for CertificateError {}

/// A certificate of a chain.
#[derive(Debug, Clone)]
struct Link {
    der: Vec<u8>,
    subject: String,
    issuer: String,
    /// DER of subject and issuer, which must follow on each other.
    names: (Vec<u8>, Vec<u8>),
    /// Its key, as DER.
    key: Vec<u8>,
    /// The identifiers of its key, and of its issuer's (RFC 5280, section 4.2.1.1 and 4.2.1.2).
    keys: (Option<Vec<u8>>, Option<Vec<u8>>),
    hosts: Vec<String>,
    from: Moment,
    until: Moment,
    /// Whether it may issue others (RFC 5280, section 4.2.1.9 and 4.2.1.3).
    is_authority: bool,
    /// The names that it may issue for, if they are limited (RFC 5280, section 4.2.1.10).
    permitted: Option<Vec<PermittedName>>,
}

/// A name below which a certificate authority may issue others (RFC 5280, section 4.2.1.10).
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum PermittedName {
    /// A host in lower case, and all below it.
    Dns(String),
    /// An address and its mask, four bytes each, or sixteen.
    Ip(Vec<u8>),
}

impl Certificate {
    /// Reads a chain in PEM (RFC 7468): the site's own certificate first.
    ///
    /// ```
    /// assert!(ravel_dns::Certificate::read(b"no certificate").unwrap_err().to_string().contains("BEGIN CERTIFICATE"));
    /// ```
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn read(pem: &[u8]) -> Result<Certificate, CertificateError> {
        let (mut chain, mut others) = (Vec::new(), Vec::new());
        let text = pem.strip_prefix(b"\xef\xbb\xbf").unwrap_or(pem);
        for block in blocks(text)? {
            if block.tag() != "CERTIFICATE" {
                others.push(block.tag().to_owned());
                continue;
            }
            let number = chain.len() + 1;
            let read = x509::link(block.into_contents());
            chain.push(read.map_err(|why| CertificateError::X509 { number, why })?);
        }
        match chain.is_empty() {
            true => Err(CertificateError::Empty),
            false => Ok(Certificate { chain, others, marked: text.len() < pem.len() }),
        }
    }

    /// The names that the site's certificate is for, in lower case; one may begin with `*.`.
    pub fn hosts(&self) -> &[String] {
        &self.chain[0].hosts
    }

    /// From when to when the whole chain is valid.
    pub fn validity(&self) -> (Moment, Moment) {
        let from = self.chain.iter().map(|link| link.from).max();
        let until = self.chain.iter().map(|link| link.until).min();
        let epoch = Moment::from_unix(0);
        (from.unwrap_or(epoch), until.unwrap_or(epoch))
    }

    /// Who issued the site's certificate.
    pub fn issuer(&self) -> &str {
        &self.chain[0].issuer
    }

    /// Whether it may issue others (RFC 5280, section 4.2.1.9 and 4.2.1.3).
    pub fn is_authority(&self) -> bool {
        self.chain[0].is_authority
    }

    /// Whom it is for, in words.
    pub fn subject(&self) -> &str {
        &self.chain[0].subject
    }

    /// Its public key, as DER (`SubjectPublicKeyInfo` of RFC 5280).
    pub fn public_key(&self) -> &[u8] {
        &self.chain[0].key
    }

    /// The names that it may issue others for; none where it may for all.
    pub fn permitted(&self) -> Option<&[PermittedName]> {
        self.chain[0].permitted.as_deref()
    }

    /// Whether the certificate names a host (RFC 6125, section 6.4): a `*.` name is for one label,
    /// and not for the name below it.
    pub fn names(&self, host: &str) -> bool {
        let host = host.to_ascii_lowercase();
        self.hosts().iter().any(|name| match name.strip_prefix("*.") {
            Some(rest) => host
                .split_once('.')
                .is_some_and(|(label, below)| !label.is_empty() && below == rest),
            None => *name == host,
        })
    }

    /// The first certificate of the chain that did not issue the one before it: its number from 1,
    /// its subject, and who did.
    pub fn misplaced(&self) -> Option<(usize, &str, &str)> {
        self.chain.windows(2).zip(2..).find_map(|(pair, number)| {
            let [link, next] = pair else { return None };
            let same_key = match (&link.keys.1, &next.keys.0) {
                (Some(wanted), Some(found)) => wanted == found,
                _ => true,
            };
            let follows = link.names.1 == next.names.0 && same_key;
            (!follows).then_some((number, &*next.subject, &*link.issuer))
        })
    }
}
