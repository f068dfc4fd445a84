//! What must hold for a rule besides its pattern: tests of few kinds, each a set of accepted
//! values, or its opposite.

use std::fmt;

use http::header::{ACCEPT_LANGUAGE, COOKIE};
use http::{HeaderName, Method};

use super::{MediaRange, WholeRegex};
use crate::address::{Host, Scheme};

/// One test.
#[derive(Debug, Clone)]
pub struct Test {
    pub(crate) kind: TestKind,
    pub(crate) negated: bool,
}

/// What a test looks at, with what it accepts.
#[derive(Debug, Clone)]
pub enum TestKind {
    /// The decoded text of a capture, by its name.
    Capture(Box<str>, TextSet),
    /// The host.
    Host(Vec<Host>),
    /// The scheme.
    Scheme(Scheme),
    /// What the host is to the site.
    Role(Role),
    /// The method; `GET` covers `HEAD`.
    Method(Vec<Method>),
    /// The visitor's language out of the site's, as indices into the site's list.
    Language(Vec<usize>),
    /// A request header: all its lines joined with `, ` (RFC 9110, section 5.3).
    Header(HeaderName, ValueSet),
    /// A cookie by its name.
    Cookie(Box<str>, ValueSet),
    /// Whether a variant of the URL names a file.
    FileExists,
    /// The type that the extension of the answer's file gives; `text/plain` for an answer without a
    /// file.
    ContentType(Vec<MediaRange>),
}

/// What a host is to the site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Role {
    /// The host that pages are served on.
    Canonical,
    /// A host that redirects to the canonical one.
    Alias,
    /// A host that serves as the canonical one does, without redirecting to it.
    Preview,
}

/// The texts of a capture that are accepted.
#[derive(Debug, Clone)]
pub enum TextSet {
    /// ASCII digits, so many of them.
    Digits {
        /// At least; 1 or more.
        least: usize,
        /// At most, if there is a limit.
        most: Option<usize>,
    },
    /// One of a list; under `ignore case` in any case.
    OneOf(Vec<Box<str>>),
    /// What a regular expression matches as a whole.
    Matches(Box<WholeRegex>),
}

/// The values of a header or a cookie that are accepted, byte for byte.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ValueSet {
    /// Any, as long as it is there.
    Any,
    /// One of a list.
    OneOf(Vec<Box<str>>),
    /// One that contains this text.
    Containing(Box<str>),
}

/// The tests of a rule, all of which must pass. Those that look at request headers come last.
#[derive(Debug, Clone, Default)]
pub struct Tests {
    list: Vec<Test>,
    /// Where those that look at request headers begin.
    on_headers: usize,
    request_headers: u64,
}

impl Tests {
    /// No tests.
    pub const NONE: &'static Tests = &Tests { list: Vec::new(), on_headers: 0, request_headers: 0 };

    /// Puts tests in the order in which they are asked; `bit` gives the number of a request header
    /// in the program's list.
    pub(crate) fn new(mut list: Vec<Test>, bit: impl Fn(&HeaderName) -> usize) -> Tests {
        list.sort_by_key(|test| (test.request_header().is_some(), !test.is_about_capture()));
        let on_headers = list.partition_point(|test| test.request_header().is_none());
        let names = list[on_headers..].iter().filter_map(Test::request_header);
        let request_headers = names.fold(0, |bits, name| bits | 1 << bit(&name));
        Tests { list, on_headers, request_headers }
    }

    /// Every test.
    pub fn iter(&self) -> impl Iterator<Item = &Test> {
        self.list.iter()
    }

