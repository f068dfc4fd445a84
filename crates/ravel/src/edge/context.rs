//! Which rules of a stage match a request, and whether their tests pass.

use std::ops::ControlFlow;

use super::Edge;
use super::hosts::RequestParts;
use super::index::Index;
use super::notes::Notes;
use super::step::{RuleResult, Trace};
use crate::address::Scheme;
use crate::program::{Role, Rule, RuleRef, Stage, Test, Tests, is_origin_bound};
use crate::template::{CaptureValue, Captures, HostPattern, OriginPattern, Pattern};

/// What is carried through a decision.
pub(super) struct Context<'t, T> {
    pub(super) trace: &'t mut T,
    /// The request headers that the answer depends on.
    pub(super) vary: u64,
    /// The URL is on another origin than the request was: some headers are not known any more.
    pub(super) other_origin: bool,
    /// A rule that looks at such a header was met on another origin.
    pub(super) stopped: bool,
}

impl<'t, T: Trace> Context<'t, T> {
    pub(super) fn new(trace: &'t mut T) -> Context<'t, T> {
        Context { trace, vary: 0, other_origin: false, stopped: false }
    }
}

/// What becomes of a rule whose pattern matches.
enum Verdict<R> {
    Acts(R),
    Passes(RuleResult),
    /// It looks at a header that is not known: nothing more is said of this URL.
    Stops(RuleResult),
}

impl Edge {
    /// The first rule of a stage that matches, whose tests pass, and that can act: `effect` gives
    /// what it does, or why it does nothing.
    pub(super) fn first<'e, R, T: Trace>(
        &'e self,
        stage: Stage,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
        mut effect: impl FnMut(RuleRef<'e>, &Captures<'_>) -> Result<R, RuleResult>,
    ) -> Option<R> {
        if self.program().is_empty(stage) {
            return None;
        }
        let mut notes = Notes::default();
        let mut found = None;
        self.index(stage).candidates(visit, self.program().site.ignore_case, |number| {
            let rule = self.program().numbered(stage, number);
            let mut captures = Captures::new();
            if !self.pattern_matches(&rule.rule.pattern, visit, &mut captures) {
                return ControlFlow::Continue(());
            }
            match self.verdict(rule, &captures, visit, context, &mut effect) {
                Verdict::Acts(acts) => {
                    notes.add::<T>(number, || RuleResult::Matched);
                    found = Some((number, acts));
                    ControlFlow::Break(())
                }
                Verdict::Passes(why) => {
                    notes.add::<T>(number, || why);
                    ControlFlow::Continue(())
                }
                Verdict::Stops(why) => {
                    notes.add::<T>(number, || why);
                    context.stopped = true;
                    ControlFlow::Break(())
                }
            }
        });
        if T::LISTENS {
            if !context.stopped {
                self.note_others(
                    stage,
                    visit,
                    found.as_ref().map(|(number, _)| *number),
                    &mut notes,
                );
            }
            notes.tell(stage, self.program(), context.trace);
        }
        found.map(|(_, acts)| acts)
    }

