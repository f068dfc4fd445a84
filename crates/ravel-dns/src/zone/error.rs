//! Why a zone cannot be read.

use std::fmt;

/// Why a zone cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneError {
    pub(crate) line: u32,
    pub(crate) kind: ZoneErrorKind,
}

impl ZoneError {
    /// The line, from 1.
    pub fn line(&self) -> u32 {
        self.line
    }

    /// What is wrong there.
    pub fn kind(&self) -> &ZoneErrorKind {
        &self.kind
    }
}

/// What can be wrong with a zone file.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum ZoneErrorKind {
    /// Something else than what must stand there, or nothing.
    Expected {
        /// What must stand there.
        wanted: &'static str,
        /// What does.
        found: Option<String>,
    },
    /// A `(` without its partner.
    OpenParenthesis,
    /// A `)` without its partner.
    CloseParenthesis,
    /// A `"` without its partner on the line.
    OpenQuote,
    /// A directive that is not read.
    Directive(String),
    /// A class other than `IN`.
    Class(String),
    /// A record without a name, with no record before it.
    NoName,
    /// A file that is included and cannot be read.
    Include {
        /// Its name.
        file: String,
        /// Why.
        why: String,
    },
    /// Something in a file that is included.
    Included {
        /// Its name.
        file: String,
        /// What, and where in it.
        error: Box<ZoneError>,
    },
    /// Files that include each other.
    IncludeLoop(String),
    /// More records by `$GENERATE` than are read.
    TooMany(u64),
    /// No SOA record.
    NoSoa,
    /// A second SOA record.
    SecondSoa,
    /// The zone of another domain.
    OtherZone {
        /// The domain that was meant.
        wanted: String,
        /// The domain of the zone.
        found: String,
    },
    /// More text than 4 GiB.
    TooLarge,
}

impl fmt::Display for ZoneErrorKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use ZoneErrorKind as K;
        match self {
            K::Expected { wanted, found: Some(found) } => write!(f, "expected {wanted}, found `{found}`"),
            K::Expected { wanted, found: None } => write!(f, "expected {wanted}, found the end of the record"),
            K::OpenParenthesis => f.write_str("unclosed `(`; write `)` where the record ends"),
            K::CloseParenthesis => f.write_str("unbalanced `)`; remove it, or write `(` where the record begins"),
            K::OpenQuote => f.write_str("this quote is not closed on its line; close it, and write `\\\"` for a quote inside"),
            K::Directive(name) => {
                write!(f, "`{name}` is no directive; there are `$ORIGIN`, `$TTL`, `$INCLUDE` and `$GENERATE`")
            }
            K::Class(class) => write!(f, "the class `{class}` is not supported; write `IN`"),
            K::NoName => f.write_str("this record has no name, and there is none before it; begin the line with a name or `@`"),
            K::Include { file, why } => write!(f, "cannot read `{file}`, which is included here: {why}"),
            K::Included { file, error } => {
                // The innermost file has what is wrong.
                let (mut file, mut error, mut through) = (file, error, 0);
                while let K::Included { file: inner, error: cause } = &error.kind {
                    (file, error, through) = (inner, cause, through + 1);
                }
                match through {
                    0 => write!(f, "in `{file}`, which is included here, {error}"),
                    1 => write!(f, "in `{file}`, which is included here through another file, {error}"),
                    _ => write!(f, "in `{file}`, which is included here through {through} other files, {error}"),
                }
            }
            K::IncludeLoop(file) => write!(f, "`{file}` includes itself, over others or not; remove one of the lines"),
            K::TooMany(count) => write!(f, "with this line `$GENERATE` stands for {count} records; at most 65536 are read so"),
            K::NoSoa => f.write_str("the zone has no SOA record; export it whole from the DNS host"),
            K::SecondSoa => f.write_str("this is a second SOA record; a zone has one"),
            K::OtherZone { wanted, found } => write!(f, "this is the zone of `{found}`, and `{wanted}` was meant"),
            K::TooLarge => f.write_str("a zone file of more than 4 GiB is not read"),
        }
    }
}

impl fmt::Display for ZoneError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}: {}", self.line, self.kind)
    }
}

impl std::error::Error for ZoneError {}
