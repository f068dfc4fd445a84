//! Which rules of a stage match a request, and whether their conditions hold.

use std::ops::ControlFlow;

use super::Edge;
use super::condition::Held;
use super::explain;
use super::hosts::{Asked, Role};
use super::index::Index;
use super::trace::{Came, Trace};
use crate::address::Scheme;
use crate::rules::{Rule, Stage};
use crate::template::{Captured, Captures, HostPattern, OriginPattern, Pattern};

/// What is carried through a decision.
pub(super) struct Looking<'t, T> {
    pub(super) trace: &'t mut T,
    /// The request headers that the answer depends on.
    pub(super) vary: u64,
    /// The address is on another origin than the request was: cookies are not known any more.
    pub(super) other_origin: bool,
    /// A rule that looks at a cookie was met on another origin.
    pub(super) unknown_cookie: bool,
}

impl<'t, T: Trace> Looking<'t, T> {
    pub(super) fn new(trace: &'t mut T) -> Looking<'t, T> {
        Looking { trace, vary: 0, other_origin: false, unknown_cookie: false }
    }
}

impl Edge {
    /// The first rule of a stage that matches, whose conditions hold, and that acts.
    pub(super) fn first<'e, R, T: Trace>(
        &'e self,
        stage: Stage,
        asked: &Asked<'_>,
        looking: &mut Looking<'_, T>,
        mut act: impl FnMut(u32, &'e Rule, &Captures<'_>) -> Result<R, &'static str>,
    ) -> Option<R> {
        let rules = self.rules.stage(stage);
        if rules.is_empty() {
            return None;
        }
        let mut notes = explain::Notes::new();
        let mut found = None;
        self.index(stage).candidates(asked, self.rules.site.ignore_case, |number| {
            let rule = &rules[number as usize];
            let mut captures = Captures::new();
            if !self.pattern_matches(&rule.pattern, asked, &mut captures) {
                return ControlFlow::Continue(());
            }
            match self.held(rule, &captures, asked, looking) {
                Ok(()) => {}
                Err(Some(came)) => {
                    notes.add::<T>(number, rule, || came);
                    return ControlFlow::Continue(());
                }
                Err(None) => return ControlFlow::Break(()),
            }
            match act(number, rule, &captures) {
                Ok(acted) => {
                    notes.add::<T>(number, rule, || Came::Matched);
                    found = Some((number, acted));
                    ControlFlow::Break(())
                }
                Err(why) => {
                    notes.add::<T>(number, rule, || Came::Noted(why.to_owned()));
                    ControlFlow::Continue(())
                }
            }
        });
        if T::LISTENS {
            self.note_others(stage, asked, found.as_ref().map(|(number, _)| *number), &mut notes, looking.trace);
            notes.tell(looking.trace);
        }
        found.map(|(_, acted)| acted)
    }

    /// Every rule of a stage that matches and whose conditions hold, in order; `act` says whether it acted.
    pub(super) fn all<'e, T: Trace>(
        &'e self,
        stage: Stage,
        asked: &Asked<'_>,
        vary: &mut u64,
        trace: &mut T,
        mut act: impl FnMut(&'e Rule) -> bool,
    ) {
        let mut looking = Looking { vary: *vary, ..Looking::new(trace) };
        let none = self.first(stage, asked, &mut looking, |_, rule, _| match act(rule) {
            true => Err::<(), _>("sets header fields"),
            false => Err("is for other answers"),
        });
        debug_assert!(none.is_none());
        *vary = looking.vary;
    }

    /// Whether a rule's conditions hold, else what came of it; `Err(None)` stops before a cookie that is not known.
    fn held<T: Trace>(
        &self,
        rule: &Rule,
        captures: &Captures<'_>,
        asked: &Asked<'_>,
        looking: &mut Looking<'_, T>,
    ) -> Result<(), Option<Came>> {
        let Some(conditions) = rule.conditions.as_deref() else { return Ok(()) };
        let held = self.conditions(conditions, &rule.pattern, captures, asked);
        let came = |text: &dyn Fn() -> String| Err(Some(Came::HeldBack(if T::LISTENS { text() } else { String::new() })));
        let languages = &self.rules.site.languages;
        match held {
            Held::Where(condition) => return came(&|| condition.to_string()),
            Held::When(when) => return came(&|| when.written(languages)),
            Held::Header(_) | Held::Yes => {}
        }
        if looking.other_origin && conditions.whens.iter().any(|when| when.test.looks_at_cookies()) {
            looking.unknown_cookie = true;
            return Err(None);
        }
        looking.vary |= conditions.vary;
        match held {
            Held::Header(when) => came(&|| when.written(languages)),
            _ => Ok(()),
        }
    }

    /// Whether a pattern matches an address, and what it captures.
    pub(super) fn pattern_matches<'r>(&self, pattern: &Pattern, asked: &Asked<'r>, captures: &mut Captures<'r>) -> bool {
        let fold = self.rules.site.ignore_case;
        let path = match pattern.origin() {
            None => asked.relative(),
            Some(origin) => self.origin_matches(origin, asked, captures).then_some(asked.path),
        };
        path.is_some_and(|path| pattern.path.matches(path, fold, captures)) && pattern.match_query(asked.query, captures)
    }

    /// Under `http upgrade` a pattern written `https` is for plain HTTP too; one for the canonical host is for previews too.
    pub(super) fn origin_matches<'r>(&self, origin: &OriginPattern, asked: &Asked<'r>, captures: &mut Captures<'r>) -> bool {
        let site = &self.rules.site;
        if origin.scheme != asked.scheme && !(origin.scheme == Scheme::Https && site.upgrades()) {
            return false;
        }
        if origin.host.takes(asked.host, captures) {
            return true;
        }
        // A label of the canonical host is captured as it stands in the pattern's own terms: the preview host has none.
        asked.role == Role::Preview && origin.host.capture.is_none() && origin.host.host == site.host
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
                    captures.push(Captured::host_label(label));
                    true
                }
                _ => false,
            },
        }
    }
}
