//! What redirects do of the URLs of a pattern, class by class.

use ravel::program::{Effect, Redirect, Role, Rule, RuleRef, Stage};
use ravel::rules::{ExpectedOutcome, StatedOutcome};
use ravel::template::Target;

use rustc_hash::FxHashSet;

use super::{ClassReason, Prover};
use crate::space::{Member, RequestSet, asks_beyond_path};
use crate::symbolic::{symbolic, written};

/// Rules that are followed from the URLs of a pattern.
const MAX_FOLLOWED: usize = 20_000;

impl<'s, 'r> Prover<'s, 'r> {
    pub(super) fn by_redirects(&mut self, rest: &mut RequestSet<'r>) {
        // Of rules that are for one path there may be very many: they are taken out together.
        let mut paths = Vec::new();
        let fold = self.edge().site().ignore_case();
        for number in self.overlapping(Stage::Redirect) {
            if self.has_enough() {
                return;
            }
            let rule = self.space.rule(Stage::Redirect, number).rule();
            let one_path = rule.one_path().filter(|_| !fold && !leads_to_its_path(rule));
            if let Some(path) = one_path {
                let here = rest.at_path(self.space, path);
                if let Member::Shortest(request) = here.shortest(self.space) {
                    self.ask_each_way(&here, &request);
                }
                paths.push(path);
                continue;
            }
            rest.take_out_paths(self.space, &std::mem::take(&mut paths));
            let (sure, maybe) = self.space.acting(rule);
            let (sure, maybe) = (self.under_given(&sure), self.under_given(&maybe));
            let why = rule
                .redirect()
                .map_or(ClassReason::Alike, |redirect| ClassReason::Redirect(rule, redirect));
            self.class(rest.and(&sure), why);
            rest.take_out(&sure);
            // Where it could lead to itself, each address is asked.
            let doubtful = rest.and(&maybe);
            if let Member::Shortest(_) = doubtful.shortest(self.space) {
                self.each_of(&doubtful, "whether a redirect leads to the URL that was asked");
                *rest = std::mem::take(rest).cut_by(&maybe);
            }
        }
        rest.take_out_paths(self.space, &paths);
    }

    /// Aliases, plain HTTP under `upgrade`: what no rule redirects goes to the canonical origin.
    pub(super) fn away(&mut self, away: RequestSet<'r>) {
        let named = self.space.naming_a_file();
        let files = away.and(&named);
        self.files_of(&files);
        // An end that answers 200 is, for an address that names no file, a fallback's; each is
        // asked.
        self.class(away.minus(&named), ClassReason::Captures);
    }

    /// Whether what holds for one address that a rule redirects holds for all of them.
    pub(super) fn redirect_is_alike(&self, rule: &'r Rule, redirect: &'r Redirect) -> bool {
        let target = &redirect.target();
        let leads = |expected: &Target| self.leads_alike(rule, target, expected);
        let first = || self.universal.locations().iter().all(|to| leads(to) && self.stays(rule));
        match self.universal.outcome() {
            Some(ExpectedOutcome::GoesTo { address: expected, .. }) => {
                if target.expressions().next().is_none() && expected.expressions().next().is_none()
                {
                    // All go to one address; what is decided there must not hang on the query that
                    // is carried along.
                    return self.end_is_plain(target) && first();
                }
                leads(expected) && (self.leaves(target) || self.image_is_served(rule)) && first()
            }
            Some(ExpectedOutcome::RedirectsTo { address: expected, .. }) => {
                leads(expected) && self.stays(rule) && first()
            }
            Some(ExpectedOutcome::IsNot(_)) => {
                let ends_alike = match target.expressions().next() {
                    None => self.end_is_plain(target),
                    Some(_) => self.image_is_served(rule),
                };
                (self.leaves(target) || ends_alike) && first()
            }
            // Headers but `location` are those of every redirect of the rule.
            None => !self.asks_location() && first(),
            Some(_) => false,
        }
    }

    /// Whether a header is asked about whose value hangs on what is captured.
    fn asks_location(&self) -> bool {
        self.universal.checks().iter().any(|check| *check.name() == http::header::LOCATION)
    }

    /// Whether a target is written as what is expected is, whatever is captured.
    fn leads_alike(&self, rule: &'r Rule, target: &Target, expected: &Target) -> bool {
        if target.expressions().next().is_none() && expected.expressions().next().is_none() {
            return true;
        }
        let fold = self.edge().site().ignore_case();
        let now = symbolic(rule.pattern(), self.universal.pattern(), fold)
            .and_then(|known| written(target, &known));
        let wanted = symbolic(self.universal.pattern(), self.universal.pattern(), fold)
            .and_then(|known| written(expected, &known));
        matches!((now, wanted), (Some(now), Some(wanted)) if now == wanted)
    }

    /// Whether a target is on no host of the site.
    fn leaves(&self, target: &Target) -> bool {
        let site = self.edge().site();
        target.origin().is_some_and(|origin| !site.has_host(origin.host().host().as_str()))
    }

