//! What is known of redirects before anybody asks, so that answers need not work it out each time.

use super::Edge;
use super::context::Context;
use super::decision::{DecidedBy, Hop};
use super::header::Permanence;
use super::hosts::RequestParts;
use super::index::IndexResult;
use super::step::Trace;

use crate::address::Address;
use crate::files::UrlVariant;
use crate::program::{Redirect, Rule, Stage};

/// A bit for each redirect.
#[derive(Debug, Default)]
pub(super) struct Precomputed {
    /// Its target is redirected no further, whoever asks.
    last: Vec<u64>,
    /// Besides, it is all there is to say of its path when that is asked without a query.
    whole: Vec<u64>,
}

impl Precomputed {
    /// Follows every literal target once.
    pub(super) fn of(edge: &Edge) -> Precomputed {
        let rules = edge.program().stage(Stage::Redirect);
        let mut shortcuts = Precomputed { last: bits(rules.len()), whole: bits(rules.len()) };
        // An alias with a base path of its own may take addresses of the site's own host.
        let site = &edge.program().site;
        if site.aliases.iter().any(|alias| alias.base != site.base) {
            return shortcuts;
        }
        for (number, rule) in (0_u32..).zip(rules) {
            let Some(redirect) = rule.redirect() else { continue };
            if !redirect.target.literal_path().is_some_and(|to| edge.rests(to)) {
                continue;
            }
            set(&mut shortcuts.last, number);
            if edge.is_alone(number, rule) {
                set(&mut shortcuts.whole, number);
            }
        }
        shortcuts
    }

    pub(super) fn is_last(&self, number: u32) -> bool {
        is_set(&self.last, number)
    }
}

impl Edge {
    /// Whether a path below the base path is redirected by nothing.
    fn rests(&self, path: &str) -> bool {
        let odd = path.contains('%') || path.contains("//");
        !odd && !matches!(self.variants.asked(path, None, false), Some(UrlVariant::Moved(_)))
            && self.index(Stage::Redirect).is_quiet(path, self.program().site.ignore_case)
    }

    /// Whether a redirect is the first that could match its path, and asks for nothing more.
    fn is_alone(&self, number: u32, rule: &Rule) -> bool {
        rule.one_path()
            .is_some_and(|path| self.index(Stage::Redirect).first_of(path) == Some(number))
    }

    /// Steps 2 and 3, where one look tells that no redirect could match, or that one is all there
    /// is to say.
    #[inline]
    pub(super) fn at_a_glance<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
    ) -> Option<Hop> {
        if self.program().site.ignore_case {
            return None;
        }
        let number = match self.index(Stage::Redirect).glance(visit) {
            IndexResult::Nothing => return Some(self.canonical(visit, context)),
            IndexResult::Literal(number)
                if visit.query.is_none() && is_set(&self.precomputed.whole, number) =>
            {
                number
            }
            IndexResult::Literal(_) | IndexResult::More => return None,
        };
        let rule = self.program().numbered(Stage::Redirect, number);
        let Redirect { target, status, .. } = rule.rule.redirect()?;
        if Some(rule.pattern.path.as_str()) != visit.relative() {
            return None;
        }
        let (scheme, host) = self.home(visit);
        let to = Address::joined(
            scheme,
            host,
            [self.program().site.open_base(), target.path.as_str()],
            None,
        );
        Some(Hop::Redirect {
            to,
            status: *status,
            by: DecidedBy::rule(rule),
            permanence: Permanence::of(*status),
            last: true,
        })
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
