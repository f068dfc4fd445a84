//! The list of built files, and the addresses that name them.
//!
//! ```text
//!   names ──FileList──▶ sorted, dot files left out
//!                          │ pages tidy|loose|exact, index
//!                          ▼
//!   path ───────────▶ UrlVariants ──▶ the file, and whether this is its own address
//! ```
//!
//! Every spelling of every page is worked out once, so that finding a file is one look-up whatever
//! the path.

mod list;
mod types;
mod variants;

pub use list::{FileList, Omission};
pub use types::{KNOWN_TYPES, content_type, is_known_type};

pub(crate) use variants::{UrlVariant, UrlVariants};
