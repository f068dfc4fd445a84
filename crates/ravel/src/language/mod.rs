//! The text of a rules file as statements and words with their places, and what can be wrong with
//! it.
//!
//! ```text
//!   redirect permanent          # moved in spring      head   ┐
//!     /fares    -> /tickets/                           body   ├ Statement
//!     table moved.csv                                  body   ┘
//! ```
//!
//! A statement begins in the first column; indented lines belong to it. Nothing here knows what a
//! statement means: a line is cut into words only when someone reads it with a `Cursor`, because
//! the value of a header field is the rest of its line and a file with a million rules should not
//! become a million lists of words.

mod cursor;
mod format;
pub mod grammar;
mod message;
mod nearest;
mod place;
mod problem;
mod syntax;

pub use format::format;
pub use place::{Line, Place};
pub use problem::{Problem, ProblemKind, Problems};

pub(crate) use cursor::{Cursor, Word};
pub use nearest::nearest;
pub(crate) use syntax::{LineText, Statement, statements};
