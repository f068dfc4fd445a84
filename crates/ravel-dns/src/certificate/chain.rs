//! Whether a chain leads from the site's certificate to an authority that is trusted (RFC 5280,
//! section 6).

use std::time::Duration;

use rustls_pki_types::{CertificateDer, TrustAnchor, UnixTime};
use webpki::{ALL_VERIFICATION_ALGS, EndEntityCert, Error, KeyUsage, anchor_from_trusted_cert};

use super::pem_file::blocks;
use super::{Certificate, CertificateError, Link};
use crate::Moment;

/// Certificate authorities that are trusted.
#[derive(Debug, Clone, Default)]
pub struct Roots(Vec<CertificateDer<'static>>);

impl Roots {
    /// Reads them from PEM, as many as there are.
    ///
    /// ```
    /// assert!(ravel_dns::Roots::read(b"nothing").is_err());
    /// ```
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn read(pem: &[u8]) -> Result<Roots, CertificateError> {
        let mut roots = Roots::default();
        for block in blocks(pem.strip_prefix(b"\xef\xbb\xbf").unwrap_or(pem))? {
            if block.tag() == "CERTIFICATE" {
                roots.0.push(block.into_contents().into());
            }
        }
        if roots.0.is_empty() {
            return Err(CertificateError::Empty);
        }
        Ok(roots)
    }

    /// Takes them as DER, as a platform keeps them.
    ///
    /// ```
    /// assert!(ravel_dns::Roots::from_der([vec![0x30]]).is_known());
    /// ```
    pub fn from_der(certificates: impl IntoIterator<Item = Vec<u8>>) -> Roots {
        Roots(certificates.into_iter().map(CertificateDer::from).collect())
    }

    /// Whether there are any.
    pub fn is_known(&self) -> bool {
        !self.0.is_empty()
    }
}

/// What keeps browsers from following a chain to an authority that they trust.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum ChainFault {
    /// A certificate did not issue the one before it.
    Misplaced {
        /// Its number in the file, from 1.
        number: usize,
        /// Its subject.
        subject: String,
        /// Who did.
        wanted: String,
    },
    /// The site's certificate is signed by its own key, and is none that is trusted.
    SelfSigned,
    /// The site's certificate stands alone, and its issuer is none that is trusted.
    IssuerMissing {
        /// Its issuer.
        wanted: String,
    },
    /// A certificate after the first may not issue others.
    NoAuthority {
        /// Its number in the file, from 1.
        number: usize,
        /// Its subject.
        subject: String,
    },
    /// A signature is not by the next certificate's key.
    Signature,
    /// Something else forbids it.
    Refused {
        /// What.
        why: String,
    },
    /// It ends at an authority that is not trusted.
    Untrusted {
        /// Who issued the last certificate of the chain.
        issuer: String,
    },
}

impl Certificate {
    /// What is wrong with the chain, whether its dates are right or not. Without `roots` its last
    /// certificate is taken for one that is trusted, unless it is the only one.
    pub fn chain_fault(&self, roots: Option<&Roots>, now: Moment) -> Option<ChainFault> {
        let (leaf, rest) = self.chain.split_first()?;
        let last = rest.last().unwrap_or(leaf);
        if let Some((number, subject, wanted)) = self.misplaced() {
            let (subject, wanted) = (subject.to_owned(), wanted.to_owned());
            return Some(ChainFault::Misplaced { number, subject, wanted });
        }
        if let Some(at) = rest.iter().position(|link| !link.is_authority) {
            let subject = rest[at].subject.clone();
            return Some(ChainFault::NoAuthority { number: at + 2, subject });
        }
        // What is wrong with the dates is another matter.
        let (from, until) = self.validity();
        let at = if from <= now && now < until { now } else { from };
        let trusted = roots.filter(|roots| roots.is_known());
        // A chain is sound in itself, or not; whom it comes to is asked then.
        let own = rest.last().map(|link| CertificateDer::from(link.der.as_slice()));
        if let Some(own) = &own
            && let Some(fault) = follow(leaf, rest, std::slice::from_ref(own), at)
        {
            return Some(fault);
        }
        let is_trusted = trusted.map(|roots| follow(leaf, rest, &roots.0, at));
        let is_own = rest.is_empty() && leaf.names.0 == leaf.names.1;
        let is_root = trusted.is_some_and(|roots| roots.0.iter().any(|root| **root == *leaf.der));
        match is_trusted {
            Some(None) => None,
            _ if is_own && !is_root => Some(ChainFault::SelfSigned),
            Some(Some(fault @ (ChainFault::Refused { .. } | ChainFault::Signature))) => Some(fault),
            _ if rest.is_empty() => Some(ChainFault::IssuerMissing { wanted: leaf.issuer.clone() }),
            Some(Some(_)) => Some(ChainFault::Untrusted { issuer: last.issuer.clone() }),
            None => None,
        }
    }
}

/// What keeps a certificate from being verified by some others up to one of these.
fn follow(
    leaf: &Link,
    rest: &[Link],
    roots: &[CertificateDer<'_>],
    at: Moment,
) -> Option<ChainFault> {
    let der = CertificateDer::from(leaf.der.as_slice());
    let between: Vec<CertificateDer<'_>> =
        rest.iter().map(|link| CertificateDer::from(link.der.as_slice())).collect();
    // A root that cannot be read issues nothing.
    let anchors: Vec<TrustAnchor<'_>> =
        roots.iter().filter_map(|root| anchor_from_trusted_cert(root).ok()).collect();
    let time = UnixTime::since_unix_epoch(Duration::from_secs(at.unix().try_into().unwrap_or(0)));
    let error = EndEntityCert::try_from(&der).and_then(|certificate| {
        let verified = certificate.verify_for_usage(
            ALL_VERIFICATION_ALGS,
            &anchors,
            &between,
            time,
            KeyUsage::server_auth(),
            None,
            None,
        );
        verified.map(|_| ())
    });
    match error {
        Ok(()) => None,
        // They are never valid at one time: that is found of their dates.
        Err(Error::CertExpired { .. } | Error::CertNotValidYet { .. }) => None,
        Err(Error::UnknownIssuer) => Some(ChainFault::Untrusted { issuer: leaf.issuer.clone() }),
        Err(Error::InvalidSignatureForPublicKey) => Some(ChainFault::Signature),
        Err(error) => Some(ChainFault::Refused { why: said(&error) }),
    }
}

/// What forbids a chain, in the words of its standard.
fn said(error: &Error) -> String {
    match error {
        Error::CaUsedAsEndEntity => {
            "the site's certificate is that of an authority (RFC 5280, section 4.2.1.9)".to_owned()
        }
        Error::EndEntityUsedAsCa => {
            "one that may not issue others did (RFC 5280, section 4.2.1.9)".to_owned()
        }
        Error::PathLenConstraintViolated => {
            "more authorities follow each other than one of them allows (RFC 5280, section 4.2.1.9)"
                .to_owned()
        }
        Error::NameConstraintViolation => {
            "an authority may not issue for these names (RFC 5280, section 4.2.1.10)".to_owned()
        }
        Error::RequiredEkuNotFoundContext(_) => {
            "it is not for web servers (RFC 5280, section 4.2.1.12)".to_owned()
        }
        Error::UnsupportedCriticalExtension => {
            "a critical extension is not known (RFC 5280, section 4.2)".to_owned()
        }
        Error::UnsupportedSignatureAlgorithmContext(_)
        | Error::UnsupportedSignatureAlgorithmForPublicKeyContext(_) => {
            "a signature is of a kind that browsers do not take any more".to_owned()
        }
        other => other.to_string(),
    }
}
