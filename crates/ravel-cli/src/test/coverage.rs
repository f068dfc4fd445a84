//! What `ravel test --coverage` shows: rules that no expectation exercises, or whose changes none
//! would notice.

use std::io::{self, Write};

use ravel_check::{CoverageState, RuleCoverage};

use crate::diagnostic::{folded, width as columns};
use crate::load::LoadedSite;
use crate::style::{BAD, FAINT, GOOD, NOTE, in_style};

/// How many rules of a kind are shown; `--json` has all.
const MAX_SHOWN: usize = 20;

/// Whether a rule is not exercised by any expectation, though a request reaches it.
pub(super) fn is_uncovered(rule: &RuleCoverage) -> bool {
    rule.state() == CoverageState::Uncovered
}

pub(super) fn print(
    loaded: &LoadedSite,
    coverage: &[RuleCoverage],
    out: &mut dyn Write,
) -> io::Result<()> {
    let of = |state| coverage.iter().filter(move |rule: &&RuleCoverage| rule.state() == state);
    let unreachable = of(CoverageState::Unreachable).count();
    let (all, missed) = (coverage.len() - unreachable, of(CoverageState::Uncovered).count());
    let style = if missed == 0 { GOOD } else { BAD };
    let text = format!("coverage: {} of {all} rules", all - missed);
    writeln!(out, "\n{}", in_style(style, text))?;
    let mut list = |title: &str, style, rules: Vec<&RuleCoverage>| -> io::Result<()> {
        if rules.is_empty() {
            return Ok(());
        }
        writeln!(out, "\n  {}", in_style(style, title))?;
        let name = |rule: &RuleCoverage| loaded.name(rule.line());
        let width = rules.iter().take(MAX_SHOWN).map(|rule| name(rule).len()).max().unwrap_or(0);
        for rule in rules.iter().take(MAX_SHOWN) {
            let place = in_style(FAINT, format!("{:width$}", name(rule)));
            let further = " ".repeat("    ".len() + width + "    ".len());
            let mut lines =
                folded(&format!("{place}  {}", rule.rule()), columns(), "    ", &further);
            if !rule.unnoticed().is_empty() {
                let could = format!("could {}", rule.unnoticed().join(", or "));
                lines.extend(folded(&could, columns(), &further, &further));
            }
            lines.iter().try_for_each(|line| writeln!(out, "{line}"))?;
        }
        match rules.len().checked_sub(MAX_SHOWN) {
            Some(more @ 1..) => writeln!(out, "    … and {more} more: `--json` has all"),
            _ => Ok(()),
        }
    };
    list("no expectation exercises", BAD, of(CoverageState::Uncovered).collect())?;
    let unnoticed = |rule: &&RuleCoverage| !rule.unnoticed().is_empty();
    list("no expectation would notice", NOTE, coverage.iter().filter(unnoticed).collect())?;
    list("no request reaches", NOTE, of(CoverageState::Unreachable).collect())?;
    list("too many to try changes", FAINT, of(CoverageState::NotTried).collect())
}
