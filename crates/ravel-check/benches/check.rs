//! What checking costs, beside loading: `cargo bench -p ravel-check`. Ratios of the fastest of
//! rounds that are interleaved in one run.

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};

use ravel::{Edge, FileList, Rules};
use ravel_check::{Audit, verify_all};

#[path = "../tests/it/styles/mod.rs"]
#[allow(dead_code, reason = "a bench uses some of it")]
mod styles;

const ROUNDS: usize = 24;

fn main() {
    // Cargo's test runner asks benches for their tests.
    if std::env::args().any(|argument| argument == "--list" || argument == "--test") {
        return;
    }
    let [fewer, more] = [10_000, 100_000].map(|rules| {
        let [checked, loaded] = checking(rules);
        row(&format!("check / load, {rules} rules and 10000 files"), checked, loaded);
        checked
    });
    row("check 100000 rules / check 10000", more, fewer);
    for style in styles::all() {
        let [checked, verified, loaded] = asking(&style);
        row(&format!("check / load, {}", style.name), checked, loaded);
        row(&format!("expectations / load, {}", style.name), verified, loaded);
    }
}

/// A site of an ordinary style: all findings on its rules, and all that they expect, beside loading
/// it.
fn asking(style: &styles::Style) -> [Duration; 3] {
    let edge = style.load();
    let check = || drop(black_box(Audit::new(&edge).rules()));
    let verify = || drop(black_box(verify_all(&edge)));
    fastest([&check, &verify, &|| drop(black_box(style.load()))])
}

/// The fastest of some rounds, in turns.
fn fastest<const N: usize>(runs: [&dyn Fn(); N]) -> [Duration; N] {
    let mut best = [Duration::MAX; N];
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
    println!(
        "{what:50} {:>7.1?} {:>7.1?} {:>7.2}",
        this,
        that,
        this.as_secs_f64() / that.as_secs_f64()
    );
}

/// Rules and file names are checked, beside being loaded. They have no mistake, so that everything
/// is looked at.
fn checking(rules: usize) -> [Duration; 2] {
    let mut table = String::from("old,new,status\n");
    for at in 0..rules {
        let (folder, page) = (at % 100, at / 100 % 100);
        match at % 10 {
            9 => writeln!(table, "/archive-{at}/{{page}},/pages/{folder}/{{page}},permanent"),
            _ => writeln!(
                table,
                "/news/{}/{}/page-{at}.html,/pages/{folder}/{page},permanent",
                at % 16,
                at % 12
            ),
        }
        .expect("a string takes all text");
    }
    let names: Vec<String> =
        (0..10_000).map(|at| format!("pages/{}/{}.html", at / 100, at % 100)).collect();
    let load = || {
        let table = |_: &str| Ok::<_, String>(table.as_bytes().to_vec());
        let rules = Rules::parse_with(
            "site https://harbour.example/\nredirect\n  table moved.csv\n",
            table,
        );
        Edge::new(&rules.expect("the rules are valid"), FileList::from_iter(&names))
    };
    let edge = load();
    assert_eq!(Audit::new(&edge).rules(), []);
    let check = || {
        let audit = Audit::new(&edge);
        black_box((audit.rules(), audit.names()));
    };
    fastest([&check, &|| drop(black_box(load()))])
}