    /// Whether no redirect of a rule is joined with a further one.
    fn stays(&self, rule: &'r Rule) -> bool {
        let Some(redirect) = rule.redirect() else { return false };
        if self.leaves(redirect.target()) || !self.edge().site().one_hop() {
            return true;
        }
        let Some(image) = self.space.image(rule) else { return false };
        let none = |set: RequestSet<'r>| matches!(set.shortest(self.space), Member::None);
        let further = self.space.overlaps(Stage::Redirect).with_target(redirect.target());
        let is_met = |number: &u32| {
            let other = self.space.rule(Stage::Redirect, *number).rule();
            !none(image.and(&self.space.matching(other)))
        };
        // A URL variant is redirected to the canonical URL.
        !further.iter().any(is_met) && none(image.and(&self.space.naming_a_file()))
    }

    /// Whether no rule at a literal target asks about more than its path.
    pub(super) fn end_is_plain(&self, target: &Target) -> bool {
        let (path, fold) = (target.path().as_str(), self.edge().site().ignore_case());
        self.space.overlaps(Stage::Redirect).with_target(target).into_iter().all(|number| {
            let rule = self.space.rule(Stage::Redirect, number);
            let is_of_origin = rule.pattern().origin().is_some() || target.origin().is_some();
            let is_met =
                is_of_origin || rule.pattern().path().matches(path, fold, &mut Default::default());
            !(is_met && asks_beyond_path(rule))
        })
    }

    /// Whether no rule on any way from the pattern's URLs could end a visit so.
    pub(super) fn never_ends_as(&self, outcome: StatedOutcome) -> bool {
        let is_end = |rule: &Rule| match (outcome, rule.effect()) {
            (StatedOutcome::Gone, effect) => matches!(effect, Effect::Gone),
            (StatedOutcome::Elsewhere, Effect::Elsewhere(_)) => true,
            (StatedOutcome::Elsewhere, Effect::Redirect(redirect)) => {
                redirect.target().origin().is_some()
            }
            (StatedOutcome::Elsewhere, _) => false,
            _ => true,
        };
        // The canonical URL of a page can lead to a rule that the URL asked does not meet.
        let fold = self.edge().site().ignore_case();
        let own: Vec<&str> = (0..self.edge().files().names().len() as u32)
            .map(|file| self.edge().own_address(file))
            .collect();
        let takes_a_page = |rule: RuleRef<'r>| {
            let path = rule.pattern().path();
            rule.pattern().origin().is_some()
                || own.iter().any(|own| path.matches(own, fold, &mut Default::default()))
        };
        if self.space.rules(Stage::Redirect).any(|rule| is_end(&rule) && takes_a_page(rule)) {
            return false;
        }
        let mut open = self.overlapping(Stage::Redirect);
        let mut seen: FxHashSet<u32> = open.iter().copied().collect();
        while let Some(number) = open.pop() {
            let rule = self.space.rule(Stage::Redirect, number).rule();
            if is_end(rule) || seen.len() > MAX_FOLLOWED {
                return false;
            }
            let Some(redirect) = rule.redirect() else { continue };
            let next = self.space.overlaps(Stage::Redirect).with_target(redirect.target());
            open.extend(next.into_iter().filter(|number| seen.insert(*number)));
        }
        true
    }

    /// Whether every address that a rule can lead to is shown by a fallback, and redirected no
    /// further.
    pub(super) fn image_is_served(&self, rule: &'r Rule) -> bool {
        let Some(image) = self.space.image(rule) else { return false };
        let site = self.edge().site();
        let home = self.space.with_origins(|origin| {
            origin.role == Role::Canonical && origin.scheme == site.scheme()
        });
        let mut rest = image.and(&home);
        let Some(redirect) = rule.redirect() else { return false };
        let met = |stage| self.space.overlaps(stage).with_target(redirect.target());
        for number in met(Stage::Redirect) {
            let other = self.space.rule(Stage::Redirect, number).rule();
            if !matches!(rest.and(&self.space.matching(other)).shortest(self.space), Member::None) {
                return false;
            }
        }
        if !matches!(rest.and(&self.space.naming_a_file()).shortest(self.space), Member::None)
            || !met(Stage::Rewrite).is_empty()
        {
            return false;
        }
        for number in met(Stage::Fallback) {
            let other = self.space.rule(Stage::Fallback, number).rule();
            let Some(path) = other.shows() else { continue };
            if path.path().is_literal() && self.edge().file_of(path.path().as_str()).is_some() {
                let mut taken = self.space.matching(other);
                if other.spares_files() {
                    taken.take_out(&self.space.of_known_type());
                }
                rest.take_out(&taken);
            }
        }
        matches!(rest.shortest(self.space), Member::None)
    }
}

/// Whether a redirect's target has the path that it is for, so that it may not act there.
fn leads_to_its_path(rule: &Rule) -> bool {
    rule.redirect()
        .is_some_and(|redirect| redirect.target().path().as_str() == rule.pattern().path().as_str())
}
