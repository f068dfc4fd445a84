//! Whether redirects that lead to each other come to an end.

use std::collections::{BTreeSet, HashMap};

use ravel::address::Request;
use ravel::program::{RuleId, RuleRef, Stage};

use super::Audit;

/// A rule whose target another one matches.
pub(super) struct Meeting {
    pub(super) from: RuleId,
    pub(super) growth: GrowthBetween,
    pub(super) to: RuleId,
}

/// What becomes of a request on the way from one rule to the next.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum GrowthBetween {
    /// Its path gets so much longer, or shorter.
    AtMost(i64),
    /// It loses a parameter, which nothing gives back.
    UsesUp,
    Unknown,
}

/// Whether rules that meet each other can do so without an end: in a loop that uses nothing up, and
/// in which paths do not get shorter.
pub(super) fn goes_round(meets: &[Meeting]) -> bool {
    const UNKNOWN: i64 = 1 << 40;
    let mut longest: HashMap<RuleId, i64> = HashMap::new();
    let rules: BTreeSet<RuleId> = meets.iter().flat_map(|one| [one.from, one.to]).collect();
    // A loop that leaves a path as long as it was counts as one that makes it longer.
    let scale = rules.len() as i64 + 1;
    for _ in 0..=rules.len() {
        let mut is_longer = false;
        for Meeting { from, growth, to } in meets {
            let growth = match growth {
                GrowthBetween::UsesUp => continue,
                GrowthBetween::AtMost(growth) => growth * scale + 1,
                GrowthBetween::Unknown => UNKNOWN,
            };
            let reached = longest.get(from).copied().unwrap_or(0).saturating_add(growth);
            let known = longest.entry(*to).or_insert(0);
            is_longer |= reached > *known;
            *known = reached.max(*known);
        }
        if !is_longer {
            return false;
        }
    }
    true
}

/// Spellings of files' addresses of which it is looked at whether all that follows ends.
const MAX_CHECKED: usize = 1_000;

impl<'r> Audit<'r> {
    /// The spellings of files that lead to the file's own address, where that is taken by a rule,
    /// with the rule.
    pub(super) fn moved_to_rules(&self) -> &[(&'r str, RuleId)] {
        self.moved.get_or_init(|| {
            let edge = self.edge();
            if edge.site().pages() != ravel::program::Pages::Tidy {
                return Vec::new();
            }
            let rules = || self.space.rules(Stage::Redirect);
            let of_visitors = |rule: &RuleRef<'r>| rule.tests().request_headers() != 0;
            let is_of_some = rules().any(|rule| of_visitors(&rule));
            // The rules that take a file's own address, asked once for all its spellings.
            let takes = |file: u32| -> Vec<RuleId> {
                let url = Request::get(&edge.url_of(file)).ok();
                let of_all = url.and_then(|url| edge.route(&url).hops().first()?.rule());
                let of_some = match is_of_some {
                    true => self.overlaps(Stage::Redirect).with_path(edge.own_address(file)),
                    false => Vec::new(),
                };
                let of_some =
                    of_some.into_iter().map(|number| self.space.rule(Stage::Redirect, number));
                let redirects = |rule: &RuleRef<'r>| rule.rule().redirect().is_some();
                let of_some = of_some.filter(of_visitors).filter(redirects);
                of_some.map(|rule| rule.id()).chain(of_all).collect()
            };
            let mut taken: HashMap<u32, Vec<RuleId>> = HashMap::new();
            let mut checked = 0;
            let mut moved = Vec::new();
            for address in self.addresses_below("") {
                let Some(file) = edge.file_number(address) else { continue };
                if edge.own_address(file) == address {
                    continue;
                }
                let takes = taken.entry(file).or_insert_with(|| takes(file));
                if takes.is_empty() {
                    continue;
                }
                checked += 1;
                // What is not looked at could be a redirect loop.
                if checked > MAX_CHECKED || !self.all_end(&self.space.at_path(address)) {
                    moved.extend(takes.iter().map(|rule| (address, *rule)));
                }
            }
            moved
        })
    }
}
