//! Whether some answer is one that a `headers` statement is for.

use std::ops::ControlFlow;

use super::Audit;
use crate::space::{Member, Members, RequestSet};
use ravel::address::Request;
use ravel::edge::Answer;
use ravel::files::content_type;
use ravel::program::{Effect, HeaderEffect, HeaderScope, RuleRef, Stage};

/// Members of a set that are tried.
const MAX_TRIED: usize = 12;
/// Files whose addresses are tried.
const MAX_FILES: usize = 100_000;

/// What has been tried for a statement.
enum Tried {
    /// An answer that it is for.
    Found,
    /// There is none in what was tried.
    None,
    Undecided,
}

impl<'r> Audit<'r> {
    /// Whether some answer is one that a statement is for; none where that is undecided.
    pub(super) fn applies(&self, rule: RuleRef<'r>, statement: &HeaderEffect) -> Option<bool> {
        self.space.begin();
        let fits = |request: &Request| is_for(rule, statement, &self.edge().answer(request));
        if self.sample(rule).is_some_and(|request| fits(&request) && self.matches(rule, &request)) {
            return Some(true);
        }
        if !self.has_type(rule) {
            return Some(false);
        }
        let matching = self.space.matching(rule.rule());
        let mut open = false;
        let mut found = |tried: Tried| {
            open |= matches!(tried, Tried::Undecided);
            matches!(tried, Tried::Found)
        };
        if statement.on() == HeaderScope::Served {
            let served = self.served(rule, &matching);
            let mut left_to_files = served.clone();
            for other in self.met(Stage::Rewrite, rule) {
                left_to_files.take_out(&self.space.matching(other.rule()));
            }
            if found(self.try_files(rule, &left_to_files, &fits)) {
                return Some(true);
            }
            for stage in [Stage::Rewrite, Stage::Fallback] {
                for other in self.met(stage, rule) {
                    let taken = served.and(&self.space.matching(other.rule()));
                    if found(self.try_members(&taken, &fits)) {
                        return Some(true);
                    }
                }
            }
        } else {
            let sets = match statement.on() {
                HeaderScope::Missing => self.missing_sets(rule, &matching),
                HeaderScope::Redirects => self.redirected_sets(rule, &matching),
                HeaderScope::Served | HeaderScope::All => self.own_sets(rule, &matching),
            };
            if sets.iter().any(|set| found(self.try_members(set, &fits))) {
                return Some(true);
            }
        }
        (!open).then_some(false)
    }

    fn try_members(&self, set: &RequestSet<'r>, fits: &dyn Fn(&Request) -> bool) -> Tried {
        let members = set.each_member(&self.space, MAX_TRIED, |request| match fits(request) {
            true => ControlFlow::Break(()),
            false => ControlFlow::Continue(()),
        });
        match members {
            Members::Stopped => Tried::Found,
            Members::Exhausted => Tried::None,
            Members::More => Tried::Undecided,
        }
    }

    /// Tries the address of every file.
    fn try_files(
        &self,
        rule: RuleRef<'r>,
        set: &RequestSet<'r>,
        fits: &dyn Fn(&Request) -> bool,
    ) -> Tried {
        let pattern = rule.pattern();
        let prefix = if pattern.origin().is_none() { pattern.path().literal_prefix() } else { "" };
        let fold = self.edge().site().ignore_case();
        let matched = |address: &&str| {
            pattern.origin().is_some()
                || pattern.path().matches(address, fold, &mut Default::default())
        };
        let mut open = false;
        for (number, address) in self.addresses_below(prefix).filter(matched).enumerate() {
            match set.at_path(&self.space, address).shortest(&self.space) {
                Member::Shortest(request) if fits(&request) => return Tried::Found,
                Member::Undecided => open = true,
                Member::Shortest(_) | Member::None => {}
            }
            open |= number > MAX_FILES;
            if number > MAX_FILES {
                break;
            }
        }
        if open { Tried::Undecided } else { Tried::None }
    }

