//! Whether redirects that lead to each other come to an end.

use std::collections::{BTreeSet, HashMap};

use ravel::program::RuleId;

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
