//! Findings that the rules accept.

use super::{Audit, Code, Finding, Severity};
use ravel::edit::Edit;

/// What an audit came to.
#[derive(Debug, Clone, Default)]
pub struct Report {
    pub(crate) findings: Vec<Finding>,
    pub(crate) accepted: usize,
}

impl Report {
    /// How many findings have this severity.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// use ravel::rules::Severity;
    ///
    /// let audit = ravel_check::Audit::new(&edge);
    /// assert_eq!(audit.report(audit.rules()).count(Severity::Error), 0);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.code().severity() == severity).count()
    }

    /// The findings, in the order of the files.
    pub fn findings(&self) -> &[Finding] {
        &self.findings
    }

    /// How many others are accepted.
    pub fn accepted(&self) -> usize {
        self.accepted
    }
}

impl<'r> Audit<'r> {
    /// Puts findings in order and leaves out what the rules accept; an `accept` that there is
    /// nothing for is one more.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let audit = ravel_check::Audit::new(&edge);
    /// assert_eq!(audit.report(audit.rules()).accepted(), 0);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn report(&self, mut findings: Vec<Finding>) -> Report {
        let (accepts, site) = (self.edge().rules().accepts(), self.edge().site());
        let mut used = vec![false; accepts.len()];
        let before = findings.len();
        findings.retain(|finding| {
            let mut accepted = false;
            for (_, used) in accepts
                .iter()
                .zip(&mut used)
                .filter(|(accept, _)| finding.is_accepted_by(accept, site))
            {
                *used = true;
                accepted = true;
            }
            !accepted
        });
        let accepted = before - findings.len();
        for (accept, _) in accepts.iter().zip(&used).filter(|(_, used)| !**used) {
            findings.push(
                Finding::on(
                    Code::UnusedAccept,
                    accept.line(),
                    format!("there is no finding `{}` here", accept.code()),
                )
                .with_help("remove this line")
                .with_edits([Edit::Without { line: accept.line() }]),
            );
        }
        self.one_a_statement(
            &mut findings,
            Code::MissingSlashVariant,
            "and one for each of the others",
        );
        findings.sort();
        Report { findings, accepted }
    }
}
