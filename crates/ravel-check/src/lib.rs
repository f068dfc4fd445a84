//! What holds for every URL of a site, and what is wrong with it, before anybody visits.
//!
//! ```text
//!   Edge ──verify_all──▶ a verdict for each `expect` and `expect every`
//!        ──Audit──▶ findings                    both by sets of requests (space)
//! ```
//!
//! ```
//! let rules = ravel::Rules::parse(
//!     "site https://h.example/\nredirect /old{/x*} -> /new{/x*}\nredirect /old/a -> /b\n\
//!      expect every /old/{x} goes to https://h.example/new/{x}\n",
//! )?;
//! let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["new/a.html"]));
//! assert!(!ravel_check::verify_all(&edge)[0].holds());
//! assert_eq!(ravel_check::Audit::new(&edge).rules()[0].code().name(), "unreachable-rule");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

#![warn(missing_docs)]

mod audit;
mod compare;
mod coverage;
mod every;
mod parallel;
#[cfg(feature = "serde")]
mod serial;
pub mod space;
mod symbolic;

pub use audit::{
    Audit, EntryPoint, EntryPointEnd, EntryPoints, Report, Shadowing, Sitemap, fingerprinted,
    is_build_manifest, reads,
};
pub use compare::{Comparison, Difference, DifferenceKind, HeaderDifference, Reply, compare};
pub use coverage::{CoverageState, RuleCoverage, coverage};
pub use every::{verify_all, witnesses};
pub use parallel::in_order;
