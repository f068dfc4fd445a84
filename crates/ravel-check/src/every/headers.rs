//! What decides the headers of a class's answers.

use http::header::{self, HeaderName};

use super::{MAX_LISTED, Prover};
use crate::space::RequestSet;
use ravel::program::{Effect, HeaderEffect, HeaderOp, HeaderScope, Rule, Stage, Test, TestKind};
use ravel::rules::Check;

/// Headers that answers have without a statement.
const AUTOMATIC: [HeaderName; 6] = [
    header::ALLOW,
    header::CACHE_CONTROL,
    header::CONTENT_TYPE,
    header::LOCATION,
    header::STRICT_TRANSPORT_SECURITY,
    header::VARY,
];

impl<'s, 'r> Prover<'s, 'r> {
    /// Whether nothing is asked but headers that no answer has by itself, and that no statement sets
    /// for some answers alone: then it does not matter what else decides.
    pub(super) fn hangs_on_headers_alone(&self) -> bool {
        let checks = self.universal.checks();
        let is_alone = |number: u32| {
            let rule = self.space.rule(Stage::Headers, number);
            let Effect::Headers(statement) = rule.effect() else { return true };
            let is_of_type = |test: &Test| matches!(test.kind(), TestKind::ContentType(_));
            !self.touches(statement)
                || (statement.on() == HeaderScope::All && !rule.tests().iter().any(is_of_type))
        };
        let on_previews = !self.edge().site().previews().is_empty();
        let is_automatic = |check: &Check| {
            AUTOMATIC.contains(check.name()) || (on_previews && *check.name() == "x-robots-tag")
        };
        let may_be_elsewhere = || {
            let mut rules = self.overlapping(Stage::Redirect).into_iter();
            rules.any(|number| {
                let rule = self.space.rule(Stage::Redirect, number);
                matches!(rule.effect(), Effect::Elsewhere(_))
            })
        };
        let statements = self.overlapping(Stage::Headers);
        let is_set = statements.iter().any(|number| {
            let rule = self.space.rule(Stage::Headers, *number);
            matches!(rule.effect(), Effect::Headers(statement) if self.touches(statement))
        });
        self.universal.outcome().is_none()
            && self.universal.locations().is_empty()
            && !checks.iter().any(is_automatic)
            && statements.into_iter().all(is_alone)
            && !(is_set && may_be_elsewhere())
    }

    /// Whether a statement is about a header that is asked about.
    fn touches(&self, statement: &HeaderEffect) -> bool {
        statement.ops().iter().any(|op| {
            let (HeaderOp::Set(name, ..) | HeaderOp::Add(name, ..) | HeaderOp::Drop(name, _)) = op;
            self.universal.checks().iter().any(|check| check.name() == *name)
        })
    }

    /// Cuts a class by what touches the headers that are asked about: statements, and for `vary`
    /// each rule that looks at the visitor.
    pub(super) fn by_headers(&mut self, set: RequestSet<'r>) -> Vec<RequestSet<'r>> {
        let mut classes = vec![set];
        if self.universal.checks().is_empty() && self.universal.locations().is_empty() {
            return classes;
        }
        for stage in Stage::ALL {
            for number in self.overlapping(stage) {
                let rule = self.space.rule(stage, number).rule();
                let Some(cut) = self.cut_of(rule) else { continue };
                classes = classes
                    .iter()
                    .flat_map(|class| [class.and(&cut).not_empty(), class.minus(&cut)])
                    .filter(|class| !class.is_nothing())
                    .collect();
                if classes.len() > MAX_LISTED {
                    self.undecided("the rules overlap in too many ways");
                    return classes;
                }
            }
        }
        classes
    }

    /// The requests whose headers a rule touches, if it touches those that are asked about.
    fn cut_of(&self, rule: &'r Rule) -> Option<RequestSet<'r>> {
        let mut checks = self.universal.checks().iter();
        let is_of_visitors = rule.tests().request_headers() != 0;
        if is_of_visitors && checks.any(|check| *check.name() == header::VARY) {
            return Some(self.space.looking_at_visitors(rule));
        }
        let Effect::Headers(statement) = rule.effect() else { return None };
        self.touches(statement).then(|| self.under_given(&self.space.matching(rule)))
    }
}
