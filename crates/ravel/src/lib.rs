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
//! assert_eq!(why.answer().line().unwrap().number(), 2);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Patterns
//!
//! | in a pattern | matches |
//! |---|---|
//! | `{name}` | one or more characters up to the next `/` |
//! | `{+name}` | any characters, `/` too, or none |
//! | `{/name*}` | nothing, or whole segments, each with its leading `/` |
//! | `?key=value`, `?key={name}`, `?key` | a parameter of the query: this value, any that is not empty, or whether it is there |
//! | `https://host/…`, `https://{label}.host/…` | this host, or one label below it |
//!
//! A capture takes as little as it can, the one further left first. It keeps its meaning where a
//! target puts it: what it holds becomes a segment of a path, a parameter or a label of a host, or
//! the rule does not match ([`template`]).
//!
//! # In a server
//!
//! [`Request::from_parts`] takes a request as it arrives. An [`Answer`] becomes an
//! [`http::Response`]; its body is the file it names, or [`Answer::body`]. An [`Edge`] never
//! changes and is shared between threads; answering allocates nothing but a location.
//!
//! ```
//! # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
//! # let edge = ravel::Edge::new(&rules, ravel::FileList::default());
//! use ravel::address::Scheme;
//!
//! let request = ravel::Request::from_parts(http::Method::GET, Scheme::Https, "h.example", "/a");
//! let response = http::Response::<()>::try_from(&edge.answer(&request))?;
//! assert_eq!(response.headers()["location"], "https://h.example/b");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # The whole
//!
//! ```text
//!   text ──language──▶ statements ──rules──▶ Rules ──edge──▶ Edge
//!                                                             │  Request ▶ Answer (+ Explanation)
//!                             FileList (built files) ─────────┘
//!   Edge × Expectation ──expect──▶ Verdict
//! ```
//!
//! The library reads no disk, opens no socket, prints nothing and knows no clock. Beside it stand
//! `ravel-check` (what holds for every URL, what is wrong), `ravel-dns` (records, certificates and
//! their change), `ravel-publish` (the rules as a module, and as files) and `ravel-serve` (a local
//! server). What [`program`] holds is for these: its tests and effects may get more kinds.

#![warn(missing_docs)]

pub mod address;
pub mod edge;
pub mod edit;
pub mod expect;
pub mod files;
pub mod finding;
pub mod language;
pub mod program;
pub mod rules;
#[cfg(feature = "serde")]
pub mod serial;
pub mod template;

pub use address::Request;
pub use edge::{Answer, Edge, Outcome, Step};
pub use files::FileList;
pub use language::{Problem, Problems};
pub use program::{Program, Rule, RuleId};
pub use rules::{Expectation, Rules, Site};
pub use template::Template;