    fn met(&self, stage: Stage, rule: RuleRef<'r>) -> impl Iterator<Item = RuleRef<'r>> {
        let numbers = self.overlaps(stage).with(rule.pattern()).into_iter();
        numbers.map(move |number| self.space.rule(stage, number))
    }

    /// What each rule of the first stage takes of a set, of those whose effect is wanted; and what
    /// none of them takes.
    fn by_redirects(
        &self,
        rule: RuleRef<'r>,
        set: &RequestSet<'r>,
        wanted: impl Fn(&Effect) -> bool,
    ) -> (Vec<RequestSet<'r>>, RequestSet<'r>) {
        let (mut taken, mut rest) = (Vec::new(), set.clone());
        for other in self.met(Stage::Redirect, rule) {
            let (sure, maybe) = self.space.acting(other.rule());
            if wanted(other.effect()) {
                taken.extend([rest.and(&sure), rest.and(&maybe)]);
            }
            rest.take_out(&sure);
        }
        (taken, rest)
    }

    /// What no redirect takes of what a statement matches, where files are looked up.
    fn served(&self, rule: RuleRef<'r>, matching: &RequestSet<'r>) -> RequestSet<'r> {
        let looked_up = matching.and(&self.universe(Stage::Rewrite));
        self.by_redirects(rule, &looked_up, |_| false).1
    }

    /// What no other service answers.
    fn own_sets(&self, rule: RuleRef<'r>, matching: &RequestSet<'r>) -> Vec<RequestSet<'r>> {
        let is_own = |effect: &Effect| !matches!(effect, Effect::Elsewhere(_));
        let (mut sets, rest) = self.by_redirects(rule, matching, is_own);
        sets.push(rest);
        sets
    }

    /// What is left for 404 when redirects, files and other rules have taken theirs; and what is
    /// gone.
    fn missing_sets(&self, rule: RuleRef<'r>, matching: &RequestSet<'r>) -> Vec<RequestSet<'r>> {
        let mut open = self.served(rule, matching);
        let mut sets = Vec::new();
        // A rewrite decides even where its file is not there.
        for other in self.met(Stage::Rewrite, rule) {
            let matching = self.space.matching(other.rule());
            if self.taken(Stage::Fallback, other).is_none() {
                sets.push(open.and(&matching));
            }
            open.take_out(&matching);
        }
        open.take_out(&self.space.naming_a_file());
        sets.push(open);
        for other in self.met(Stage::Fallback, rule) {
            if let Some(taken) = self.taken(Stage::Fallback, other) {
                for set in &mut sets {
                    set.take_out(&taken);
                }
            }
        }
        sets.extend(self.by_redirects(rule, matching, |effect| matches!(effect, Effect::Gone)).0);
        sets
    }

    /// What redirects take; and on other hosts, and for URL variants, what goes to the canonical URL.
    fn redirected_sets(&self, rule: RuleRef<'r>, matching: &RequestSet<'r>) -> Vec<RequestSet<'r>> {
        let redirects = |effect: &Effect| matches!(effect, Effect::Redirect(_));
        let (mut sets, rest) = self.by_redirects(rule, matching, redirects);
        sets.extend([rest.minus(&self.space.at_home()), rest.and(&self.space.naming_a_file())]);
        sets
    }

    /// Whether an answer can be of a type that a rule is for.
    pub(super) fn has_type(&self, rule: RuleRef<'_>) -> bool {
        let files = self.edge().files().names().iter().map(|name| content_type(name));
        files.chain(["text/plain"]).any(|kind| rule.tests().fit_type(kind))
    }

    pub(super) fn matches(&self, rule: RuleRef<'_>, request: &Request) -> bool {
        self.edge().rules_for(Stage::Headers, request).iter().any(|other| other.id() == rule.id())
    }
}

/// Whether a statement is for such an answer.
pub(super) fn is_for(rule: RuleRef<'_>, statement: &HeaderEffect, answer: &Answer<'_>) -> bool {
    statement.on().is_for(answer.outcome())
        && rule.tests().fit_type(answer.file().map_or("text/plain", content_type))
}
