//! What a rule is held against a URL with.

use std::collections::HashSet;
use std::fmt;
use std::ops::Range;

use super::capture::Captures;
use super::error::{self, TemplateError, TemplateErrorKind as Kind};
use super::parse::{self, TextPlace, begins_as_path, find_outside};
use super::piece::{Expression, Piece, Template, TemplateBuilder};
use super::query::{self, QueryPart, QueryTest};
use crate::address::{Host, Scheme, form_decode, port_number, split_port};

/// What a rule is held against an address with: a path, a path with a query, or a whole URL.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    pub(crate) path: Template,
    rest: Option<Box<Rest>>,
}

/// What most patterns have none of.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Rest {
    origin: Option<OriginPattern>,
    query: Box<[QueryPart]>,
}

/// Scheme and host of a whole-URL pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginPattern {
    pub(crate) scheme: Scheme,
    pub(crate) host: HostPattern,
    pub(crate) port: Option<u16>,
}

impl OriginPattern {
    /// The scheme as written.
    pub fn scheme(&self) -> Scheme {
        self.scheme
    }

    /// The host.
    pub fn host(&self) -> &HostPattern {
        &self.host
    }

    /// The port, where it is not the scheme's own; only targets have one.
    pub fn port(&self) -> Option<u16> {
        self.port
    }
}

/// A host, or a host whose first label is captured.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostPattern {
    pub(crate) capture: Option<Box<str>>,
    pub(crate) host: Host,
}

impl HostPattern {
    /// The name of the expression for the first label.
    pub fn capture(&self) -> Option<&str> {
        self.capture.as_deref()
    }

    /// The host, or what follows its first label's dot.
    pub fn host(&self) -> &Host {
        &self.host
    }
}

type Result<T> = std::result::Result<T, TemplateError>;

impl Pattern {
    /// Reads a pattern.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert!(Pattern::parse("/a/{x}").is_ok() && Pattern::parse("/a/{x").is_err());
    /// ```
    ///
    /// # Errors
    /// The first thing that makes the text no pattern, and where it stands.
    pub fn parse(text: &str) -> Result<Pattern> {
        if let Some(path) = parse::plain_path(text) {
            return Ok(Pattern { path, rest: None });
        }
        if let Some(at) = find_outside(text, b"#") {
            return Err(TemplateError::new(Kind::Fragment, at..text.len()));
        }
        let (origin, path_at) = origin_pattern(text)?;
        if origin.as_ref().is_some_and(|origin| origin.port.is_some()) {
            return Err(TemplateError::new(Kind::Port, 0..path_at));
        }
        let rest = &text[path_at..];
        let path_end = find_outside(rest, b"?").unwrap_or(rest.len());
        let path_text = &rest[..path_end];
        let path = if origin.is_some() && path_text.is_empty() {
            TemplateBuilder::literal("/")
        } else if begins_as_path(path_text) {
            parse::template(path_text, path_at, TextPlace::Path)?
        } else {
            let instead = path_text.starts_with(':').then(|| path_at..path_at + path_text.len());
            let range = instead.unwrap_or(path_at..text.len());
            return Err(TemplateError::new(error::start(rest), range));
        };
        let query = match rest.get(path_end + 1..) {
            Some(query) => query::parts(query, path_at + path_end + 1)?,
            None => Box::default(),
        };
        let rest =
            (origin.is_some() || !query.is_empty()).then(|| Box::new(Rest { origin, query }));
        let pattern = Pattern { path, rest };
        pattern.names_stand_once(0..text.len())?;
        Ok(pattern)
    }

    /// Scheme and host of a whole URL; without it the path is below the site's base path.
    pub fn origin(&self) -> Option<&OriginPattern> {
        self.rest.as_ref()?.origin.as_ref()
    }

    /// The parameters that are wanted; all others are free.
    pub fn query(&self) -> &[QueryPart] {
        self.rest.as_ref().map_or(&[], |rest| &rest.query)
    }

