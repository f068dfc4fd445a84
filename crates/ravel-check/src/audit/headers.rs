//! Header statements: which never apply, which contradict each other, and how long what they touch
//! is kept.

use std::ops::ControlFlow;

use super::lifetimes::{PAGE_LIFE, life};
use super::scope::is_for;
use super::{Audit, Code, Finding, UNKNOWN};
use ravel::address::Request;
use ravel::edge::Outcome;
use ravel::edit::Edit;
use ravel::files::content_type;
use ravel::language::Line;
use ravel::program::{Effect, HeaderEffect, HeaderOp, HeaderScope, RuleRef, Stage};

/// Pairs of statements that are compared.
const MAX_PAIRS: usize = 10_000;

impl<'r> Audit<'r> {
    pub(super) fn header_rules(&self, out: &mut Vec<Finding>) {
        for rule in self.space.rules(Stage::Headers) {
            let Effect::Headers(statement) = rule.rule().effect() else { continue };
            match self.applies(rule, statement) {
                Some(true) => {}
                Some(false) => {
                    let what = format!("`{rule}` changes no answer");
                    let finding = Finding::on(Code::UnusedHeaders, rule.line(), what);
                    out.push(match self.has_type(rule) {
                        true => finding
                            .with_note(format!(
                                "no answer that its pattern matches is {}",
                                on_words(statement.on())
                            ))
                            .with_help(
                                "correct the pattern, or write `on missing`, `on redirects` or `on all`",
                            ),
                        false => finding
                            .with_note("no file has such a type; the type follows from the file extension")
                            .with_help("correct the type"),
                    });
                }
                None => out.push(
                    self.not_decided(rule.line(), format!("whether `{rule}` changes an answer")),
                ),
            }
            self.sticks_to_fallback(rule, statement, out);
        }
        self.set_twice(out);
    }

    /// A long cache lifetime that the answer of a fallback gets.
    fn sticks_to_fallback(
        &self,
        rule: RuleRef<'r>,
        statement: &HeaderEffect,
        out: &mut Vec<Finding>,
    ) {
        if self.is_of_assets(rule) {
            return;
        }
        let long = statement.ops().iter().find_map(|op| match op {
            HeaderOp::Set(name, value, line) | HeaderOp::Add(name, value, line)
                if name == "cache-control" =>
            {
                life(value.to_str().unwrap_or_default())
                    .filter(|life| *life > PAGE_LIFE)
                    .map(|life| (life, *line))
            }
            _ => None,
        });
        let Some((_, line)) = long else { return };
        for number in self.overlaps(Stage::Fallback).with(rule.pattern()) {
            let fallback = self.space.rule(Stage::Fallback, number);
            let mut both =
                self.space.matching(rule.rule()).and(&self.space.matching(fallback.rule()));
            both.take_out(&self.space.naming_a_file());
            if fallback.spares_files() {
                both.take_out(&self.space.of_known_type());
            }
            let mut shown = None;
            both.each_member(&self.space, 6, |request| {
                let answer = self.edge().answer(request);
                let kept = answer
                    .header("cache-control")
                    .and_then(life)
                    .is_some_and(|life| life > PAGE_LIFE);
                if kept && answer.rule() == Some(fallback.id()) {
                    shown = Some(request.url().to_owned());
                    return ControlFlow::Break(());
                }
                ControlFlow::Continue(())
            });
            if let Some(url) = shown {
                let what = format!(
                    "the long cache lifetime also applies to what {} shows at {}",
                    self.name(fallback.line()),
                    self.short(&url)
                );
                out.push(
                    Finding::on(Code::FallbackCached, line, what)
                        .with_note("browsers reuse the app's page under that URL, even when there is a file or a newer app")
                        .with_help("set a long `max-age` only for fingerprinted files, as in `/assets/{+file}`")
                        .with_example(url)
                        .with_lines([fallback.line()]),
                );
            }
        }
    }

