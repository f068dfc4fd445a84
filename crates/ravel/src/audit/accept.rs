//! Findings that the rules accept.

use super::{Audit, Code, Finding, FindingPlace, Weight};

/// What an audit came to.
#[derive(Debug, Clone, Default)]
pub struct Report {
    /// The findings, in the order of the files.
    pub findings: Vec<Finding>,
    /// How many others are accepted.
    pub accepted: usize,
}

impl Report {
    /// How many findings have this weight.
    pub fn count(&self, weight: Weight) -> usize {
        self.findings.iter().filter(|finding| finding.code.weight() == weight).count()
    }
}

impl<'r> Audit<'r> {
    /// Puts findings in order and leaves out what the rules accept; an `accept` that there is nothing for is one more.
    pub fn report(&self, mut findings: Vec<Finding>) -> Report {
        let accepts = &self.edge().rules().accepts;
        let mut used = vec![false; accepts.len()];
        let before = findings.len();
        findings.retain(|finding| {
            // What is in a file is accepted where the folder is named.
            let line = match &finding.place {
                FindingPlace::Line(line) => *line,
                FindingPlace::File { .. } => self.files_line(),
            };
            let mut accepted = false;
            for (accept, used) in accepts.iter().zip(&mut used) {
                if accept.code == finding.code && accept.covers(line) {
                    *used = true;
                    accepted = true;
                }
            }
            !accepted
        });
        let accepted = before - findings.len();
        for (accept, _) in accepts.iter().zip(&used).filter(|(_, used)| !**used) {
            findings.push(
                Finding::on(Code::NothingAccepted, accept.line, format!("there is no finding `{}` here to accept", accept.code))
                    .visitor("nothing")
                    .instead("remove the line"),
            );
        }
        findings.sort();
        Report { findings, accepted }
    }
}
