//! Any source, one hit after another.

use std::io::Read;
use std::vec;

use crate::input::{first_line, unpacked};
use crate::list::List;
use crate::table::Table;
use crate::{Columns, Hit, SourceError, sitemap};

/// What a source has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Entry {
    /// A request that is known.
    Hit(Hit),
    /// The URL of another sitemap, of an index.
    Sitemap(String),
}

/// How a source is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum SourceFormat {
    /// `[COUNT] [METHOD] URL [STATUS]` on each line.
    List,
    /// Comma-separated values, or separated by `;`, with a row of names (RFC 4180).
    Csv,
    /// Values separated by tabs, with a row of names.
    Tsv,
    /// A sitemap, or an index of sitemaps (sitemaps.org, protocol 0.9).
    Sitemap,
}

/// Reads the hits of a source, of which the format is found out.
///
/// After an error that is not of one line, nothing follows.
pub struct HitReader<'r> {
    rows: Rows<'r>,
    ended: bool,
}

enum Rows<'r> {
    List(List<'r>),
    Table(Box<Table<'r>>),
    Sitemap(vec::IntoIter<Entry>),
}

impl<'r> HitReader<'r> {
    /// Begins to read a source, compressed or not.
    ///
    /// ```
    /// use ravel_traffic::{Columns, HitReader, SourceFormat};
    ///
    /// let list = "  7 /a\n/b\n";
    /// let reader = HitReader::new(list.as_bytes(), &Columns::default())?;
    /// assert_eq!(reader.format(), SourceFormat::List);
    /// assert_eq!(reader.filter_map(Result::ok).count(), 2);
    /// # Ok::<(), ravel_traffic::SourceError>(())
    /// ```
    ///
    /// # Errors
    /// Bytes that cannot be had, UTF-16, XML that is not a sitemap, columns that are not there.
    pub fn new(input: impl Read + 'r, columns: &Columns) -> Result<HitReader<'r>, SourceError> {
        let (first, input) = first_line(unpacked(input)?)?;
        if first.starts_with('<') {
            let rows = Rows::Sitemap(sitemap::entries(input)?);
            return Ok(HitReader { rows, ended: false });
        }
        let rows = match Table::of(&first, input, columns)? {
            Ok(table) => Rows::Table(Box::new(table)),
            Err(input) => Rows::List(List { input, line: 0 }),
        };
        Ok(HitReader { rows, ended: false })
    }

    /// How the source is written.
    pub fn format(&self) -> SourceFormat {
        match &self.rows {
            Rows::List(_) => SourceFormat::List,
            Rows::Table(table) if table.is_tabbed => SourceFormat::Tsv,
            Rows::Table(_) => SourceFormat::Csv,
            Rows::Sitemap(_) => SourceFormat::Sitemap,
        }
    }
}

impl Iterator for HitReader<'_> {
    type Item = Result<Entry, SourceError>;

    fn next(&mut self) -> Option<Result<Entry, SourceError>> {
        if self.ended {
            return None;
        }
        let read = match &mut self.rows {
            Rows::List(list) => list.next().map(|read| read.map(Entry::Hit)),
            Rows::Table(table) => table.next().map(|read| read.map(Entry::Hit)),
            Rows::Sitemap(entries) => entries.next().map(Ok),
        };
        self.ended = matches!(&read, Some(Err(error)) if error.line().is_none());
        read
    }
}
