//! The preview on real sockets.

mod authority;
mod browser;
mod common;
mod compared;
mod conformance;
mod forwarding;
mod load;
mod names;
mod serving;
mod watching;
mod webdriver;
