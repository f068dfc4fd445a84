//! What can be wrong with a rules file; `message.rs` has the messages.

use std::fmt;
use std::sync::Arc;

use super::Place;
use crate::template::TemplateErrorKind;

/// Something that is wrong with a rules file, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    pub(crate) place: Place,
    pub(crate) kind: ProblemKind,
}

/// Every problem of a rules file, in the order of the file. There is at least one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problems {
    sources: Arc<[Box<str>]>,
    list: Vec<Problem>,
}

/// What can be wrong with a rules file.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
#[allow(missing_docs, reason = "a variant's fields are the words of its message")]
pub enum ProblemKind {
    /// An indented line before the first statement.
    Stray,
    /// A statement's keyword that is none.
    Keyword { found: String, nearest: Option<&'static str> },
    /// A rule whose keyword is left out; with one that has it.
    NoKeyword { written: String },
    /// What begins a comment in other languages.
    Comment { found: String },
    /// A setting of `site` or `domain` that is none.
    Setting { found: String, nearest: Option<&'static str>, allowed: String },
    /// A setting of `site` that is none, about how URLs name pages.
    PagesSetting { found: String },
    /// A line that the statement above it cannot have.
    Body { found: String, nearest: Option<&'static str>, allowed: String },
    /// A line below a statement that has none.
    NoBody { found: String },
    /// Lines below a rule that has a pattern of its own, as a group has them.
    EntryBelowRule,
    /// A group without a rule.
    EmptyGroup,
    /// Something else than what must stand there, or nothing.
    Expected { wanted: &'static str, found: Option<String> },
    /// A rule whose `->` is left out; with one that has it.
    NoArrow { found: String, written: String },
    /// A redirect whose status comes first; with one that has it last.
    StatusFirst { status: String, written: String },
    /// Words behind the end.
    TooMuch { found: String },
    /// A `"` without its partner.
    OpenQuote,
    /// Something directly behind a closing `"`.
    AfterQuote,
    /// No `site` statement.
    NoSite,
    /// A statement before `site`.
    SiteNotFirst,
    /// A second `site`, or one in an included file.
    SiteTwice,
    /// A setting given twice.
    SettingTwice { name: &'static str, first: u32 },
    /// A host and base path given twice.
    HostTwice { found: String },
    /// A second `domain` statement for a name.
    DomainTwice { found: String },
    /// A `domain` with no host of the site.
    DomainWithoutHost { found: String },
    /// A `domain` that does not say what a host needs.
    DomainLacks { host: String, setting: &'static str },
    /// A word of an earlier version; with what it is now.
    Renamed { found: String, name: String },
    /// A URL where only scheme, host and base path can stand.
    SiteUrl { found: String },
    /// A host name that is none.
    Host { found: String },
    /// A `*` that is not the first label of a preview host.
    Wildcard { found: String },
    /// A host of a pattern that the site does not have.
    ForeignHost { found: String },
    /// A target on a host of the site with a port.
    PortOfSite { found: String },
    /// `when method is HEAD`.
    MethodHead,
    /// A number that is no redirect status.
    Status { found: String },
    /// A duration that is none.
    Duration { found: String },
    /// `hsts` on a site that plain HTTP reaches.
    HstsNeedsHttps,
    /// `preload` without what preload lists ask for.
    HstsPreload,
    /// A folder or file name that leads out of the rules file's folder, or is not a valid name.
    FileName { found: String },
    /// A pattern or a target.
    Template(TemplateErrorKind),
    /// A `where` that names no capture.
    WhereName { name: String, pattern: String, defined: Vec<String> },
    /// A regular expression.
    Regex { why: String },
    /// A regular expression whose table would be too large.
    RegexSize,
    /// `when language` without `languages`.
    NoLanguages,
    /// A finding to accept that is none.
    FindingName { found: String, nearest: Option<&'static str> },
    /// A language that the site does not have.
    ForeignLanguage { found: String },
    /// More request headers in conditions than can be told apart.
    TooManyNames,
    /// A header field name that is none.
    HeaderName { found: String },
    /// A header field value that is none.
    HeaderValue { found: String },
    /// A capture in a header's value.
    HeaderCapture { found: String },
    /// A header field that rules may not touch.
    HeaderReserved { name: String },
    /// A `headers` without lines.
    NoHeaderLines,
    /// An address that is none.
    Address { found: String, why: String },
    /// An expectation that expects nothing.
    ExpectsNothing,
    /// An outcome that is none.
    UnknownOutcome { found: String, nearest: Option<&'static str>, allowed: String },
    /// An expectation with two outcomes.
    TwoOutcomes,
    /// A file named by `table` or `include` that cannot be read.
    Unreadable { name: String, why: String },
    /// A file that is no UTF-8.
    NotUtf8 { name: String },
    /// A file that includes itself, directly or through others.
    IncludeCircle { name: String },
    /// Files that include one another more than 64 deep.
    IncludesTooDeep { name: String },
    /// A table without a column that is needed.
    NoColumn { column: &'static str, header: String },
    /// A table with another separator than commas.
    Separator { found: &'static str },
    /// A table row with another number of fields than the header.
    RowLength { wanted: usize, found: usize },
    /// More files than places can name.
    TooManyFiles,
}

impl Problem {
    pub(crate) fn new(place: Place, kind: ProblemKind) -> Problem {
        Problem { place, kind }
    }

    /// Where it stands.
    pub fn place(&self) -> &Place {
        &self.place
    }

    /// What it is; its `Display` says what was found.
    pub fn kind(&self) -> &ProblemKind {
        &self.kind
    }
}

impl Problems {
    pub(crate) fn new(sources: Arc<[Box<str>]>, mut list: Vec<Problem>) -> Problems {
        list.sort_by_key(|problem| (problem.place.line, problem.place.columns.start));
        // A file that is named twice is wrong once.
        let mut kept: Vec<Problem> = Vec::with_capacity(list.len());
        let mut seen = std::collections::HashSet::new();
        for problem in list {
            let Place { line, columns } = &problem.place;
            let known = (
                sources[usize::from(line.source)].clone(),
                line.number,
                columns.clone(),
                problem.kind.to_string(),
            );
            if seen.insert(known) {
                kept.push(problem);
            }
        }
        let list = kept;
        Problems { sources, list }
    }

    /// Problems of one file.
    ///
    /// ```
    /// let problems = ravel::language::format("site nowhere \"").unwrap_err();
    /// let problems = ravel::language::Problems::of("edge.ravel", problems);
    /// assert!(problems.to_string().starts_with("edge.ravel:1"));
    /// ```
    pub fn of(name: &str, list: Vec<Problem>) -> Problems {
        Problems::new(Arc::new([name.into()]), list)
    }

    /// The problems, in the order of the files.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &Problem> {
        self.list.iter()
    }

    /// The name of a file that a place is in.
    ///
    /// ```
    /// let problems = ravel::Rules::parse("sit https://h.example/\n").unwrap_err();
    /// let first = problems.iter().next().unwrap();
    /// assert_eq!(problems.source(first.place()), "edge.ravel");
    /// ```
    pub fn source(&self, place: &Place) -> &str {
        &self.sources[usize::from(place.line.source)]
    }
}

impl fmt::Display for Problems {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, problem) in self.list.iter().enumerate() {
            let separator = if at == 0 { "" } else { "\n" };
            let (line, column) = (problem.place.line.number, problem.place.columns.start + 1);
            let (what, remedy) = (&problem.kind, problem.kind.remedy());
            write!(
                f,
                "{separator}{}:{line}:{column}: {what}; {remedy}",
                self.source(&problem.place)
            )?;
        }
        Ok(())
    }
}

impl std::error::Error for Problems {}
