//! The index held against the plain reading of the rules, one after another.

use std::ops::ControlFlow;

use http::{HeaderMap, Method};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::address::Address;
use crate::rules::Stage;
use crate::template::Captures;
use crate::{Edge, FileList, Rules};

const PIECES: [&str; 15] =
    ["/", "/a", "/b", "/ab", "/A", "a", "b", "%2F", "//", "/{N}", "{N}", "{+N}", "{/N*}", "/{N}a", "/{+N}b"];
const QUERIES: [&str; 9] = ["", "", "", "?k=a", "?k=b", "?k={q}", "?m", "?k=a&m=b", "?m=b&k=%61"];
const ORIGINS: [&str; 6] = ["", "", "", "https://h.example", "http://w.example", "https://{o}.example"];

fn pattern() -> impl Strategy<Value = String> {
    let pieces = prop::collection::vec(prop::sample::select(&PIECES[..]), 1..6);
    (prop::sample::select(&ORIGINS[..]), pieces, prop::sample::select(&QUERIES[..])).prop_map(|(origin, pieces, query)| {
        let numbered = pieces.iter().enumerate().map(|(at, piece)| piece.replace('N', &format!("n{at}")));
        format!("{origin}{}{query}", numbered.collect::<String>())
    })
}

/// Addresses of a seed, of pieces that the patterns are made of too.
fn addresses(seed: u64) -> impl Iterator<Item = String> {
    const HOSTS: [&str; 4] = ["https://h.example", "http://w.example", "http://h.example", "https://p.example"];
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
        format!("{host}{slash}{path}{}{}", if query == "&" { "" } else { "?" }, query.trim_matches('&'))
    })
}

#[test]
fn the_index_is_the_plain_reading() {
    let sets = if std::env::var_os("RAVEL_LONG").is_some() { 10_000 } else { 1_000 };
    let aliases = prop::sample::select(&["w.example", "w.example\n  ignore case", "w.example, https://h.example/a/"][..]);
    let rules = prop::collection::vec(pattern(), 1..24);
    let mut runner = TestRunner::new(Config { cases: sets, failure_persistence: None, ..Config::default() });
    runner
        .run(&(aliases, rules, any::<u64>()), |(aliases, patterns, seed)| {
            let site = format!("site https://h.example/\n  preview p.example\n  alias {aliases}\n");
            let valid = patterns.iter().map(|pattern| format!("gone {pattern}\n"));
            let valid: String = valid.filter(|rule| Rules::parse(&format!("{site}{rule}")).is_ok()).collect();
            let rules = Rules::parse(&format!("{site}{valid}")).map_err(|problems| TestCaseError::fail(problems.to_string()))?;
            let edge = Edge::new(&rules, FileList::default());
            for address in addresses(seed).take(100) {
                same_rules(&edge, &address)?;
            }
            Ok(())
        })
        .unwrap();
}

fn same_rules(edge: &Edge, address: &str) -> Result<(), TestCaseError> {
    let Ok(address) = Address::parse(address) else { return Ok(()) };
    let headers = HeaderMap::new();
    let Some(asked) = edge.hosts.locate(&Method::GET, &headers, &address) else { return Ok(()) };
    let rules = edge.rules.stage(Stage::Redirect);
    let matches = |number: &u32| edge.pattern_matches(&rules[*number as usize].pattern, &asked, &mut Captures::new());
    let plain: Vec<u32> = (0..rules.len() as u32).filter(matches).collect();
    let mut found = Vec::new();
    edge.indexes[Stage::Redirect as usize].candidates(rules, &asked, edge.rules.site.ignore_case, |number| {
        found.push(number);
        ControlFlow::Continue(())
    });
    prop_assert!(found.windows(2).all(|pair| pair[0] < pair[1]), "{}: {:?} is not in order", address, found);
    found.retain(matches);
    prop_assert_eq!(found, plain, "{}", address);
    Ok(())
}
