//! The requests that are known of a site: from lists, tables and sitemaps.
//!
//! ```text
//!   bytes ──Input──▶ text ──┬─ list ────┐
//!     gzip, UTF-8           ├─ table ───┼──▶ Hit, one after another
//!                           └─ sitemap ─┘
//! ```
//!
//! What a source is shows in its first bytes; nobody has to say it.
//!
//! ```
//! use ravel_traffic::{Columns, Entry, HitReader};
//!
//! let table = "page,visits\nhttps://h.example/a,12\n";
//! let mut reader = HitReader::new(table.as_bytes(), &Columns::default())?;
//! let Some(Ok(Entry::Hit(hit))) = reader.next() else { panic!("a row") };
//! assert_eq!((hit.url(), hit.count()), ("https://h.example/a", 12));
//! # Ok::<(), ravel_traffic::SourceError>(())
//! ```

#![warn(missing_docs)]

mod error;
mod hit;
mod input;
mod list;
mod log;
mod reader;
mod sitemap;
mod table;
mod tally;
mod zstandard;

pub use error::SourceError;
pub use hit::Hit;
pub use input::{Compression, unpacked};
pub use log::{Day, JsonKeys, LogFormat, Urlless};
pub use reader::{Entry, HitReader, SourceFormat};
pub use table::Columns;
pub use tally::{
    DifferingStatus, Ending, EndingCount, LogReader, PartialError, RuleHits, TalliedUrl, Tally,
    TallyError, TallyOptions, TallyReport, UnreadLine,
};
