//! What a certificate lacks for the hosts of a site at a moment.

use super::{Certificate, ChainFault, Roots};
use crate::Moment;
use ravel::finding::{Finding, FindingPlace};
use ravel::rules::{Code, Domain, Site};

/// How long before its end a certificate is warned of, in seconds, where nothing is said.
pub const WARN_BEFORE: i64 = 21 * 86_400;

/// How a certificate is looked at.
///
/// ```
/// let check = ravel_dns::CertificateCheck::at("2027-03-01T06:00:00Z".parse()?);
/// assert_eq!(check.with_warn_before(7 * 86_400).warn_before(), 7 * 86_400);
/// # Ok::<(), ravel_dns::MomentError>(())
/// ```
#[derive(Debug, Clone, Copy)]
pub struct CertificateCheck<'a> {
    now: Moment,
    warn_before: i64,
    roots: Option<&'a Roots>,
}

impl<'a> CertificateCheck<'a> {
    /// At a moment, with [`WARN_BEFORE`]; which authorities are trusted is not asked.
    pub fn at(now: Moment) -> CertificateCheck<'a> {
        CertificateCheck { now, warn_before: WARN_BEFORE, roots: None }
    }

    /// Warns of certificates that expire within this time, in seconds.
    #[must_use]
    pub fn with_warn_before(self, warn_before: i64) -> CertificateCheck<'a> {
        CertificateCheck { warn_before, ..self }
    }

    /// The chain must lead to one of these authorities.
    #[must_use]
    pub fn with_roots(self, roots: &'a Roots) -> CertificateCheck<'a> {
        CertificateCheck { roots: Some(roots), ..self }
    }

    /// How long before its end it is warned of, in seconds.
    pub fn warn_before(&self) -> i64 {
        self.warn_before
    }
}

/// What is wrong with the certificate of a domain.
pub fn certificate_findings(
    site: &Site,
    domain: &Domain,
    certificate: &Certificate,
    check: &CertificateCheck<'_>,
) -> Vec<Finding> {
    let now = check.now;
    let Some(file) = domain.certificate() else { return Vec::new() };
    let on = |code, what: String| {
        Finding::at(
            code,
            FindingPlace::Named { by: file.line(), name: file.path().into(), number: None },
            what,
        )
    };
    let refused = "browsers refuse the site";
    let mut out = Vec::new();
    for host in site.hosts().filter(|host| domain.holds(host) && !certificate.names(host)) {
        let wild = certificate.hosts().iter().find_map(|name| {
            let base = name.strip_prefix("*.")?;
            (host == base || host.ends_with(&format!(".{base}"))).then_some(name)
        });
        let why = match wild {
            Some(name) => format!(": `{name}` covers one label only"),
            None => String::new(),
        };
        out.push(
            on(Code::CertificateHostMismatch, format!("the certificate does not name `{host}`{why}"))
                .with_note(refused)
                .with_help(format!(
                    "get a certificate with `{host}` among its subject alternative names; this one has {}",
                    certificate.hosts().join(", ")
                )),
        );
    }
    let (from, until) = certificate.validity();
    if now < from {
        let what = format!("the certificate is not valid before {}", from);
        out.push(
            on(Code::CertificateValidity, what)
                .with_note(refused)
                .with_help("serve it from then on, or get one that is valid now"),
        );
    } else if now >= until {
        let what = format!("the certificate expired on {}", until);
        out.push(on(Code::CertificateValidity, what).with_note(refused).with_help("get a new one"));
    } else if until.since(now) < check.warn_before {
        let what =
            format!("the certificate expires in {} days, on {until}", until.since(now) / 86_400);
        out.push(
            on(Code::CertificateExpires, what)
                .with_note("browsers refuse the site from then on")
                .with_help("get a new one, or see that it is renewed by itself"),
        );
    }
    if let Some(fault) = certificate.chain_fault(check.roots, now) {
        out.push(of_chain(&fault, on));
    }
    let others: Vec<String> = certificate
        .others
        .iter()
        .map(|label| format!("a block `{label}`"))
        .chain(certificate.marked.then(|| "a byte order mark at its start".to_owned()))
        .collect();
    if !others.is_empty() {
        let is_secret = certificate.others.iter().any(|label| label.ends_with("PRIVATE KEY"));
        let what = format!("the file holds more than certificates: {}", others.join(", "));
        out.push(on(Code::CertificateFile, what).with_note(match is_secret {
            true => "whoever has the key can pose as the site, and the rules are seen by many",
            false => "many servers do not find the first certificate then, or refuse the file",
        })
        .with_help(match is_secret {
            true => "keep the key elsewhere; if others have seen it, get a new certificate with a new key",
            false => "keep only the blocks `CERTIFICATE`, saved as plain text",
        }));
    }
    out
}

/// What a chain's fault means for visitors, and what to do.
fn of_chain(fault: &ChainFault, on: impl Fn(Code, String) -> Finding) -> Finding {
    let refused = "browsers refuse the site";
    match fault {
        ChainFault::Misplaced { number, subject, wanted } => on(
            Code::CertificateChainOrder,
            format!("certificate {number} of the chain is `{subject}`, which did not issue the one before it"),
        )
        .with_note("browsers that do not know the missing certificate refuse the site")
        .with_help(format!("put after each certificate the one that issued it (RFC 8446, section 4.4.2), here `{wanted}`")),
        ChainFault::SelfSigned => on(
            Code::CertificateUntrusted,
            "the certificate is self-signed: no authority has issued it".to_owned(),
        )
        .with_note(refused)
        .with_help("get one of a certificate authority that browsers know"),
        ChainFault::IssuerMissing { wanted } => on(
            Code::CertificateChainBroken,
            format!("the site's certificate stands alone: that of its issuer, `{wanted}`, is missing"),
        )
        .with_note("browsers that do not know the missing certificate refuse the site")
        .with_help("append the authority's certificates, which it gives with the site's, each after the one it issued"),
        ChainFault::NoAuthority { number, subject } => on(
            Code::CertificateChainBroken,
            format!("certificate {number} of the chain, `{subject}`, may not issue others"),
        )
        .with_note(refused)
        .with_help("put the certificate of the authority there that issued the one before it (RFC 5280, section 4.2.1.9)"),
        ChainFault::Signature => on(
            Code::CertificateChainBroken,
            "a signature in the chain is not by the key of the certificate after it".to_owned(),
        )
        .with_note(refused)
        .with_help("get the chain from the authority again; it may have several certificates of one name"),
        ChainFault::Refused { why } => {
            on(Code::CertificateChainBroken, format!("the chain cannot be verified: {why}"))
                .with_note(refused)
                .with_help("get a certificate for a web server, and the authority's chain with it")
        }
        ChainFault::Untrusted { issuer } => on(
            Code::CertificateUntrusted,
            format!("the chain ends at `{issuer}`, which is none of the authorities that are trusted here"),
        )
        .with_note("browsers refuse the site unless they know that authority, or one that vouches for it")
        .with_help("if it is your own, give its certificate with `--ca FILE`; else append what the authority gives with the site's certificate"),
    }
}
