//! What can be wrong with a rules file, with the remedy.

use std::fmt;
use std::sync::Arc;

use super::Place;
use super::grammar::Statement;
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
    /// A setting of `site` or `domain` that is none.
    Setting { found: String, nearest: Option<&'static str>, allowed: String },
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
    /// A folder or file name that leads out of the rules file's folder, or is no name.
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
    /// A header field that rules may not touch.
    HeaderReserved { name: String },
    /// A `headers` without lines.
    NoHeaderLines,
    /// An address that is none.
    Address { found: String, why: String },
    /// An expectation that expects nothing.
    ExpectsNothing,
    /// An expectation with two outcomes.
    TwoOutcomes,
    /// A file named by `table` or `include` that cannot be read.
    Unreadable { name: String, why: String },
    /// A file that is no UTF-8.
    NotUtf8 { name: String },
    /// A file that includes itself, directly or through others.
    IncludeCircle { name: String },
    /// A table without a column that is needed.
    NoColumn { column: &'static str },
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

impl fmt::Display for ProblemKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use ProblemKind as K;
        match self {
            K::Stray => f.write_str("this line is indented and belongs to no statement"),
            K::Keyword { found, .. } => write!(f, "`{found}` begins no statement"),
            K::Setting { found, .. } => write!(f, "`{found}` is no setting here"),
            K::Body { found, .. } => write!(f, "`{found}` cannot stand here"),
            K::NoBody { found } => write!(f, "`{found}` cannot stand here"),
            K::EntryBelowRule => f.write_str(
                "the rule above has a pattern of its own, so no rules can stand below it",
            ),
            K::EmptyGroup => f.write_str("this group holds no rule"),
            K::Expected { wanted, found: Some(found) } => {
                write!(f, "found `{found}` where {wanted} should stand")
            }
            K::Expected { wanted, found: None } => {
                write!(f, "the line ends where {wanted} should stand")
            }
            K::TooMuch { found } => {
                write!(f, "`{found}` is too much: the line should end before it")
            }
            K::OpenQuote => f.write_str("this quote is not closed on its line"),
            K::AfterQuote => f.write_str("something stands directly behind the closing quote"),
            K::NoSite => f.write_str("the file does not say which site it is about"),
            K::SiteNotFirst => f.write_str("this stands before `site`"),
            K::SiteTwice => f.write_str("a second `site`"),
            K::SettingTwice { name, first } => {
                write!(f, "`{name}` is set already, on line {first}")
            }
            K::HostTwice { found } => write!(f, "`{found}` is a host of the site already"),
            K::DomainTwice { found } => write!(f, "`{found}` has a `domain` statement already"),
            K::DomainWithoutHost { found } => {
                write!(f, "no host of the site is in the domain `{found}`")
            }
            K::DomainLacks { host, setting: setting @ "proof" } => {
                write!(
                    f,
                    "the certificate for `{host}` waits for a proof, and no `{setting}` is given"
                )
            }
            K::DomainLacks { host, setting } => {
                write!(
                    f,
                    "`{host}` is a host of the site, and this domain has no `{setting}` for it"
                )
            }
            K::SiteUrl { found } => write!(f, "`{found}` is not the URL of a site"),
            K::Host { found } => write!(f, "`{found}` is no host name"),
            K::Wildcard { found } => write!(f, "the `*` in `{found}` cannot stand there"),
            K::ForeignHost { found } => {
                write!(f, "`{found}` is no host of this site, so this can never match")
            }
            K::PortOfSite { found } => write!(f, "`{found}` is a host of this site with a port"),
            K::MethodHead => f.write_str("`HEAD` is answered as `GET` is"),
            K::Status { found } => write!(f, "`{found}` is no status of a redirect"),
            K::Duration { found } => write!(f, "`{found}` is no duration"),
            K::HstsNeedsHttps => {
                f.write_str("`hsts` promises HTTPS, and this site answers over plain HTTP")
            }
            K::HstsPreload => f.write_str("`preload` asks for `subdomains` and at least a year"),
            K::FileName { found } => {
                write!(f, "`{found}` is no name below the folder of the rules file")
            }
            K::Template(kind) => kind.fmt(f),
            K::WhereName { name, pattern, .. } => {
                write!(f, "nothing in the pattern `{pattern}` is called `{name}`")
            }
            K::Regex { why } => write!(f, "this is no regular expression that can be used: {why}"),
            K::RegexSize => f.write_str("this regular expression is too large"),
            K::NoLanguages => f.write_str("the site does not say which languages it has"),
            K::FindingName { found, .. } => write!(f, "`{found}` is the name of no finding"),
            K::ForeignLanguage { found } => {
                write!(f, "`{found}` is none of the site's `languages`")
            }
            K::TooManyNames => f.write_str(
                "conditions of this file look at more than 64 different request headers",
            ),
            K::HeaderName { found } => write!(f, "`{found}` is no name of a header field"),
            K::HeaderValue { found } if found.is_empty() => {
                f.write_str("the value of the header field is missing")
            }
            K::HeaderValue { found } => write!(f, "`{found}` is no value of a header field"),
            K::HeaderReserved { name } => write!(f, "`{name}` is not for rules to touch"),
            K::NoHeaderLines => f.write_str("these `headers` do nothing"),
            K::Address { found, why } => write!(f, "`{found}` is no address: {why}"),
            K::ExpectsNothing => f.write_str("this expects nothing"),
            K::TwoOutcomes => f.write_str("this expectation has an outcome already"),
            K::Unreadable { name, why } => write!(f, "`{name}` cannot be read: {why}"),
            K::NotUtf8 { name } => write!(f, "`{name}` is no UTF-8 here"),
            K::IncludeCircle { name } => {
                write!(f, "`{name}` is being read already: it includes itself")
            }
            K::NoColumn { column } => write!(f, "the table has no column `{column}`"),
            K::RowLength { wanted, found } => {
                write!(f, "this row has {found} fields, and the header has {wanted}")
            }
            K::TooManyFiles => f.write_str("more than 65535 files are read"),
        }
    }
}

