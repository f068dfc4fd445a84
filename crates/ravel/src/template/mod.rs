//! One pattern: read, printed, held against an address, and turned into a target.
//!
//! ```text
//!   /sailings.php?from={port}   ->   /ports/{port}/
//!   └─ Template ┘ └ QueryPart┘       └─ Target ──┘
//!   └────── Pattern ────────┘
//!   Pattern × address ──▶ Captures ──▶ Target ──▶ Address
//! ```
//!
//! A pattern is a small part of URI Templates (RFC 6570) that can be read in both directions. What
//! a pattern captures goes into a target in such an encoding that it means the same there; see
//! `capture.rs`.

mod capture;
mod error;
mod expand;
mod matching;
mod parse;
mod pattern;
mod piece;
mod query;
mod target;
mod text;

pub use capture::{CaptureValue, Captures, ExpansionError, Source};
pub use error::{TemplateError, TemplateErrorKind};
pub(crate) use parse::is_name;
pub use pattern::{HostPattern, OriginPattern, Pattern};
pub use piece::{Expression, Part, Piece, Template};
pub use query::{QueryPart, QueryTest};
pub use target::{Target, TargetBase, TargetTemplate};
pub(crate) use text::Text;
