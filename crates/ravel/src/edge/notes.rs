//! Which of the rules that did not decide are worth a step of an explanation.

use super::Edge;
use super::hosts::RequestParts;
use super::step::{Mismatch, RuleResult, Step, Trace};
use crate::program::{Program, Rule, Stage};
use crate::template::{Captures, Template};

/// How many rules that nearly matched, and how many that are shadowed, are named a stage.
const MAX_OTHERS: usize = 3;

/// What happened at the rules of a stage, by their numbers.
#[derive(Default)]
pub(super) struct Notes(Vec<(u32, RuleResult)>);

impl Notes {
    pub(super) fn add<T: Trace>(&mut self, number: u32, result: impl FnOnce() -> RuleResult) {
        if T::LISTENS {
            self.0.push((number, result()));
        }
    }

    pub(super) fn tell<T: Trace>(mut self, stage: Stage, program: &Program, trace: &mut T) {
        self.0.sort_by_key(|(number, _)| *number);
        for (number, result) in self.0 {
            trace.step(|| Step::Rule(program.id(stage, number), result));
        }
    }
}

impl Edge {
    /// Adds the rules that nearly matched, where none did, or those that the deciding rule shadows.
    pub(super) fn note_others(
        &self,
        stage: Stage,
        visit: &RequestParts<'_>,
        decided: Option<u32>,
        notes: &mut Notes,
    ) {
        let rules = self.program().stage(stage);
        if let Some(decided) = decided {
            let by = self.program().id(stage, decided);
            let later = (decided + 1..rules.len() as u32)
                .filter(|&number| self.would_match(&rules[number as usize], visit));
            notes.0.extend(later.take(MAX_OTHERS).map(|number| (number, RuleResult::Shadowed(by))));
            return;
        }
        let known: Vec<u32> = notes.0.iter().map(|(number, _)| *number).collect();
        let mut near: Vec<(usize, u32, Mismatch)> = (0_u32..)
            .zip(rules)
            .filter(|(number, _)| !known.contains(number))
            .filter_map(|(number, rule)| {
                self.near_miss(rule, visit).map(|(fits, why)| (fits, number, why))
            })
            .collect();
        near.sort_by_key(|(fits, number, _)| (std::cmp::Reverse(*fits), *number));
        let near = near.into_iter().take(MAX_OTHERS);
        notes.0.extend(near.map(|(_, number, why)| (number, RuleResult::NotMatched(why))));
    }

    fn would_match(&self, rule: &Rule, visit: &RequestParts<'_>) -> bool {
        let mut captures = Captures::new();
        self.pattern_matches(&rule.pattern, visit, &mut captures)
            && rule
                .tests()
                .iter()
                .all(|test| self.passes(test, (&rule.pattern, &captures), visit, None))
    }

    /// How much of the URL a rule fits and why it does not match, if that is worth a word.
    fn near_miss(&self, rule: &Rule, visit: &RequestParts<'_>) -> Option<(usize, Mismatch)> {
        let pattern = &rule.pattern;
        let fold = self.program().site.ignore_case;
        let path = match pattern.origin() {
            None => visit.relative()?,
            Some(_) => visit.path,
        };
        if pattern.path.matches(path, fold, &mut Captures::new()) {
            let other_origin = pattern
                .origin()
                .is_some_and(|origin| !self.origin_matches(origin, visit, &mut Captures::new()));
            return Some((
                path.len() + 1,
                if other_origin { Mismatch::Origin } else { Mismatch::Query },
            ));
        }
        let fits = pattern.path.fits_until(path, fold);
        is_near(&pattern.path, path, fits).then(|| {
            let rest = path.get(fits..).unwrap_or_default().into();
            (fits, Mismatch::Path { at: fits, rest })
        })
    }
}

/// A rule is near when the URL fits all of its text, or ends within it, and that is more than a
/// `/`.
fn is_near(template: &Template, path: &str, fits: usize) -> bool {
    let prefix = template.literal_prefix().len();
    fits > 1 && prefix > 1 && (fits == path.len() || fits >= prefix)
}
