//! The command, as its users run it.

mod browser;
mod catalogue;
mod check;
mod cluster;
mod commands;
mod common;
mod completions;
mod delegation;
mod diff;
mod document_names;
mod documents;
mod domain;
mod draft;
mod edits;
mod fetch;
mod findings;
mod generators;
#[path = "../../../ravel-dns/tests/it/hostile/mod.rs"]
mod hostile;
mod includes;
mod interrupted;
mod live;
mod named;
mod out_folder;
mod packages;
mod problems;
mod published;
mod serve;
mod tally;
mod versions;
#[path = "../../../ravel-serve/tests/it/webdriver/mod.rs"]
#[allow(dead_code, reason = "the preview's tests use the rest")]
mod webdriver;
mod words;
mod zones;
