//! What is published, so that it answers as it was tested.
//!
//! ```text
//!   Edge ──table──▶ table.json ──module──▶ edge.mjs        hosts that run code at the edge
//!        ──files──▶ pages, copies, a 404 page              hosts that only serve files
//!        ──redirect_list──▶ rows                           hosts that read a list of redirects
//! ```
//!
//! The module is a table and a small reader of tables; both are held against the library's answers
//! by tests. Nothing of the rules can break out of where it is put: texts go into scripts as JSON
//! without `<`, and into pages as escaped text.

#![warn(missing_docs)]

mod files;
mod index;
mod list;
#[cfg(feature = "serde")]
mod serial;
mod table;
mod text;
mod urls;
mod worker;

pub use files::{LineSupport, Page, PublishedFiles, Support, files};
pub use list::{RedirectList, RedirectRow, redirect_list};
pub use table::table;
pub use worker::worker_lines;

use serde_json::Value;

use text::script_text;

/// The reader of tables, in which `TABLE` stands for the table.
const READER: &str = include_str!("edge.mjs");

/// A handler of requests by the Fetch standard, with `edge.mjs` beside it.
pub const FETCH: &str = include_str!("fetch.mjs");

/// The types of what [`FETCH`] exports.
pub const FETCH_TYPES: &str = include_str!("fetch.d.ts");

/// A Service Worker (W3C) that answers with `edge.mjs` and `fetch.mjs` beside it, for sites on a plain file server.
pub const SERVICE_WORKER: &str = include_str!("service-worker.mjs");

/// The types of what [`module`] exports, for the TypeScript compiler.
pub const TYPES: &str = include_str!("edge.d.ts");

/// An ECMAScript module that decides as the edge of this table does; [`TYPES`] says what it
/// exports.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
/// let module = ravel_publish::module(&ravel_publish::table(&edge));
/// assert!(module.contains("export function decide"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn module(table: &Value) -> String {
    reader_of(&format!("JSON.parse({})", script_text(&table.to_string())))
}

/// The reader of a table that an expression gives.
pub(crate) fn reader_of(table: &str) -> String {
    let reader: String = READER.split_inclusive('\n').filter(|line| !is_comment(line)).collect();
    reader.replacen("TABLE", table, 1)
}

/// Whether a line of the reader is for those who change it.
fn is_comment(line: &str) -> bool {
    let line = line.trim();
    line.is_empty() || line.starts_with("//") || (line.starts_with("/**") && line.ends_with("*/"))
}
