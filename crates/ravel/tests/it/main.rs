//! The language, the decision and its explanation, by the public face of the library.

mod addresses;
mod answers;
mod captures;
mod conditions;
#[cfg(feature = "serde")]
mod data;
mod decision;
mod embedding;
mod examples;
mod expectations;
mod format;
mod grammar;
mod header_ops;
mod hops;
mod laws;
mod limits;
mod live;
mod origins;
mod page_names;
mod pages;
mod queries;
mod reading;
mod vary;
mod walks;