    /// A test by its number, in the order in which they are asked.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  languages en, de\nredirect /a -> /b\n  when cookie a\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert!(rule.tests().get(0).is_some() && rule.tests().get(1).is_none());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn get(&self, number: usize) -> Option<&Test> {
        self.list.get(number)
    }

    /// Those that look at no request header, with their numbers.
    pub(crate) fn before_headers(&self) -> impl Iterator<Item = (usize, &Test)> {
        self.list[..self.on_headers].iter().enumerate()
    }

    /// Those that look at request headers, with their numbers.
    pub(crate) fn on_headers(&self) -> impl Iterator<Item = (usize, &Test)> {
        self.list.iter().enumerate().skip(self.on_headers)
    }

    /// The request headers that they look at, as bits of [`super::Program::request_headers`].
    pub fn request_headers(&self) -> u64 {
        self.request_headers
    }

    /// What a capture's text must be.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /{x} -> /b\n  where x is digits\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert_eq!(rule.tests().of_capture("x").count(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of_capture<'t>(&'t self, name: &'t str) -> impl Iterator<Item = (&'t TextSet, bool)> {
        self.captures()
            .filter(move |(known, ..)| *known == name)
            .map(|(_, set, negated)| (set, negated))
    }

    /// The captures that are tested, with what is accepted, and whether that is negated.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /{x} -> /b\n  where x is digits\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert_eq!(rule.tests().captures().next().unwrap().0, "x");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn captures(&self) -> impl Iterator<Item = (&str, &TextSet, bool)> {
        self.list.iter().filter_map(|test| match &test.kind {
            TestKind::Capture(name, set) => Some((&**name, set, test.negated)),
            TestKind::Host(_)
            | TestKind::Scheme(_)
            | TestKind::Role(_)
            | TestKind::Method(_)
            | TestKind::Language(_)
            | TestKind::Header(..)
            | TestKind::Cookie(..)
            | TestKind::FileExists
            | TestKind::ContentType(_) => None,
        })
    }

    /// Whether an answer whose file is of this type is one that they are for.
    pub fn fit_type(&self, content_type: &str) -> bool {
        self.content_types().all(|(ranges, negated)| {
            ranges.iter().any(|range| range.contains(content_type)) != negated
        })
    }

    /// The types of content of a `headers` statement, as they are written.
    pub(super) fn media_ranges(&self) -> impl Iterator<Item = String> {
        self.content_types().map(|(ranges, _)| joined(ranges))
    }

    /// What the type of an answer's file must be, and whether that is negated.
    fn content_types(&self) -> impl Iterator<Item = (&[MediaRange], bool)> {
        self.list.iter().filter_map(|test| match &test.kind {
            TestKind::ContentType(ranges) => Some((&**ranges, test.negated)),
            TestKind::Capture(..)
            | TestKind::Host(_)
            | TestKind::Scheme(_)
            | TestKind::Role(_)
            | TestKind::Method(_)
            | TestKind::Language(_)
            | TestKind::Header(..)
            | TestKind::Cookie(..)
            | TestKind::FileExists => None,
        })
    }
}

impl Test {
    /// The request header that it looks at.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  languages en, de\nredirect /a -> /b\n  when cookie a\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// let test = rule.tests().get(0).unwrap();
    /// assert_eq!(test.request_header(), Some(http::header::COOKIE));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn request_header(&self) -> Option<HeaderName> {
        match &self.kind {
            TestKind::Language(_) => Some(ACCEPT_LANGUAGE),
            TestKind::Cookie(..) => Some(COOKIE),
            TestKind::Header(name, _) => Some(name.clone()),
            TestKind::Capture(..)
            | TestKind::Host(_)
            | TestKind::Scheme(_)
            | TestKind::Role(_)
            | TestKind::Method(_)
            | TestKind::FileExists
            | TestKind::ContentType(_) => None,
        }
    }

    fn is_about_capture(&self) -> bool {
        matches!(self.kind, TestKind::Capture(..))
    }

    /// The condition as a rules file writes it; languages are named from the site's list.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  languages en, de\nredirect /a -> /b\n  when not cookie a\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// let test = rule.tests().get(0).unwrap();
    /// assert_eq!(test.written(rules.site().languages()), "when not cookie a");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn written(&self, languages: &[Box<str>]) -> String {
        let not = if self.negated { "not " } else { "" };
        match &self.kind {
            TestKind::Capture(name, TextSet::OneOf(list)) => {
                format!("where {name} is {not}one of {}", joined(list))
            }
            TestKind::Capture(name, set) => format!("where {name} {set}"),
            TestKind::Host(hosts) => format!("when {not}host is {}", joined(hosts)),
            TestKind::Scheme(scheme) => format!("when {not}scheme is {scheme}"),
            TestKind::Role(Role::Preview) => format!("when {not}preview"),
            TestKind::Role(role) => format!("when {not}{role}"),
            TestKind::Method(methods) => format!("when {not}method is {}", joined(methods)),
            TestKind::Language(list) => {
                format!(
                    "when {not}language is {}",
                    joined(list.iter().filter_map(|&at| languages.get(at)))
                )
            }
            TestKind::Header(name, set) => with_values("header", name.as_str(), set, self.negated),
            TestKind::Cookie(name, set) => with_values("cookie", name, set, self.negated),
            TestKind::FileExists => {
                format!("when {}", if self.negated { "no file" } else { "not no file" })
            }
            TestKind::ContentType(ranges) => format!("type {}", joined(ranges)),
        }
    }

    /// What is looked at, and what is accepted.
    pub fn kind(&self) -> &TestKind {
        &self.kind
    }

    /// Whether it passes where that is not accepted.
    pub fn negated(&self) -> bool {
        self.negated
    }
}

