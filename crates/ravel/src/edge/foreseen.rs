//! What is known of redirects before anybody asks, so that answers need not work it out each time.

use super::Edge;
use super::decide::Hop;
use super::header::Permanence;
use super::hosts::Asked;
use super::index::Glance;
use super::look::Looking;
use super::trace::Trace;
use crate::address::Address;
use crate::files::Spelled;
use crate::rules::{Action, Redirect, Rule, Stage};

/// A bit for each redirect.
#[derive(Debug, Default)]
pub(super) struct Foreseen {
    /// Its target is redirected no further, whoever asks.
    last: Vec<u64>,
    /// Besides, it is all there is to say of its path when that is asked without a query.
    whole: Vec<u64>,
}

impl Foreseen {
    /// Follows every literal target once.
    pub(super) fn of(edge: &Edge) -> Foreseen {
        let rules = &edge.rules.redirects;
        let mut foreseen = Foreseen { last: bits(rules.len()), whole: bits(rules.len()) };
        // An alias with a base path of its own may take addresses of the site's own host.
        let site = &edge.rules.site;
        if site.aliases.iter().any(|alias| alias.base != site.base) {
            return foreseen;
        }
        for (number, rule) in (0_u32..).zip(rules) {
            let Action::Redirect(redirect) = &rule.action else { continue };
            if !redirect.target.literal_path().is_some_and(|to| edge.rests(to)) {
                continue;
            }
            set(&mut foreseen.last, number);
            if edge.is_alone(number, rule) {
                set(&mut foreseen.whole, number);
            }
        }
        foreseen
    }

    pub(super) fn is_last(&self, number: u32) -> bool {
        is_set(&self.last, number)
    }
}

impl Edge {
    /// Whether a path below the base path is redirected by nothing.
    fn rests(&self, path: &str) -> bool {
        let odd = path.contains('%') || path.contains("//");
        !odd && !matches!(self.spellings.asked(path, None, false), Some(Spelled::Moved(_)))
            && self.index(Stage::Redirect).is_quiet(path, self.rules.site.ignore_case)
    }

    /// Whether a redirect is the first that could match its path, and asks for nothing more.
    fn is_alone(&self, number: u32, rule: &Rule) -> bool {
        rule.one_path().is_some_and(|path| self.index(Stage::Redirect).first_of(path) == Some(number))
    }

    /// Steps 2 and 3, where one look tells that no redirect could match, or that one is all there is to say.
    #[inline]
    pub(super) fn at_a_glance<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Option<Hop> {
        if self.rules.site.ignore_case {
            return None;
        }
        let number = match self.index(Stage::Redirect).glance(asked) {
            Glance::Nothing => return Some(self.canonical(asked, looking)),
            Glance::Literal(number) if asked.query.is_none() && is_set(&self.foreseen.whole, number) => number,
            Glance::Literal(_) | Glance::More => return None,
        };
        let rule = &self.rules.redirects[number as usize];
        let Action::Redirect(Redirect { target, status, .. }) = &rule.action else { return None };
        if Some(rule.pattern.path.as_str()) != asked.relative() {
            return None;
        }
        let (scheme, host) = self.home(asked);
        let to = Address::joined(scheme, host, [self.rules.site.open_base(), target.path.as_str()], None);
        Some(Hop::Redirect { to, status: *status, by: Some(rule.line), permanence: Permanence::of(*status), last: true })
    }
}

fn bits(len: usize) -> Vec<u64> {
    vec![0; len.div_ceil(64)]
}

fn set(bits: &mut [u64], number: u32) {
    bits[number as usize / 64] |= 1 << (number % 64);
}

fn is_set(bits: &[u64], number: u32) -> bool {
    bits[number as usize / 64] & (1 << (number % 64)) != 0
}
