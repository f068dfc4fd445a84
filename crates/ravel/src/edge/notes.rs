//! Which of the rules that did not decide are worth a step of an explanation.

use std::cmp::Ordering;
use std::collections::HashSet;
use std::ops::ControlFlow;

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
        let fold = self.program().site.ignore_case;
        if let Some(decided) = decided {
            let by = self.program().id(stage, decided);
            let mut left = MAX_OTHERS;
            self.indexes[stage as usize].candidates(visit, fold, |number| {
                if number > decided && self.would_match(&rules[number as usize], visit) {
                    notes.0.push((number, RuleResult::Shadowed(by)));
                    left -= 1;
                }
                if left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            });
            return;
        }
        let known: HashSet<u32> = notes.0.iter().map(|(number, _)| *number).collect();
        let by_text = self.by_text[stage as usize].get_or_init(|| ByText::new(rules, fold));
        let mut sharing = by_text.sharing(rules, visit.path, fold);
        sharing.extend(
            visit.relative().into_iter().flat_map(|path| by_text.sharing(rules, path, fold)),
        );
        sharing.sort_unstable();
        sharing.dedup();
        let mut near: Vec<(usize, u32, Mismatch)> = sharing
            .into_iter()
            .filter(|number| !known.contains(number))
            .filter_map(|number| {
                let (fits, why) = self.near_miss(&rules[number as usize], visit)?;
                Some((fits, number, why))
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

/// The rules of a stage by the literal text at the beginning of their paths: those that could be
/// near to a URL share its text, or go on from it.
#[derive(Debug)]
pub(super) struct ByText(Vec<u32>);

impl ByText {
    fn new(rules: &[Rule], fold: bool) -> ByText {
        let mut order: Vec<u32> = (0..rules.len() as u32).collect();
        order.sort_by(|one, other| {
            compare(prefix(rules, *one), prefix(rules, *other), fold).then(one.cmp(other))
        });
        ByText(order)
    }

    /// The rules whose text the path begins with, or that begins with the path.
    fn sharing(&self, rules: &[Rule], path: &str, fold: bool) -> Vec<u32> {
        let from = |text: &[u8]| {
            self.0.partition_point(|rule| compare(prefix(rules, *rule), text, fold).is_lt())
        };
        let mut found = Vec::new();
        for length in 1..path.len() {
            let text = &path.as_bytes()[..length];
            let same = self.0[from(text)..].iter().copied();
            found.extend(same.take_while(|rule| compare(prefix(rules, *rule), text, fold).is_eq()));
        }
        let begins = |rule: &u32| {
            let text = prefix(rules, *rule);
            text.len() >= path.len() && compare(&text[..path.len()], path.as_bytes(), fold).is_eq()
        };
        found.extend(self.0[from(path.as_bytes())..].iter().copied().take_while(begins));
        found
    }
}

fn prefix(rules: &[Rule], number: u32) -> &[u8] {
    rules[number as usize].pattern.path.literal_prefix().as_bytes()
}

fn compare(one: &[u8], other: &[u8], fold: bool) -> Ordering {
    match fold {
        true => {
            let lower = u8::to_ascii_lowercase;
            one.iter().map(lower).cmp(other.iter().map(lower))
        }
        false => one.cmp(other),
    }
}