fn with_values(what: &str, name: &str, set: &ValueSet, negated: bool) -> String {
    let not = if negated { "not " } else { "" };
    match set {
        ValueSet::Any => format!("when {not}{what} {name}"),
        ValueSet::Containing(text) => format!("when {not}{what} {name} contains {}", quoted(text)),
        ValueSet::OneOf(list) => match list.as_slice() {
            [value] => format!("when {not}{what} {name} is {}", quoted(value)),
            list => format!(
                "when {what} {name} is {not}one of {}",
                joined(list.iter().map(|value| quoted(value)))
            ),
        },
    }
}

/// A word as a rules file writes it.
fn quoted(text: &str) -> String {
    let plain = !text.is_empty() && !text.contains([' ', '\t', ',', '"']) && !text.starts_with('#');
    if plain {
        text.to_owned()
    } else {
        format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
    }
}

fn joined<T: fmt::Display>(list: impl IntoIterator<Item = T>) -> String {
    list.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}

impl TextSet {
    /// Whether it contains a decoded text.
    ///
    /// ```
    /// use ravel::program::TextSet;
    ///
    /// let year = TextSet::Digits { least: 4, most: Some(4) };
    /// assert!(year.contains(b"2027", false) && !year.contains(b"27", false));
    /// ```
    pub fn contains(&self, text: &[u8], ignore_case: bool) -> bool {
        let same = |listed: &str| match ignore_case {
            true => listed.as_bytes().eq_ignore_ascii_case(text),
            false => listed.as_bytes() == text,
        };
        match self {
            TextSet::Digits { least, most } => {
                text.iter().all(u8::is_ascii_digit)
                    && text.len() >= *least
                    && most.is_none_or(|most| text.len() <= most)
            }
            TextSet::OneOf(list) => list.iter().any(|listed| same(listed)),
            TextSet::Matches(regex) => regex.is_match(text),
        }
    }
}

impl fmt::Display for TextSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            TextSet::Digits { least: 1, most: None } => f.write_str("is digits"),
            TextSet::Digits { least, most: Some(most) } if least == most => {
                write!(f, "is digits {least}")
            }
            TextSet::Digits { least, most } => {
                write!(f, "is digits {least}..")?;
                most.iter().try_for_each(|most| write!(f, "{most}"))
            }
            TextSet::OneOf(list) => write!(f, "is one of {}", joined(list)),
            TextSet::Matches(regex) => write!(f, "matches \"{}\"", regex.as_str()),
        }
    }
}

impl ValueSet {
    /// Whether it contains a value; `None` is one that is not there.
    ///
    /// ```
    /// use ravel::program::ValueSet;
    ///
    /// assert!(ValueSet::Any.contains(Some(b"x")) && !ValueSet::Any.contains(None));
    /// ```
    pub fn contains(&self, value: Option<&[u8]>) -> bool {
        let Some(value) = value else { return false };
        match self {
            ValueSet::Any => true,
            ValueSet::OneOf(list) => list.iter().any(|listed| listed.as_bytes() == value),
            ValueSet::Containing(text) => memchr::memmem::find(value, text.as_bytes()).is_some(),
        }
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Role::Canonical => "canonical",
            Role::Alias => "alias",
            Role::Preview => "preview",
        })
    }
}