    /// Tests that look at request headers come last, and only of rules that could act: only what
    /// passes all else makes an answer vary.
    fn verdict<'e, R, T: Trace>(
        &'e self,
        rule: RuleRef<'e>,
        captures: &Captures<'_>,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
        effect: &mut impl FnMut(RuleRef<'e>, &Captures<'_>) -> Result<R, RuleResult>,
    ) -> Verdict<R> {
        let act = |result| match result {
            Ok(acts) => Verdict::Acts(acts),
            Err(why) => Verdict::Passes(why),
        };
        let Some(tests) = rule.rule.tests.as_deref() else { return act(effect(rule, captures)) };
        let pair = (&rule.rule.pattern, captures);
        let fails = |(_, test): &(usize, &_)| !self.passes(test, pair, visit, None);
        if let Some((number, _)) = tests.before_headers().find(fails) {
            return Verdict::Passes(RuleResult::ConditionNotMet(number));
        }
        let headers = tests.request_headers();
        let bound = self.program().origin_bound();
        if context.other_origin && headers & bound != 0 {
            return self.verdict_elsewhere(tests, headers & !bound, context, fails);
        }
        let failed = tests.on_headers().find(fails);
        if let Some((number, _)) = failed
            && self.surely_leads_away(rule.rule, visit)
        {
            context.vary |= headers;
            return Verdict::Passes(RuleResult::ConditionNotMet(number));
        }
        let acts = match effect(rule, captures) {
            Ok(acts) => acts,
            Err(why) => return Verdict::Passes(why),
        };
        context.vary |= headers;
        match failed {
            Some((number, _)) => Verdict::Passes(RuleResult::ConditionNotMet(number)),
            None => Verdict::Acts(acts),
        }
    }

    /// What becomes of a rule that looks at a header which is not known on another origin: nothing
    /// where its other tests do not pass.
    fn verdict_elsewhere<R, T: Trace>(
        &self,
        tests: &Tests,
        known: u64,
        context: &mut Context<'_, T>,
        fails: impl Fn(&(usize, &Test)) -> bool,
    ) -> Verdict<R> {
        context.vary |= known;
        let mut unknown = None;
        for (number, test) in tests.on_headers() {
            match test.request_header().filter(is_origin_bound) {
                Some(name) => unknown = unknown.or(Some(name)),
                None if fails(&(number, test)) => {
                    return Verdict::Passes(RuleResult::ConditionNotMet(number));
                }
                None => {}
            }
        }
        unknown.map_or(Verdict::Passes(RuleResult::OtherAnswers), |name| {
            Verdict::Stops(RuleResult::HeaderUnknown(name))
        })
    }

    /// Whether a redirect can act, as a look at its target tells.
    fn surely_leads_away(&self, rule: &Rule, visit: &RequestParts<'_>) -> bool {
        let target = rule.redirect().and_then(|redirect| redirect.target.literal_path());
        target.is_some_and(|path| visit.path.strip_prefix(self.site().open_base()) != Some(path))
    }

    /// Whether a pattern matches a URL, and what it captures.
    pub(super) fn pattern_matches<'r>(
        &self,
        pattern: &Pattern,
        visit: &RequestParts<'r>,
        captures: &mut Captures<'r>,
    ) -> bool {
        let fold = self.program().site.ignore_case;
        let path = match pattern.origin() {
            None => visit.relative(),
            Some(origin) => self.origin_matches(origin, visit, captures).then_some(visit.path),
        };
        path.is_some_and(|path| pattern.path.matches(path, fold, captures))
            && pattern.match_query(visit.query, captures)
    }

    /// Under `http upgrade` a pattern written `https` is for plain HTTP too; one for the canonical
    /// host is for previews too.
    pub(super) fn origin_matches<'r>(
        &self,
        origin: &OriginPattern,
        visit: &RequestParts<'r>,
        captures: &mut Captures<'r>,
    ) -> bool {
        let site = &self.program().site;
        if origin.scheme != visit.scheme && !(origin.scheme == Scheme::Https && site.upgrades()) {
            return false;
        }
        if origin.host.takes(visit.host, captures) {
            return true;
        }
        // A label of the canonical host is captured as it stands in the pattern's own terms: the
        // preview host has none.
        visit.role == Role::Preview
            && origin.host.capture.is_none()
            && origin.host.host == site.host
    }

    pub(super) fn index(&self, stage: Stage) -> &Index {
        &self.indexes[stage as usize]
    }
}

impl HostPattern {
    /// Whether it is this host; adds the label it captures.
    fn takes<'r>(&self, host: &'r str, captures: &mut Captures<'r>) -> bool {
        match &self.capture {
            None => self.host.as_str() == host,
            Some(_) => match host.split_once('.') {
                Some((label, rest)) if rest == self.host.as_str() => {
                    captures.push(CaptureValue::host_label(label));
                    true
                }
                _ => false,
            },
        }
    }
}