    /// The names of what it captures, in the order of their slots: host, path, query.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.captures().map(|(_, name)| name)
    }

    /// The expressions it captures with, in the order of their slots.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// let pattern = Pattern::parse("/{a}?b={b}")?;
    /// assert_eq!(pattern.captures().map(|(_, name)| name).collect::<Vec<_>>(), ["a", "b"]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn captures(&self) -> impl Iterator<Item = (Expression, &str)> {
        let host = self.origin().and_then(|origin| origin.host.capture.as_deref()).into_iter();
        let query = self.query().iter().filter_map(|part| match &part.test {
            QueryTest::Capture(name) => Some(&**name),
            _ => None,
        });
        let simple = |name| (Expression::Segment, name);
        host.map(simple).chain(self.path.expressions()).chain(query.map(simple))
    }

    /// What a capture can take: what is captured from a query or a host is one segment of a path.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Expression;
    ///
    /// assert_eq!(Pattern::parse("/a{/x*}")?.form_of("x"), Some(Expression::Segments));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn form_of(&self, name: &str) -> Option<Expression> {
        self.captures().find(|(_, captured)| *captured == name).map(|(form, _)| form)
    }

    /// Its path with these captures; an empty one is `/`.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert_eq!(Pattern::parse("/a/{x}")?.path_with(|name| name.to_uppercase()), "/a/X");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn path_with(&self, capture: impl Fn(&str) -> String) -> String {
        let path: String = self
            .path
            .pieces()
            .map(|piece| match piece {
                Piece::Text(text) => text.to_owned(),
                Piece::Expression(_, name) => capture(name),
            })
            .collect();
        if path.is_empty() { "/".to_owned() } else { path }
    }

    /// Holds the query parts against a query and adds what they capture.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// let mut captures = Default::default();
    /// assert!(Pattern::parse("/a?k={k}")?.match_query(Some("k=1"), &mut captures));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn match_query<'r>(&self, query: Option<&'r str>, captures: &mut Captures<'r>) -> bool {
        self.query().iter().all(|part| part.matches(query.unwrap_or_default(), captures))
    }

    /// The key of the parameter whose value a capture takes, decoded; none where it takes another.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// let pattern = Pattern::parse("/{x}?k={q}")?;
    /// assert_eq!((pattern.parameter_of("q"), pattern.parameter_of("x")), (Some("k"), None));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn parameter_of(&self, name: &str) -> Option<&str> {
        let is_its =
            |part: &&QueryPart| matches!(&part.test, QueryTest::Capture(own) if **own == *name);
        self.query().iter().find(is_its).map(QueryPart::key)
    }

    /// Whether the pattern names this parameter, so that a match uses it up.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert!(Pattern::parse("/a?k={k}")?.uses_parameter("k"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn uses_parameter(&self, raw_key: &str) -> bool {
        let wanted = self.query();
        if wanted.is_empty() {
            return false;
        }
        let key = form_decode(raw_key);
        wanted.iter().any(|part| part.key.as_bytes() == &*key)
    }

    fn names_stand_once(&self, range: Range<usize>) -> Result<()> {
        if self.path.is_literal() && self.query().len() < 2 && self.origin().is_none() {
            return Ok(());
        }
        let mut seen = HashSet::new();
        match self.names().find(|name| !seen.insert(*name)) {
            Some(twice) => Err(TemplateError::new(Kind::NameTwice(twice.to_owned()), range)),
            None => Ok(()),
        }
    }

    /// The path; below the site's base path unless there is an origin.
    pub fn path(&self) -> &Template {
        &self.path
    }
}

/// Reads scheme, host and port, if the text begins with them; returns them and where the path
/// begins.
pub(super) fn origin_pattern(text: &str) -> Result<(Option<OriginPattern>, usize)> {
    let Some((scheme, rest)) = Scheme::split(text) else { return Ok((None, 0)) };
    let start = text.len() - rest.len();
    let range = start..start + host_len(rest);
    let fail = |kind| Err(TemplateError::new(kind, range.clone()));
    let (host, port) = split_port(&text[range.clone()]);
    let port = match port.map(port_number) {
        None | Some(Ok(None)) => None,
        Some(Ok(Some(port))) if port > 0 => {
            Some(port).filter(|port| *port != scheme.default_port())
        }
        Some(_) => return fail(Kind::PortNumber),
    };
    match host_pattern(host) {
        Ok(host) => Ok((Some(OriginPattern { scheme, host, port }), range.end)),
        Err(kind) => fail(kind),
    }
}

/// Reads `host` or `{name}.host`.
fn host_pattern(text: &str) -> std::result::Result<HostPattern, Kind> {
    let (capture, name) = match text.strip_prefix('{') {
        Some(inner) => match inner.split_once("}.") {
            Some((capture, name)) if parse::is_name(capture) => (Some(capture), name),
            _ => return Err(Kind::HostExpression),
        },
        None => (None, text),
    };
    if name.contains(['{', '}']) {
        return Err(Kind::HostExpression);
    }
    let host = Host::parse(name).map_err(|_| Kind::Host(name.to_owned()))?;
    // What ends in a number is an IPv4 address, which has no labels before it.
    let takes_label =
        host.as_str().contains('.') && host.as_str().parse::<std::net::Ipv4Addr>().is_err();
    if capture.is_some() && !takes_label {
        return Err(Kind::HostExpression);
    }
    Ok(HostPattern { capture: capture.map(Into::into), host })
}

/// A host ends at the first `/`, `?`, `#`, `{/` or `{+`.
fn host_len(rest: &str) -> usize {
    let ends = ["/", "?", "#", "{/", "{+"];
    ends.iter().filter_map(|end| rest.find(end)).min().unwrap_or(rest.len())
}

impl fmt::Display for OriginPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}://{}", self.scheme, self.host)?;
        self.port.map_or(Ok(()), |port| write!(f, ":{port}"))
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(origin) = self.origin() {
            origin.fmt(f)?;
        }
        self.path.fmt(f)?;
        for (at, part) in self.query().iter().enumerate() {
            f.write_str(if at == 0 { "?" } else { "&" })?;
            write_form(f, &part.key)?;
            match &part.test {
                QueryTest::Present => {}
                QueryTest::Text(value) => {
                    f.write_str("=")?;
                    write_form(f, value)?;
                }
                QueryTest::Capture(name) => write!(f, "={{{name}}}")?,
            }
        }
        Ok(())
    }
}

fn write_form(f: &mut fmt::Formatter<'_>, text: &str) -> fmt::Result {
    let mut encoded = String::with_capacity(text.len());
    let keep = |byte: u8| {
        crate::address::is_unreserved(byte)
            || matches!(byte, b'/' | b':' | b'@' | b',' | b'!' | b'$')
    };
    crate::address::encode(text.as_bytes(), keep, &mut encoded);
    f.write_str(&encoded)
}

impl fmt::Display for HostPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(name) = &self.capture {
            write!(f, "{{{name}}}.")?;
        }
        self.host.fmt(f)
    }
}
