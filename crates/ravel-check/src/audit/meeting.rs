//! Which redirects lead to which others, and whether these come to an end.

use std::collections::{BTreeSet, HashMap};
use std::rc::Rc;

use ravel::address::Request;
use ravel::program::{RuleId, RuleRef, Stage};

use super::Audit;
use crate::space::{Growth, RequestSet};

/// Rules that are followed from one rule before it is given up.
const MAX_FOLLOWED: usize = 200;

/// A rule whose target another one matches.
#[derive(Debug, Clone, Copy)]
pub(super) struct Meeting<'r> {
    from: RuleId,
    growth: GrowthBetween,
    to: RuleId,
    by: MeetingKind<'r>,
}

/// How a rule leads to another.
#[derive(Debug, Clone, Copy)]
enum MeetingKind<'r> {
    /// Its target is what the rule of this number matches.
    Rule(u32),
    /// Its target is a spelling of a file whose own address the rule takes.
    Address(&'r str),
}

/// What becomes of a request on the way from one rule to the next.
#[derive(Debug, Clone, Copy, PartialEq)]
enum GrowthBetween {
    /// Its path gets so much longer, or shorter.
    AtMost(i64),
    /// It loses a parameter, which nothing gives back.
    UsesUp,
    Unknown,
}

/// Whether rules that meet each other can do so without an end: in a loop that uses nothing up, and
/// in which paths do not get shorter.
fn goes_round(meets: &[Meeting<'_>]) -> bool {
    const UNKNOWN: i64 = 1 << 40;
    let mut longest: HashMap<RuleId, i64> = HashMap::new();
    let rules: BTreeSet<RuleId> = meets.iter().flat_map(|one| [one.from, one.to]).collect();
    // A loop that leaves a path as long as it was counts as one that makes it longer.
    let scale = rules.len() as i64 + 1;
    for _ in 0..=rules.len() {
        let mut is_longer = false;
        for Meeting { from, growth, to, .. } in meets {
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
    /// The requests with which a rule's target meets redirects that could lead back to some rule on
    /// the way, if there are any.
    ///
    /// Rules that only make a path shorter come to an end by themselves, and so do those that use
    /// up a parameter which no target gives back.
    pub(super) fn could_go_round(&self, rule: RuleRef<'r>) -> Option<Vec<RequestSet<'r>>> {
        if self.comes_to_an_end(rule) {
            return None;
        }
        let mut open: Vec<RuleRef<'r>> = vec![rule];
        let mut followed: Vec<RuleId> = vec![rule.id()];
        let mut meets: Vec<Meeting<'r>> = Vec::new();
        while let Some(from) = open.pop() {
            for meeting in &*self.meetings_of(from) {
                meets.push(*meeting);
                if !followed.contains(&meeting.to) {
                    followed.push(meeting.to);
                    open.push(self.edge().program().rule(meeting.to));
                }
            }
            if followed.len() > MAX_FOLLOWED {
                break;
            }
        }
        if followed.len() <= MAX_FOLLOWED && !goes_round(&meets) {
            return None;
        }
        let image = self.space.image(rule.rule())?;
        let own = meets.iter().filter(|meeting| meeting.from == rule.id());
        Some(own.map(|meeting| image.and(&self.met_by(meeting))).collect())
    }

    /// The meetings of a rule with others, worked out once.
    fn meetings_of(&self, from: RuleRef<'r>) -> Rc<[Meeting<'r>]> {
        if let Some(known) = self.meetings.borrow().get(&from.id()) {
            return Rc::clone(known);
        }
        let found: Rc<[Meeting<'r>]> = self.find_meetings(from).unwrap_or_default().into();
        self.meetings.borrow_mut().insert(from.id(), Rc::clone(&found));
        found
    }

    fn find_meetings(&self, from: RuleRef<'r>) -> Option<Vec<Meeting<'r>>> {
        let redirect = from.rule().redirect()?;
        let met = self.overlaps(Stage::Redirect).with_target(redirect.target());
        let moved = self.moved_to_rules();
        if met.is_empty() && moved.is_empty() {
            return None;
        }
        let image = self.space.image(from.rule())?;
        let used_up = !from.pattern().query().is_empty() && !self.targets_have_queries();
        let growth = match used_up {
            true => GrowthBetween::UsesUp,
            false => Growth::of(from.rule(), redirect)
                .most
                .map_or(GrowthBetween::Unknown, GrowthBetween::AtMost),
        };
        // Also a canonical redirect leads on: to a page's own address, which a rule may take
        // away from it again.
        let moved = moved.iter().map(|(address, to)| {
            let (growth, by) = (GrowthBetween::Unknown, MeetingKind::Address(address));
            Meeting { from: from.id(), growth, to: *to, by }
        });
        let met = met.into_iter().filter_map(|number| {
            let other = self.space.rule(Stage::Redirect, number);
            let goes_on = other.redirect().is_some() && !self.comes_to_an_end(other);
            let by = MeetingKind::Rule(number);
            goes_on.then_some(Meeting { from: from.id(), growth, to: other.id(), by })
        });
        let can_be =
            |meeting: &Meeting<'r>| self.space_member(&image.and(&self.met_by(meeting))).is_some();
        Some(moved.chain(met).filter(can_be).collect())
    }

    /// What is to be asked to be where a meeting leads.
    fn met_by(&self, meeting: &Meeting<'r>) -> RequestSet<'r> {
        match meeting.by {
            MeetingKind::Rule(number) => self.reached(number),
            MeetingKind::Address(address) => self.space.at_path(address),
        }
    }

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
            let names_hosts = rules().any(|rule| rule.pattern().origin().is_some());
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
                if checked > MAX_CHECKED || !self.ends_at(address, names_hosts) {
                    moved.extend(takes.iter().map(|rule| (address, *rule)));
                }
            }
            moved
        })
    }

    /// Whether all requests for a path come to an end. Where no rule on the way asks for more than
    /// the path, they go one way, on every host.
    fn ends_at(&self, path: &str, names_hosts: bool) -> bool {
        let url = self.edge().site().url_of(path);
        match Request::get(&url) {
            Ok(request) if !names_hosts && self.space.goes_one_way(&request) => {
                !self.edge().route(&request).never_ends()
            }
            _ => self.all_end(&self.space.at_path(path)),
        }
    }
}
