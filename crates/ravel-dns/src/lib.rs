//! What a domain must say so that visitors reach the site: its records, its certificate, and what
//! happens while they change.
//!
//! ```text
//!   Site + Domain + Zone ──Plan::new──▶ rows: there, needed, to do ──▶ Zone::with: the new zone's text
//!                 + Certificate ──────▶ findings: what is wrong
//!                 + a moment ─────────▶ Timeline: who reaches what, from when until when, and the order of steps
//! ```
//!
//! No question is asked of the network here and no clock is read: zones come as text, moments as
//! values.

#![warn(missing_docs)]

mod caa;
mod certificate;
mod elsewhere;
mod entry;
mod findings;
mod moment;
mod plan;
mod requirement;
mod row;
#[cfg(feature = "serde")]
mod serial;
mod steps;
mod timeline;
pub mod zone;

pub use certificate::{
    Certificate, CertificateCheck, CertificateError, ChainFault, PermittedName, Roots, WARN_BEFORE,
    certificate_findings,
};
pub use entry::Entry;
pub use moment::{Moment, MomentError};
pub use plan::Plan;
pub use requirement::Requirement;
pub use row::{Action, RecordValue, Row};
pub use steps::ZoneStep;
pub use timeline::{
    Destinations, Gap, HostTimeline, Issuance, NameServerMove, Span, Step, StepKind, Timeline,
    Window,
};
pub use zone::{Zone, ZoneError};

use ravel::finding::{Finding, FindingPlace};
use ravel::rules::{Code, Domain, NamedFile, Rules};

/// Why a file that a `domain` statement names cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedFileError {
    pub(crate) file: NamedFile,
    pub(crate) number: Option<u32>,
    pub(crate) why: String,
}

impl NamedFileError {
    /// The file, and the line that names it.
    pub fn file(&self) -> &NamedFile {
        &self.file
    }

    /// The line in it, from 1; none where the file as a whole is meant.
    pub fn number(&self) -> Option<u32> {
        self.number
    }

    /// What is wrong.
    pub fn why(&self) -> &str {
        &self.why
    }
}

impl std::fmt::Display for NamedFileError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.number {
            Some(number) => write!(f, "`{}` line {number}: {}", self.file.path(), self.why),
            None => write!(f, "`{}`: {}", self.file.path(), self.why),
        }
    }
}

impl std::error::Error for NamedFileError {}

impl Zone {
    /// Reads the zone of a domain; `read` gives the bytes of files by their path from the rules
    /// file's folder, also of those that the zone includes. None where the rules name none.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// let read = |_: &str| Ok::<_, std::io::Error>(text.into());
    /// assert_eq!(ravel_dns::Zone::of_domain(&rules.domains()[0], read)?.unwrap().serial(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// Why the file cannot be read, or the first line that cannot be understood.
    pub fn of_domain<E: std::fmt::Display>(
        domain: &Domain,
        mut read: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Option<Zone>, NamedFileError> {
        let Some(file) = domain.zone() else { return Ok(None) };
        let fail = |number, why| NamedFileError { file: file.clone(), number, why };
        let bytes =
            read(file.path()).map_err(|error| fail(None, format!("cannot read it: {error}")))?;
        let text = String::from_utf8(bytes).map_err(|error| {
            let good = &error.as_bytes()[..error.utf8_error().valid_up_to()];
            let line = 1 + good.iter().filter(|byte| **byte == b'\n').count();
            fail(
                u32::try_from(line).ok(),
                "this is not UTF-8; write other bytes as `\\DDD`, and save the file as UTF-8"
                    .into(),
            )
        })?;
        let folder = file.path().rsplit_once('/').map_or("", |(folder, _)| folder);
        Zone::parse_with(domain.name().as_str(), &text, folder, read)
            .map(Some)
            .map_err(|error| fail(Some(error.line), error.kind.to_string()))
    }
}

impl Certificate {
    /// Reads the certificate of a domain, as [`Zone::of_domain`] does the zone.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
    /// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
    /// # let zone = ravel_dns::Zone::parse("h.example", text)?;
    /// let read = |_: &str| Err("no such file");
    /// let error = ravel_dns::Certificate::of_domain(&rules.domains()[0], read).unwrap_err();
    /// assert!(error.to_string().contains("no such file"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// Why the file cannot be read, or what is wrong with it.
    pub fn of_domain<E: std::fmt::Display>(
        domain: &Domain,
        mut read: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Option<Certificate>, NamedFileError> {
        let Some(file) = domain.certificate() else { return Ok(None) };
        let fail = |why| NamedFileError { file: file.clone(), number: None, why };
        let bytes = read(file.path()).map_err(|error| fail(format!("cannot read it: {error}")))?;
        Certificate::read(&bytes).map(Some).map_err(|error| fail(error.to_string()))
    }
}

/// What is wrong with the zones and the certificates of a site's domains at a moment; `read` gives
/// the bytes of files by their path from the rules file's folder.
///
/// ```
/// # let rules = ravel::Rules::parse("site https://h.example/\ndomain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n  certificate c\n")?;
/// # let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n@ 1h A 203.0.113.80\nwww 1h CNAME @\n";
/// # let zone = ravel_dns::Zone::parse("h.example", text)?;
/// # let at: ravel_dns::Moment = "2027-03-01T06:00:00Z".parse()?;
/// let read = |name: &str| match name {
///     "z" => Ok(text.as_bytes().to_vec()),
///     _ => Err("no such file"),
/// };
/// assert!(!ravel_dns::findings(&rules, at, read).is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn findings<E: std::fmt::Display>(
    rules: &Rules,
    now: Moment,
    mut read: impl FnMut(&str) -> Result<Vec<u8>, E>,
) -> Vec<Finding> {
    let mut findings = Vec::new();
    for domain in rules.domains() {
        match Zone::of_domain(domain, &mut read) {
            Ok(Some(zone)) => findings.extend(Plan::new(rules.site(), domain, &zone).findings()),
            Ok(None) => {}
            Err(error) => findings.push(error.into()),
        }
        match Certificate::of_domain(domain, &mut read) {
            Ok(Some(certificate)) => {
                let check = CertificateCheck::at(now);
                findings.extend(certificate_findings(rules.site(), domain, &certificate, &check));
            }
            Ok(None) => {}
            Err(error) => findings.push(error.into()),
        }
    }
    findings
}

impl From<NamedFileError> for Finding {
    fn from(error: NamedFileError) -> Finding {
        let (by, name) = (error.file.line(), error.file.path().into());
        let message = match error.number {
            Some(_) => error.why,
            // It is shown at the line of the rules that names the file.
            None => format!("`{}`: {}", error.file.path(), error.why),
        };
        let place = FindingPlace::Named { by, name, number: error.number };
        Finding::at(Code::UnreadableFile, place, message)
            .with_note("it was not checked")
            .with_help("correct the file, or remove the line")
    }
}
