//! Sets of requests are what asking each request says: union, intersection, difference, and a
//! shortest member.

use crate::universe::{conditions, pattern, requests};
use proptest::prelude::*;
use ravel::program::Stage;
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_check::space::{Member, Space};

const SITE: &str = "site https://h.example/\n  alias w.example\n";
const FILES: [&str; 3] = ["index.html", "a.html", "b/index.html"];

#[derive(Debug, Clone, Copy)]
enum Join {
    And,
    Or,
    Minus,
}

impl Join {
    fn of(self, a: bool, b: bool) -> bool {
        match self {
            Join::And => a && b,
            Join::Or => a || b,
            Join::Minus => a && !b,
        }
    }
}

fn edge(rules: &str) -> Option<Edge> {
    let rules = Rules::parse(&format!("{SITE}{rules}")).ok()?;
    Some(Edge::new(&rules, FileList::from_iter(FILES)))
}

/// How long an address is, as a shortest one is meant.
fn length(request: &Request) -> usize {
    let address = request.address().unwrap();
    address.path().len() + address.query().map_or(0, str::len)
}

proptest! {
    #![proptest_config(ravel_testing::config(400))]

    #[test]
    fn sets_are_what_every_request_says(
        rules in prop::collection::vec((pattern(), conditions()).prop_map(|(pattern, conditions)| format!("gone {pattern}\n{conditions}")), 2..6),
        joins in prop::collection::vec(prop::sample::select(vec![Join::And, Join::Or, Join::Minus, Join::Minus]), 6),
    ) {
        // Each rule alone says which requests it takes.
        let (rules, alone): (Vec<String>, Vec<Edge>) = rules.into_iter().filter_map(|rule| edge(&rule).map(|edge| (rule, edge))).unzip();
        let rules = Rules::parse(&format!("{SITE}{}", rules.concat())).unwrap();
        let all = Edge::new(&rules, FileList::from_iter(FILES));
        let space = Space::new(&all);
        let matching = |at: usize| space.matching(&rules.rules(Stage::Redirect)[at]);
        let takes = |request: &Request, at: usize| alone[at].answer(request).outcome() == Outcome::Gone;
        prop_assert_eq!(rules.rules(Stage::Redirect).len(), alone.len());

        let mut set = space.all();
        let mut kept: Vec<Join> = Vec::new();
        for (at, join) in (0..alone.len()).zip(&joins) {
            set = match join {
                Join::And => set.and(&matching(at)),
                Join::Or => set.or(&matching(at)),
                Join::Minus => set.minus(&matching(at)),
            };
            kept.push(*join);
        }
        let is_in = |request: &Request| kept.iter().enumerate().fold(true, |is_in, (at, join)| join.of(is_in, takes(request, at)));
        let members: Vec<Request> = requests().into_iter().filter(is_in).collect();
        match set.shortest(&space) {
            Member::Shortest(found) => {
                prop_assert!(is_in(&found), "{} is no member", found.url());
                let shorter = members.iter().find(|member| length(member) < length(&found));
                prop_assert!(shorter.is_none(), "{} is shorter than {}", shorter.unwrap().url(), found.url());
            }
            Member::None => prop_assert!(members.is_empty(), "{} is a member", members[0].url()),
            Member::Undecided => prop_assert!(false, "it is undecided whether there is a member"),
        }
    }
}
