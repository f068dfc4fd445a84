//! The index held against the plain reading of the rules, one after another.

use std::ops::ControlFlow;

use http::{HeaderMap, Method};
use proptest::prelude::*;

use super::Candidates;
use super::buckets::Buckets;
use crate::address::Address;
use crate::program::Stage;
use crate::template::Captures;
use crate::{Edge, FileList, Rules};

const PIECES: [&str; 15] = [
    "/", "/a", "/b", "/ab", "/A", "a", "b", "%2F", "//", "/{N}", "{N}", "{+N}", "{/N*}", "/{N}a",
    "/{+N}b",
];
const QUERIES: [&str; 9] = ["", "", "", "?k=a", "?k=b", "?k={q}", "?m", "?k=a&m=b", "?m=b&k=%61"];
const ORIGINS: [&str; 6] =
    ["", "", "", "https://h.example", "http://w.example", "https://{o}.example"];

fn pattern() -> impl Strategy<Value = String> {
    let pieces = prop::collection::vec(prop::sample::select(&PIECES[..]), 1..6);
    (prop::sample::select(&ORIGINS[..]), pieces, prop::sample::select(&QUERIES[..])).prop_map(
        |(origin, pieces, query)| {
            let numbered =
                pieces.iter().enumerate().map(|(at, piece)| piece.replace('N', &format!("n{at}")));
            format!("{origin}{}{query}", numbered.collect::<String>())
        },
    )
}

/// Addresses of a seed, of pieces that the patterns are made of too.
fn addresses(seed: u64) -> impl Iterator<Item = String> {
    const HOSTS: [&str; 4] =
        ["https://h.example", "http://w.example", "http://h.example", "https://p.example"];
    const PATHS: [&str; 8] = ["/", "/a", "/b", "/ab", "/A", "a", "b", "%2F"];
    const QUERIES: [&str; 10] = ["", "", "", "k=a", "k=b", "k=", "m", "m=b", "k=%61", "z"];
    let mut state = seed;
    // SplitMix64 is enough here, and many times faster than strategies.
    let mut next = move |below: usize| {
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        ((mixed ^ (mixed >> 27)) >> 33) as usize % below
    };
    std::iter::repeat_with(move || {
        let host = HOSTS[next(HOSTS.len())];
        let path: String = (0..next(8)).map(|_| PATHS[next(PATHS.len())]).collect();
        let query = format!("{}&{}", QUERIES[next(QUERIES.len())], QUERIES[next(QUERIES.len())]);
        let slash = if path.starts_with('/') { "" } else { "/" };
        format!(
            "{host}{slash}{path}{}{}",
            if query == "&" { "" } else { "?" },
            query.trim_matches('&')
        )
    })
}

#[test]
fn the_index_is_the_plain_reading() {
    let aliases = prop::sample::select(
        &["w.example", "w.example\n  ignore case", "w.example, https://h.example/a/"][..],
    );
    let rules = prop::collection::vec(pattern(), 1..24);
    ravel_testing::law(1_000, &(aliases, rules, any::<u64>()), |(aliases, patterns, seed)| {
        let site = format!("site https://h.example/\n  preview p.example\n  alias {aliases}\n");
        let valid = patterns.iter().map(|pattern| format!("gone {pattern}\n"));
        let valid: String =
            valid.filter(|rule| Rules::parse(&format!("{site}{rule}")).is_ok()).collect();
        let rules = Rules::parse(&format!("{site}{valid}"))
            .map_err(|problems| TestCaseError::fail(problems.to_string()))?;
        let edge = Edge::new(&rules, FileList::default());
        for address in addresses(seed).take(100) {
            same_rules(&edge, &address)?;
        }
        Ok(())
    });
}

proptest! {
    #![proptest_config(ravel_testing::config(500))]

    /// However badly hashes are spread, every rule is found under its key, in order.
    #[test]
    fn no_rule_is_lost_in_the_buckets(keys in prop::collection::vec(0_u64..200, 1..400), spread in 1_u64..60, room in 0_usize..300) {
        let hash_of = |number: u32| (keys[number as usize] % spread) << 40;
        let mut buckets = Buckets::default();
        buckets.reserve(room);
        for (number, key) in (0_u32..).zip(&keys) {
            buckets.insert(hash_of(number), number, |other| keys[other as usize] == *key, hash_of);
        }
        for (number, key) in (0_u32..).zip(&keys) {
            let mut found = Candidates::new();
            buckets.find(hash_of(number), &mut found);
            prop_assert!(buckets.one(hash_of(number)).is_some_and(|one| found.contains(&one)));
            found.retain(|other| keys[*other as usize] == *key);
            let all: Vec<u32> = (0_u32..).zip(&keys).filter(|(_, other)| *other == key).map(|(at, _)| at).collect();
            prop_assert_eq!(found.to_vec(), all);
        }
        let mut found = Candidates::new();
        Buckets::default().find(1, &mut found);
        prop_assert!(found.is_empty());
    }
}

fn same_rules(edge: &Edge, address: &str) -> Result<(), TestCaseError> {
    let Ok(address) = Address::parse(address) else { return Ok(()) };
    let headers = HeaderMap::new();
    let Some(visit) = edge.hosts.locate(&Method::GET, &headers, &address) else { return Ok(()) };
    let rules = edge.program().stage(Stage::Redirect);
    let matches = |number: &u32| {
        edge.pattern_matches(&rules[*number as usize].pattern, &visit, &mut Captures::new())
    };
    let plain: Vec<u32> = (0..rules.len() as u32).filter(matches).collect();
    let mut found = Vec::new();
    edge.indexes[Stage::Redirect as usize].candidates(
        &visit,
        edge.program().site.ignore_case,
        |number| {
            found.push(number);
            ControlFlow::Continue(())
        },
    );
    prop_assert!(
        found.windows(2).all(|pair| pair[0] < pair[1]),
        "{}: {:?} is not in order",
        address,
        found
    );
    found.retain(matches);
    prop_assert_eq!(found, plain, "{}", address);
    Ok(())
}