impl ProblemKind {
    /// What would be right.
    ///
    /// ```
    /// let problems = ravel::Rules::parse("sit https://h.example/\n").unwrap_err();
    /// assert!(problems.iter().next().unwrap().kind().remedy().contains("`site`"));
    /// ```
    pub fn remedy(&self) -> String {
        use ProblemKind as K;
        let nearest_or = |nearest: &Option<&str>, all: &str| match nearest {
            Some(nearest) => format!("did you mean `{nearest}`?"),
            None => format!("it is one of {all}"),
        };
        match self {
            K::Stray => "begin a statement in the first column, or remove the indentation".into(),
            K::Keyword { nearest, .. } => nearest_or(
                nearest,
                Statement::expected(),
            ),
            K::Setting { nearest, allowed, .. } | K::Body { nearest, allowed, .. } => nearest_or(nearest, allowed),
            K::NoBody { .. } => "the statement above has no lines below it; remove this one".into(),
            K::EntryBelowRule => "move the pattern of the first line into a line of its own, or begin a new statement".into(),
            K::EmptyGroup => "write a pattern on its line, or rules on indented lines below it".into(),
            K::Expected { wanted, .. } => format!("write {wanted}"),
            K::TooMuch { .. } => {
                "leave it out; put `\"` around a value with spaces, and commas between the parts of a list".into()
            }
            K::OpenQuote => "close it with `\"`; inside, write `\\\"` for a quote".into(),
            K::AfterQuote => "put a space or a comma between them".into(),
            K::NoSite => "begin it with `site` and the site's URL, as in `site https://harbour.example/`".into(),
            K::SiteNotFirst => "move `site` to the top".into(),
            K::SiteTwice => "a site has one `site` statement, in the first file; remove this one".into(),
            K::SettingTwice { .. } => "keep one of them".into(),
            K::HostTwice { .. } => "name it once".into(),
            K::DomainTwice { .. } => "put their settings together".into(),
            K::DomainWithoutHost { .. } => "name one as `alias` or `preview` in `site`, or remove the domain".into(),
            K::DomainLacks { setting: "host", .. } => {
                "add `host` with the name that the hosting gives the site; a CNAME will point there".into()
            }
            K::DomainLacks { setting: "address", .. } => {
                "add `address` with what the hosting gives for a bare domain, or `apex alias` if the DNS host can follow a name there"
                    .into()
            }
            K::DomainLacks { .. } => "add `proof NAME \"TEXT\"`, or leave `issue proof` out".into(),
            K::SiteUrl { .. } => "write scheme, host and base path without a port, as in `https://harbour.example/guide/`".into(),
            K::Host { .. } => "a host is labels of letters, digits and `-` with dots between them, without a port".into(),
            K::Wildcard { .. } => "only a preview host can begin with `*.`, which stands for one label".into(),
            K::ForeignHost { .. } => "add it to `alias` or `preview`, or leave the host out".into(),
            K::PortOfSite { .. } => "leave the port out; a site is answered on the standard ports".into(),
            K::MethodHead => "write `GET`, which covers `HEAD`".into(),
            K::Status { .. } => "write `temporary` (302), `permanent` (301) or one of 301, 302, 303, 307, 308".into(),
            K::Duration { .. } => "write a whole number with `s`, `m`, `h`, `d`, `w` or `y`, as in `30d`".into(),
            K::HstsNeedsHttps => "give the site an `https://` URL and leave `http allow` out".into(),
            K::HstsPreload => "write `hsts 1y subdomains preload`, or leave `preload` out".into(),
            K::FileName { .. } => "write a relative name that stays below it, with `/` between folders".into(),
            K::Template(kind) => kind.remedy(),
            K::WhereName { defined, .. } if defined.is_empty() => "the pattern captures nothing; write `{name}` in it".into(),
            K::WhereName { defined, .. } => {
                format!("it captures {}", defined.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", "))
            }
            K::Regex { .. } => {
                "it is ASCII, has no look-around and no back-reference, and always stands for the whole capture".into()
            }
            K::RegexSize => "make its repetitions smaller, or list the values with `is one of`".into(),
            K::NoLanguages => "add `languages` to `site`, the default first, as in `languages en, de`".into(),
            K::FindingName { nearest, .. } => nearest_or(nearest, "the names that `ravel check` shows behind its findings"),
            K::ForeignLanguage { .. } => "add it to `languages` in `site`, or correct it".into(),
            K::TooManyNames => "look at fewer".into(),
            K::HeaderName { .. } => "a name is letters, digits and `-`, followed by `:` and the value".into(),
            K::HeaderValue { .. } => "a value is visible ASCII, with spaces or tabs inside".into(),
            K::HeaderReserved { .. } => "leave it out; the answer itself decides it".into(),
            K::NoHeaderLines => "write `set NAME: VALUE`, `add NAME: VALUE` or `drop NAME` on indented lines below it".into(),
            K::Address { .. } => "write a path that begins with `/`, or a whole URL".into(),
            K::ExpectsNothing => {
                "add `goes to ADDRESS`, `serves FILE`, `is missing` (or gone, outside, elsewhere, a loop, refused) or `has NAME`"
                    .into()
            }
            K::TwoOutcomes => "write a second `expect` for it".into(),
            K::Unreadable { .. } => "correct the name; it is sought from the file that names it".into(),
            K::NotUtf8 { .. } => "save the file as UTF-8".into(),
            K::IncludeCircle { .. } => "remove this `include`".into(),
            K::NoColumn { column } => format!("add `{column}` to the header row; it has `old`, `new` and, if wanted, `status`"),
            K::RowLength { .. } => "put `\"` around a field that holds a comma".into(),
            K::TooManyFiles => "put tables together".into(),
        }
    }
}
