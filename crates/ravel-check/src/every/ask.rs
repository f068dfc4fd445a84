//! What is asked of single URLs, and held against what is expected of every one.

use ravel::address::Request;
use ravel::expect::{Failure, Verdict, verify};
use ravel::rules::{Check, EveryExpectation, Expectation, ExpectedOutcome, StatedOutcome};

use super::{MAX_KEPT, Prover};
use crate::space::RequestSet;

/// Whether it is about the end of a visit, behind every redirect.
pub(crate) fn follows(universal: &EveryExpectation) -> bool {
    matches!(
        universal.outcome(),
        Some(
            ExpectedOutcome::GoesTo { .. }
                | ExpectedOutcome::IsNot(_)
                | ExpectedOutcome::Is(StatedOutcome::Loop, _)
        )
    )
}

impl<'s, 'r> Prover<'s, 'r> {
    /// Asks the edge about an address of a set, once for every way that later hops could go from
    /// there.
    pub(super) fn ask_each_way(&mut self, set: &RequestSet<'r>, request: &Request) -> bool {
        let is_one_host = self.universal.pattern().origin().is_none();
        if !self.hangs_on_later_hops() || (is_one_host && self.space.goes_one_way(request)) {
            return self.ask(request);
        }
        match self.space.routes_of(&set.and(&self.space.at(request))) {
            Some(routes) => {
                routes.iter().fold(true, |hold, (request, _)| self.ask(request) && hold)
            }
            None => {
                self.undecided("the rules distinguish too many requests");
                self.ask(request)
            }
        }
    }

    /// Whether what is expected can hang on what comes behind the first redirect: where one answer
    /// stands for several, its location does, and whether there is one.
    fn hangs_on_later_hops(&self) -> bool {
        let universal = self.universal;
        let is_of_redirects = match universal.outcome() {
            None => !self.is_settled,
            Some(outcome) => matches!(outcome, ExpectedOutcome::RedirectsTo { .. }),
        };
        follows(universal) || (is_of_redirects && self.edge().site().one_hop())
    }

    /// Asks the edge about one address; keeps it if it is the shortest so far for which the
    /// expectation does not hold.
    pub(super) fn ask(&mut self, request: &Request) -> bool {
        let (verdict, asked) = self.verdict(request);
        if self.asked.len() < MAX_KEPT {
            self.asked.push(asked.clone());
        }
        let holds = verdict.holds();
        let cost = |asked: &Expectation| (asked.url().len(), asked.given().len());
        if !holds && self.failing.as_ref().is_none_or(|(known, _)| cost(&asked) < cost(known)) {
            self.failing = Some((asked, verdict));
        }
        holds
    }

    fn verdict(&self, request: &Request) -> (Verdict, Expectation) {
        let verdict_of = |query: Option<&str>| {
            let outcome = self.outcome_for(request, query).ok();
            let expectation = self.universal.of_request(request, outcome);
            let (expectation, expanded) = self.with_locations(expectation, request, query);
            let verdict = verify(self.edge(), &expectation);
            let verdict = match (expectation.outcome(), self.universal.outcome()) {
                (None, Some(outcome)) => verdict.with_failure(Failure::new(
                    outcome.to_string(),
                    "captures what is not allowed there",
                )),
                _ if !expanded => verdict.with_failure(Failure::new(
                    "has location",
                    "captures what is not allowed there",
                )),
                _ => verdict,
            };
            (verdict, expectation)
        };
        let plain = verdict_of(None);
        let query = request.address().ok().and_then(|address| address.query());
        let leads = matches!(
            self.universal.outcome(),
            Some(ExpectedOutcome::GoesTo { .. } | ExpectedOutcome::RedirectsTo { .. })
        );
        let is_led = leads || !self.universal.locations().is_empty();
        if plain.0.holds() || query.is_none() || !is_led {
            return plain;
        }
        // Parameters that the pattern leaves free may be carried along, or left behind.
        let carried = verdict_of(query);
        if carried.0.holds() { carried } else { plain }
    }

    /// With the values of `location` that are expected of one URL; whether its captures are allowed
    /// there.
    fn with_locations(
        &self,
        mut one: Expectation,
        request: &Request,
        query: Option<&str>,
    ) -> (Expectation, bool) {
        let (pattern, base) = (self.universal.pattern(), self.edge().site().target_base());
        let Some(captures) = self.edge().captures_of(pattern, request) else { return (one, true) };
        for target in self.universal.locations() {
            let Ok(to) = target.expand(pattern, &captures, base, query) else {
                return (one, false);
            };
            one = one.with_check(Check::has_value(http::header::LOCATION, to.as_str()));
        }
        (one, true)
    }

    /// The outcome that is expected of one address. `Err` if its captures cannot stand there.
    fn outcome_for(&self, request: &Request, query: Option<&str>) -> Result<ExpectedOutcome, ()> {
        let pattern = self.universal.pattern();
        let site = self.edge().site();
        let captures = self.edge().captures_of(pattern, request).ok_or(())?;
        let base = site.target_base();
        let outcome = self.universal.outcome().ok_or(())?;
        outcome.expand(pattern, &captures, base, query).map_err(|_| ())
    }
}
