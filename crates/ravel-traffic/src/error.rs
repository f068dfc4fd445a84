//! Why a source, or a line of it, cannot be read.

use std::{fmt, io};

/// Why a source, or a line of it, cannot be read.
///
/// Its message goes on where a file's name ends: `cannot be read: …`, `line 3: …`.
#[derive(Debug)]
#[non_exhaustive]
pub enum SourceError {
    /// The bytes cannot be had.
    Input(io::Error),
    /// The text is not UTF-8, as a whole.
    Encoding(&'static str),
    /// A column that was named, or one with URLs, is not there.
    Columns(String),
    /// It is XML, and no sitemap.
    Sitemap(String),
    /// A line, counted from 1; those behind it can be read.
    Line(u64, String),
}

impl SourceError {
    /// The line, counted from 1, if what follows can be read nevertheless.
    ///
    /// ```
    /// use ravel_traffic::{Columns, HitReader};
    ///
    /// let mut reader = HitReader::new("news\n/a\n".as_bytes(), &Columns::default())?;
    /// assert_eq!(reader.next().unwrap().unwrap_err().line(), Some(1));
    /// assert!(reader.next().unwrap().is_ok());
    /// # Ok::<(), ravel_traffic::SourceError>(())
    /// ```
    pub fn line(&self) -> Option<u64> {
        match self {
            SourceError::Line(line, _) => Some(*line),
            SourceError::Input(_)
            | SourceError::Encoding(_)
            | SourceError::Columns(_)
            | SourceError::Sitemap(_) => None,
        }
    }
}

impl fmt::Display for SourceError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SourceError::Input(error) => write!(f, "cannot be read: {error}"),
            SourceError::Encoding(why) => f.write_str(why),
            SourceError::Columns(why) => f.write_str(why),
            SourceError::Sitemap(why) => write!(f, "not a sitemap: {why}"),
            SourceError::Line(line, why) => write!(f, "line {line}: {why}"),
        }
    }
}

impl std::error::Error for SourceError {}

impl From<io::Error> for SourceError {
    fn from(error: io::Error) -> SourceError {
        SourceError::Input(error)
    }
}
