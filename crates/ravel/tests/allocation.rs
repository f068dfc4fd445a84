//! Answering allocates nothing when a file is served, and only the location when redirecting; from
//! many threads at once.

use std::alloc::System;
use std::sync::Arc;

use ravel::{Edge, FileList, Outcome, Request, Rules};
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

const RULES: &str = "\
site https://h.example/
  alias www.h.example
  missing /404.html
  languages en, de
redirect /old/{page} -> /pages/{page}
redirect /summer -> /offers/
redirect / -> /de/
  when language is de
gone /gone{/x*}
rewrite /today -> /about
rewrite /show/{page}/now -> /{page}
fallback /app{/x*} -> /app/
fallback /{app}/deep{/x*} -> /{app}/
headers {/any*} on all
  set x-content-type-options: nosniff
headers /about
  set cache-control: max-age=60
";

// One test, so that no other test allocates while it counts.
#[test]
fn allocations_and_threads() {
    let rules = Rules::parse(RULES).unwrap();
    let files = ["index.html", "about.html", "404.html", "app/index.html", "caf\u{e9}.html"];
    let edge = Arc::new(Edge::new(&rules, FileList::from_iter(files)));
    let cases = [
        ("https://h.example/", Outcome::File, 0),
        ("https://h.example/about", Outcome::File, 0),
        ("https://h.example/today", Outcome::File, 0),
        ("https://h.example/app/seat/14A?x=1", Outcome::File, 0),
        ("https://h.example/caf%C3%A9", Outcome::File, 0),
        ("https://h.example/show/about/now", Outcome::File, 0),
        ("https://h.example/app/deep/x", Outcome::File, 0),
        ("https://h.example/none", Outcome::Missing, 0),
        ("https://h.example/gone/x", Outcome::Gone, 0),
        ("https://h.example/summer", Outcome::Redirect, 1),
        ("https://h.example/summer?by=poster", Outcome::Redirect, 1),
        ("https://h.example/old/winter", Outcome::Redirect, 1),
    ];
    for (url, outcome, allocations) in cases {
        let request = Request::get(url).unwrap();
        // A thread's first answer of a kind may make room for those that follow.
        edge.answer(&request);
        // The harness's own thread allocates at times, and only ever adds.
        let counted = (0..5).map(|_| {
            let region = Region::new(ALLOCATOR);
            let answered = edge.answer(&request).outcome();
            let change = region.change();
            (change.allocations, change.reallocations, answered)
        });
        assert_eq!(
            counted.min_by_key(|(made, moved, _)| made + moved),
            Some((allocations, 0, outcome)),
            "{url}"
        );
    }
    let threads: Vec<_> = (0..8)
        .map(|thread| {
            let edge = Arc::clone(&edge);
            std::thread::spawn(move || {
                for round in 0..200 {
                    let number = thread * 1_000 + round;
                    let request =
                        Request::get(&format!("https://www.h.example/old/{number}")).unwrap();
                    let location = format!("https://h.example/pages/{number}");
                    assert_eq!(edge.answer(&request).location(), Some(&*location));
                }
            })
        })
        .collect();
    threads.into_iter().for_each(|thread| thread.join().unwrap());
}
