//! What comparing two editions costs: `cargo bench -p ravel-check --bench compare`. Ratios of the
//! fastest of rounds that are interleaved in one run.

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};

use ravel::{Edge, FileList, Rules};
use ravel_check::{Audit, DifferenceKind, compare};

#[path = "../tests/it/styles/mod.rs"]
#[allow(dead_code, reason = "a bench uses some of it")]
mod styles;

const ROUNDS: usize = 7;
const RULES: usize = 100_000;
const CHANGED: usize = 100;

fn main() {
    // Cargo's test runner asks benches for their tests.
    if std::env::args().any(|argument| argument == "--list" || argument == "--test") {
        return;
    }
    let (old, new) = (table(None), table(Some(RULES / CHANGED)));
    let [same, loaded] = fastest([
        &|| {
            let [old, new] = [load(&old), load(&old)];
            assert!(black_box(compare(&old, &new)).differences().is_empty());
        },
        &|| drop(black_box([load(&old), load(&old)])),
    ]);
    row("load both and compare / load both, identical", same, loaded);
    let edges = [load(&old), load(&new)];
    let [compared, checked] = fastest([
        &|| assert!(!black_box(compare(&edges[0], &edges[1])).differences().is_empty()),
        &|| drop(black_box(Audit::new(&edges[1]).rules())),
    ]);
    row("compare 100000 rules, 100 changed / check", compared, checked);
    for style in styles::all() {
        let (old, new) = (style.load(), style.changed());
        let [compared, checked] = fastest([&|| drop(black_box(compare(&old, &new))), &|| {
            drop(black_box(Audit::new(&new).rules()))
        }]);
        let comparison = compare(&old, &new);
        let open = comparison.differences().iter();
        let open = open.filter(|one| one.kind() == DifferenceKind::Undecided).count();
        let all = comparison.differences().len();
        row(&format!("{}: {all} differences, {open} undecided", style.name), compared, checked);
    }
}

/// Rules for one path each, every so many with another target.
fn table(every: Option<usize>) -> String {
    let mut text = String::from("site https://h.example/\nredirect permanent\n");
    for at in 0..RULES {
        let other = every.is_some_and(|every| at % every == every / 2);
        let to = if other { "other" } else { "new" };
        writeln!(text, "  /old/{at} -> /{to}/{at}").expect("a string takes all text");
    }
    text
}

fn load(text: &str) -> Edge {
    let rules = Rules::parse(text).expect("the rules can be read");
    Edge::new(&rules, (0..1_000).map(|at| format!("new/{at}.html")).collect::<FileList>())
}

/// The fastest of some rounds of two, in turns.
fn fastest(runs: [&dyn Fn(); 2]) -> [Duration; 2] {
    let mut best = [Duration::MAX; 2];
    for _ in 0..ROUNDS {
        for (best, run) in best.iter_mut().zip(runs) {
            let start = Instant::now();
            run();
            *best = start.elapsed().min(*best);
        }
    }
    best
}

fn row(what: &str, this: Duration, that: Duration) {
    let ratio = this.as_secs_f64() / that.as_secs_f64();
    println!("{what:60} {this:>9.1?} {that:>9.1?} {ratio:>7.2}");
}
