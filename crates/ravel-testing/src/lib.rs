//! How many cases the slow tests try, and which.
//!
//! ```text
//!   cargo test                   a tenth of the cases, and a tenth of that with a seed of this run
//!   RAVEL_LONG=1 cargo test      all cases, as .ci/run does, and a tenth of them with a fresh seed
//!   RAVEL_LONG=10 cargo test     ten times as many
//!   RAVEL_SEED=7 cargo test      the fresh seed of an earlier run, which a failure prints
//! ```

#![warn(missing_docs)]

use std::fmt::Debug;
use std::hash::{BuildHasher, RandomState};
use std::str::FromStr;

use proptest::prelude::{ProptestConfig, Strategy};
use proptest::test_runner::{RngAlgorithm, TestCaseResult, TestRng, TestRunner};

/// How many cases of `all` this run tries; at least one.
///
/// ```
/// assert!(ravel_testing::cases(200) >= 20);
/// ```
pub fn cases(all: u32) -> u32 {
    match number::<u32>("RAVEL_LONG") {
        None | Some(0) => all.div_ceil(10),
        Some(times) => all * times,
    }
}

/// Whether all cases are tried: sums over them are as they should be only then.
pub fn is_whole() -> bool {
    number::<u32>("RAVEL_LONG").is_some_and(|times| times > 0)
}

/// What this run tries of a list: all of it, or every tenth from a place that each run draws.
///
/// ```
/// assert!((0..30).filter(ravel_testing::sampled()).count() >= 3);
/// ```
pub fn sampled() -> impl FnMut(&usize) -> bool {
    let first = fresh_seed() as usize % 10;
    move |number| is_whole() || number % 10 == first
}

/// A configuration for [`proptest::proptest`] that tries `all` cases, or a tenth, each time others.
pub fn config(all: u32) -> ProptestConfig {
    ProptestConfig {
        cases: cases(all),
        failure_persistence: None,
        max_shrink_iters: 2_000,
        ..ProptestConfig::default()
    }
}

/// Tries a law on `all` cases, or a tenth: the same every time, so that a change is what changes the
/// outcome; then on a tenth as many that no run has tried before.
///
/// # Panics
/// Where the law does not hold, with the smallest case that was found and the seed.
pub fn law<S: Strategy>(all: u32, strategy: &S, test: impl Fn(S::Value) -> TestCaseResult)
where
    S::Value: Debug,
{
    let fixed = TestRng::deterministic_rng(RngAlgorithm::ChaCha);
    let result = TestRunner::new_with_rng(config(all), fixed).run(strategy, &test);
    result.unwrap_or_else(|error| panic!("with the seed that is always tried: {error}"));
    let seed = fresh_seed();
    let fresh = TestRng::from_seed(RngAlgorithm::ChaCha, &seed_bytes(seed));
    let config = ProptestConfig { cases: cases(all).div_ceil(10), ..config(all) };
    let result = TestRunner::new_with_rng(config, fresh).run(strategy, &test);
    result.unwrap_or_else(|error| panic!("with RAVEL_SEED={seed}: {error}"));
}

/// The seed of this run: that of `RAVEL_SEED`, or one that was never used.
pub fn fresh_seed() -> u64 {
    number("RAVEL_SEED").unwrap_or_else(|| RandomState::new().hash_one("seed"))
}

fn seed_bytes(seed: u64) -> [u8; 32] {
    let mut bytes = [0; 32];
    bytes[..8].copy_from_slice(&seed.to_le_bytes());
    bytes
}

fn number<T: FromStr>(name: &str) -> Option<T> {
    let text = std::env::var(name).ok()?;
    let number = text.parse().ok();
    assert!(number.is_some(), "{name} is `{text}`; write a number");
    number
}