    /// A URL for which two statements act.
    fn both_act(
        &self,
        (earlier, first): (RuleRef<'r>, &HeaderEffect),
        (later, second): (RuleRef<'r>, &HeaderEffect),
    ) -> Option<String> {
        let acts = |request: &Request| {
            let answer = self.edge().answer(request);
            is_for(earlier, first, &answer) && is_for(later, second, &answer)
        };
        let by_file = self
            .addresses_below(later.pattern().path().literal_prefix())
            .filter_map(|address| self.request_below(address))
            .take(1_000)
            .find(|request| {
                self.matches(earlier, request) && self.matches(later, request) && acts(request)
            });
        if let Some(request) = by_file {
            return Some(request.url().to_owned());
        }
        let both = self.space.matching(earlier.rule()).and(&self.space.matching(later.rule()));
        let mut shown = None;
        both.each_member(&self.space, 4, |request| match acts(request) {
            true => {
                shown = Some(request.url().to_owned());
                ControlFlow::Break(())
            }
            false => ControlFlow::Continue(()),
        });
        shown
    }

    /// Whether a rule is for a folder of the site that has no pages: no visitor asks for an app there.
    fn is_of_assets(&self, rule: RuleRef<'r>) -> bool {
        let prefix = rule.pattern().path().literal_prefix();
        let folder =
            prefix.rsplit_once('/').map_or("", |(folder, _)| folder.trim_start_matches('/'));
        let names = self.edge().files().names();
        let mut below = names
            .iter()
            .filter(|name| name.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/')));
        let is_page = |name: &&std::boxed::Box<str>| content_type(name).starts_with("text/html");
        rule.pattern().origin().is_none()
            && !folder.is_empty()
            && below.clone().next().is_some()
            && !below.any(|name| is_page(&name))
    }

    /// Two statements that both set a field on one answer.
    fn set_twice(&self, out: &mut Vec<Finding>) {
        let rules = self.space.rules(Stage::Headers);
        let mut pairs = 0;
        for (number, later) in rules.enumerate() {
            let Effect::Headers(second) = later.rule().effect() else { continue };
            for earlier in self
                .overlaps(Stage::Headers)
                .with(later.pattern())
                .into_iter()
                .filter(|other| (*other as usize) < number)
            {
                let earlier = self.space.rule(Stage::Headers, earlier);
                let Effect::Headers(first) = earlier.rule().effect() else { continue };
                let Some((name, line, before)) = both_set(first, second) else { continue };
                pairs += 1;
                if pairs > MAX_PAIRS {
                    return;
                }
                if let Some(url) = self.both_act((earlier, first), (later, second)) {
                    let what = format!(
                        "`{name}` is set here and on {} too, for {}",
                        self.name(before),
                        self.short(&url)
                    );
                    out.push(
                        Finding::on(Code::HeaderSetTwice, line, what)
                            .with_note("the later line wins")
                            .with_help(
                                "narrow one of the patterns, or accept it where it is intended",
                            )
                            .with_example(url)
                            .with_lines([before]),
                    );
                }
            }
        }
    }

    /// Fields that protect visitors on pages, and not on the missing page.
    pub(super) fn missing_lacks(
        &self,
        secured: Option<(&str, Vec<(&str, Line)>)>,
        out: &mut Vec<Finding>,
    ) {
        let Some((page, fields)) = secured else { return };
        let Some(request) = self.request_below(UNKNOWN) else { return };
        let answer = self.edge().answer(&request);
        let line_of = |op: &HeaderOp| {
            let (HeaderOp::Set(.., at) | HeaderOp::Add(.., at) | HeaderOp::Drop(_, at)) = op;
            *at
        };
        // A statement for all answers may be for some types, of which a plain 404 is none.
        let sets = |rule: &RuleRef<'r>, line: Line| {
            let Effect::Headers(statement) = rule.effect() else { return false };
            let is_served = statement.on() == HeaderScope::Served;
            is_served && statement.ops().iter().any(|op| line_of(op) == line)
        };
        let could_be = |line: Line| self.space.rules(Stage::Headers).any(|rule| sets(&rule, line));
        let lacks: Vec<&(&str, Line)> = fields
            .iter()
            .filter(|(name, line)| answer.header(name).is_none() && could_be(*line))
            .collect();
        let (Outcome::Missing, Some((_, line))) = (answer.outcome(), lacks.first()) else { return };
        let names: Vec<&str> = lacks.iter().map(|(name, _)| *name).collect();
        let are = if names.len() == 1 { "is" } else { "are" };
        let what = format!("{} {are} on {page} and not on the 404 page", names.join(", "));
        let is_of = |rule: &RuleRef<'r>| lacks.iter().any(|(_, line)| sets(rule, *line));
        let edits = self.space.rules(Stage::Headers).filter(is_of).map(|rule| {
            let from = rule.pattern().to_string();
            let to = format!("{from} on all");
            Edit::OnLine { line: rule.line(), from, to }
        });
        out.push(
            Finding::on(Code::HeaderNotOn404, *line, what)
                .with_edits(edits)
                .with_note("the 404 page is a page too, and can be attacked like one")
                .with_help("write `on all` after the pattern")
                .with_request(&request),
        );
    }

    /// A promise of HTTPS that a rule breaks.
    pub(super) fn promises(&self, out: &mut Vec<Finding>) {
        let site = self.edge().site();
        let Some(hsts) = site.hsts() else { return };
        for rule in self.space.rules(Stage::Redirect) {
            let Some(redirect) = rule.rule().redirect() else { continue };
            let Some(origin) = redirect
                .target()
                .origin()
                .filter(|origin| origin.scheme() == ravel::address::Scheme::Http)
            else {
                continue;
            };
            let host = origin.host().host().as_str();
            let below = host
                .strip_suffix(site.host().as_str())
                .is_some_and(|rest| rest.is_empty() || rest.ends_with('.'));
            if below && (hsts.subdomains() || host == site.host().as_str()) && !site.has_host(host)
            {
                out.push(
                    Finding::on(
                        Code::HstsBroken,
                        hsts.line(),
                        format!(
                            "{} redirects to http://{host}, which `hsts` covers",
                            self.name(rule.line())
                        ),
                    )
                    .with_note("browsers use https:// there, and fail if that host has no HTTPS")
                    .with_help(format!("give {host} HTTPS, or remove `subdomains`"))
                    .with_lines([rule.line()]),
                );
            }
        }
    }
}

fn on_words(on: HeaderScope) -> &'static str {
    match on {
        HeaderScope::Served => "a file with status 200, which is what `headers` is for by default",
        HeaderScope::Missing => "404 or 410",
        HeaderScope::Redirects => "a redirect",
        HeaderScope::All => "one of the site's own",
    }
}

/// A field that both set, with the later line and the earlier.
fn both_set<'h>(
    first: &'h HeaderEffect,
    second: &'h HeaderEffect,
) -> Option<(&'h http::HeaderName, Line, Line)> {
    let sets = |op: &'h HeaderOp| match op {
        HeaderOp::Set(name, _, line) => Some((name, *line)),
        _ => None,
    };
    second.ops().iter().filter_map(sets).find_map(|(name, line)| {
        let earlier = first.ops().iter().filter_map(sets).find(|(other, _)| *other == name)?;
        Some((name, line, earlier.1))
    })
}
