//! What a request gets.

use std::borrow::Cow;
use std::fmt;

use smallvec::SmallVec;

use crate::language::Line;
use crate::program::RuleId;

/// What a request gets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer<'e> {
    pub(super) outcome: Outcome,
    pub(super) status: Option<u16>,
    pub(super) file: Option<&'e str>,
    pub(super) rule: Option<RuleId>,
    pub(super) by: Option<Line>,
    pub(super) headers: Headers<'e>,
}

pub(super) type Headers<'e> = SmallVec<[Header<'e>; 6]>;

/// What becomes of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Outcome {
    /// A file of the site, with 200.
    File,
    /// A redirect.
    Redirect,
    /// 410.
    Gone,
    /// 404.
    Missing,
    /// 404: the address is below no base path of the site.
    Outside,
    /// Another service answers.
    Elsewhere,
    /// 400, 405, 414 or 421.
    Refused,
    /// 508: redirects without an end.
    Loop,
}

/// A header field of an answer, with the line that set it; none where it is automatic.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Header<'e> {
    pub(crate) name: &'e str,
    pub(crate) value: Cow<'e, str>,
    pub(crate) line: Option<Line>,
}

impl<'e> Header<'e> {
    /// The name, in lower case.
    pub fn name(&self) -> &'e str {
        self.name
    }

    /// The value.
    pub fn value(&self) -> &str {
        &self.value
    }

    /// The line that set it.
    pub fn line(&self) -> Option<Line> {
        self.line
    }
}

impl<'e> Answer<'e> {
    /// What becomes of the request.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }

    /// The status; none where another service answers ([`Outcome::Elsewhere`]).
    pub fn status(&self) -> Option<u16> {
        self.status
    }

    /// The file that is shown, by its name from the root of the folder of files.
    pub fn file(&self) -> Option<&'e str> {
        self.file
    }

    /// Where a redirect leads: a whole URL.
    pub fn location(&self) -> Option<&str> {
        self.header("location")
    }

    /// The rule that decided; none where it was a setting, the files, or the lack of one.
    pub fn rule(&self) -> Option<RuleId> {
        self.rule
    }

    /// The line that decided; none where it was the files, or the lack of one.
    pub fn line(&self) -> Option<Line> {
        self.by
    }

    /// The header fields.
    pub fn headers(&self) -> &[Header<'e>] {
        &self.headers
    }

    /// The first value of a header field; the name in lower case.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let answer_to = ravel::Request::get("https://h.example/b/1")?;
    /// assert_eq!(edge.answer(&answer_to).header("content-type"), Some("text/html; charset=utf-8"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|header| header.name == name).map(|header| &*header.value)
    }

    /// The body of an answer without a file: one line of text.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.answer(&request).body(), "This page has moved.\n");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn body(&self) -> &'static str {
        let status = self.status.filter(|_| self.file.is_none());
        BODIES.iter().find(|(known, _)| Some(*known) == status).map_or("", |(_, body)| body)
    }
}

/// Another service answers: there is no status to make a response of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ElsewhereError;

impl fmt::Display for ElsewhereError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("another service answers this request")
    }
}

impl std::error::Error for ElsewhereError {}

/// Status and headers as a server sends them; the body is that of [`Answer::file`], or
/// [`Answer::body`].
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b permanent\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
/// let answer = edge.answer(&ravel::Request::get("https://h.example/a")?);
/// let response = http::Response::<()>::try_from(&answer)?;
/// assert_eq!(response.status(), 301);
/// assert_eq!(response.headers()["location"], "https://h.example/b");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
impl TryFrom<&Answer<'_>> for http::Response<()> {
    type Error = ElsewhereError;

    fn try_from(answer: &Answer<'_>) -> Result<http::Response<()>, ElsewhereError> {
        let mut response = http::Response::new(());
        let status = answer.status.and_then(|status| http::StatusCode::from_u16(status).ok());
        *response.status_mut() = status.ok_or(ElsewhereError)?;
        for Header { name, value, .. } in &answer.headers {
            // Names and values of rules are valid ones, and a location is ASCII.
            if let (Ok(name), Ok(value)) = (name.parse::<http::HeaderName>(), value.parse()) {
                response.headers_mut().append(name, value);
            }
        }
        Ok(response)
    }
}

/// The bodies of answers without a file.
pub const BODIES: [(u16, &str); 12] = [
    (301, MOVED),
    (302, MOVED),
    (303, MOVED),
    (307, MOVED),
    (308, MOVED),
    (400, "This is not a valid request.\n"),
    (404, "There is no such page.\n"),
    (405, "Only GET and HEAD are answered here.\n"),
    (410, "This page is gone.\n"),
    (414, "This URL is too long.\n"),
    (421, "This host is not served here.\n"),
    (508, "The redirects of this URL have no end.\n"),
];

const MOVED: &str = "This page has moved.\n";

impl Outcome {
    /// The outcome in one word.
    ///
    /// ```
    /// assert_eq!(ravel::Outcome::Missing.as_str(), "missing");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            Outcome::File => "file",
            Outcome::Redirect => "redirect",
            Outcome::Gone => "gone",
            Outcome::Missing => "missing",
            Outcome::Outside => "outside",
            Outcome::Elsewhere => "elsewhere",
            Outcome::Refused => "refused",
            Outcome::Loop => "loop",
        }
    }
}

impl fmt::Display for Outcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}
