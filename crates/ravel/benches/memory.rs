//! Memory that rules take beyond their text: `cargo bench -p ravel --bench memory`.
//!
//! Apart from the other table, since counting slows every allocation.

use std::alloc::System;
use std::fmt::Write;

use ravel::{Edge, FileList, Rules};
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

fn main() {
    // Cargo's test runner asks benches for their tests.
    if std::env::args().any(|argument| argument == "--list" || argument == "--test") {
        return;
    }
    println!("{:>10} {:>10} {:>10} {:>24}", "rules", "text", "kept", "bytes a rule beyond it");
    for rules in [10_000, 100_000, 1_000_000] {
        let mut table = String::from("old,new,status\n");
        for at in 0..rules {
            match at % 10 {
                9 => writeln!(table, "/tags/night-{at}/{{page}},/pages/{at}/{{page}},permanent")
                    .unwrap(),
                _ => writeln!(
                    table,
                    "/news/2014/11/storm-over-heronsea-{at}.html,/pages/{at},permanent"
                )
                .unwrap(),
            }
        }
        let region = Region::new(ALLOCATOR);
        let edge = {
            let load = |_: &str| Ok::<_, String>(table.as_bytes().to_vec());
            let rules = Rules::parse_with(
                "site https://harbour.example/\nredirect\n  table moved.csv\n",
                load,
            )
            .unwrap();
            Edge::new(&rules, FileList::default())
        };
        let change = region.change();
        let kept = change.bytes_allocated - change.bytes_deallocated;
        assert_eq!(edge.rules().sources().len(), 2);
        // The text that is kept: each row without its commas, its status and its end.
        let text = table.len() - rules * ",,permanent\n".len();
        let megabytes = |bytes: usize| format!("{:.1} MB", bytes as f64 / 1e6);
        println!(
            "{rules:>10} {:>10} {:>10} {:>24.0}",
            megabytes(text),
            megabytes(kept),
            (kept - text) as f64 / rules as f64
        );
    }
}
