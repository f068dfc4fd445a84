//! Edge routing rules of a static site: read, decided, explained and held against what is expected
//! of them.
//!
//! ```
//! let rules = ravel::Rules::parse(
//!     "site https://lanternferries.example/\n\
//!      fallback /book{/step*} -> /book/\n",
//! )?;
//! let files = ravel::FileList::from_iter(["index.html", "book/index.html"]);
//! let edge = ravel::Edge::new(&rules, files);
//!
//! let request = ravel::Request::get("https://lanternferries.example/book/seat")?;
//! let answer = edge.answer(&request);
//! assert_eq!(answer.status(), Some(200));
//! assert_eq!(answer.file(), Some("book/index.html"));
//!
//! let why = edge.explain(&request);
//! assert_eq!(why.answer.line().unwrap().number, 2);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! The library reads no disk, opens no socket, prints nothing and knows no clock. Text and lists go
//! in, values come out:
//!
//! ```text
//!   text ──language──▶ statements ──rules──▶ Rules ──edge──▶ Edge
//!                                                             │  Request ▶ Answer (+ Explanation)
//!                             FileList (built files) ─────────┘
//!   Edge × Expectation ──expect──▶ Verdict
//! ```
//!
//! Beside it: `ravel-check` (what holds for every URL, what is wrong), `ravel-dns` (records,
//! certificates and their change), `ravel-publish` (the rules as a module, and as files),
//! `ravel-serve` (a local server).

#![warn(missing_docs)]

pub mod address;
pub mod edge;
pub mod expect;
pub mod files;
pub mod finding;
pub mod language;
pub mod program;
pub mod rules;
pub mod template;

pub use address::Request;
pub use edge::{Answer, Edge, Outcome, Step};
pub use files::FileList;
pub use language::{Problem, Problems};
pub use program::{Program, Rule, RuleId};
pub use rules::{Expectation, Rules, Site};
pub use template::Template;
