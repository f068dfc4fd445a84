//! The first rules of a static site, written from what its build shows.
//!
//! ```text
//!   names, bytes ──Survey──▶ what pages say ──Draft──▶ rules, each with its evidence
//!                                             └─ asked of the same edge and checks as any rules
//! ```
//!
//! Nothing is guessed that can be asked: each form of page URLs is tried on the links that the pages
//! have, and what `ravel check` would say to write is written.
//!
//! ```
//! let files = [("index.html", "<a href=/about.html>About</a>"), ("about.html", "<a href=/>Home</a>")];
//! let read = |name: &str| {
//!     let file = files.iter().find(|(known, _)| *known == name);
//!     Ok::<_, String>(file.map(|(_, text)| text.as_bytes().to_vec()).unwrap_or_default())
//! };
//! let names = files.map(|(name, _)| name);
//! let draft = ravel_draft::Draft::of("https://h.example/", "dist", &names, read)?;
//! assert!(draft.rules().contains("pages exact"));
//! # Ok::<(), ravel_draft::DraftError>(())
//! ```

#![warn(missing_docs)]

mod base;
mod candidate;
mod draft;
mod expectations;
mod forms;
mod help;
mod matching;
mod moves;
mod old_urls;
mod origins;
mod page;
mod paths;
mod security;
mod settings;
mod shapes;
mod similar;
mod statements;
mod survey;

pub use draft::{Draft, DraftError};
pub use moves::{Move, OldSite};
pub use old_urls::{redirects, suggestions};
pub use survey::reads;
