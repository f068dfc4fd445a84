//! Where a rule leads, and how captures are put there.

use std::fmt;

use super::capture::{CaptureValue, Captures};
use super::error::{self, TemplateError, TemplateErrorKind as Kind};
use super::parse::{self, TextPlace, begins_as_path, find_outside};
use super::pattern::{OriginPattern, Pattern, origin_pattern};
use super::piece::{Expression, Piece, Template, TemplateBuilder};
use crate::address::Scheme;

/// Where a redirect leads: a path of the site, or a whole URL, with query and fragment if wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// Below the base path unless there is an origin.
    pub(crate) path: TargetTemplate,
    rest: Option<Box<Rest>>,
}

/// What most targets have none of.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Rest {
    origin: Option<OriginPattern>,
    query: Option<TargetTemplate>,
    fragment: Option<TargetTemplate>,
}

/// A part of a target; targets are mostly shorter than what leads to them.
pub type TargetTemplate = Template<22>;

/// The origin and the base path that a target is written on.
#[derive(Debug, Clone, Copy)]
pub struct TargetBase<'a> {
    /// The scheme of a path target.
    pub(crate) scheme: Scheme,
    /// The host of a path target.
    pub(crate) host: &'a str,
    /// The base path of a path target, with its final `/`.
    pub(crate) base: &'a str,
}

type Result<T> = std::result::Result<T, TemplateError>;

impl Target {
    /// Reads a target; its expressions must be captures of `pattern`.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// let pattern = Pattern::parse("/a/{x}")?;
    /// assert!(Target::parse("https://o.example/{x}#{x}", &pattern).is_ok());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// The first thing that makes the text no target, and where it stands.
    pub fn parse(text: &str, pattern: &Pattern) -> Result<Target> {
        if let Some(path) = parse::plain_path(text) {
            return Ok(Target { path, rest: None });
        }
        let target = Target::read(text)?;
        target.expressions_are_captured(text, pattern)?;
        Ok(target)
    }

    /// Reads a target that is a path of the site, as rules that look up a file have it.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// let pattern = Pattern::parse("/a/{x}")?;
    /// assert!(Target::parse_path("/b/{x}.html", &pattern).is_ok());
    /// assert!(Target::parse_path("https://o.example/", &pattern).is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// As [`Target::parse`], and for a URL, a query or a fragment.
    pub fn parse_path(text: &str, pattern: &Pattern) -> Result<Target> {
        let target = Target::parse(text, pattern)?;
        match target.rest.is_some() {
            true => Err(TemplateError::new(Kind::PathOnly, 0..text.len())),
            false => Ok(target),
        }
    }

    fn read(text: &str) -> Result<Target> {
        let (origin, path_at) = origin_pattern(text)?;
        let rest = &text[path_at..];
        let path_end = find_outside(rest, b"?#").unwrap_or(rest.len());
        let path_text = &rest[..path_end];
        let path = if begins_as_path(path_text) {
            parse::template(path_text, path_at, TextPlace::Path)?
        } else if origin.is_some() && path_text.is_empty() {
            TemplateBuilder::literal("/")
        } else {
            return Err(TemplateError::new(error::start(rest), path_at..text.len()));
        };
        let after = &rest[path_end..];
        let fragment_at = find_outside(after, b"#");
        let query = after[..fragment_at.unwrap_or(after.len())].strip_prefix('?');
        let query = query
            .map(|query| parse::template(query, path_at + path_end + 1, TextPlace::Query))
            .transpose()?;
        let fragment = fragment_at.map(|at| {
            parse::template(&after[at + 1..], path_at + path_end + at + 1, TextPlace::Fragment)
        });
        let fragment = fragment.transpose()?;
        let more = origin.is_some() || query.is_some() || fragment.is_some();
        Ok(Target { path, rest: more.then(|| Box::new(Rest { origin, query, fragment })) })
    }

    /// Its expressions, host first.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// let target = Target::parse("/{x}?y={x}", &Pattern::parse("/a/{x}")?)?;
    /// assert_eq!(target.expressions().count(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn expressions(&self) -> impl Iterator<Item = (Expression, &str)> {
        let host = self.host_capture().map(|name| (Expression::Segment, name));
        let tail = self.rest.iter().flat_map(|rest| rest.query.iter().chain(&rest.fragment));
        host.into_iter()
            .chain(self.path.expressions())
            .chain(tail.flat_map(TargetTemplate::expressions))
    }

    /// Scheme and host, where it is a whole URL.
    pub fn origin(&self) -> Option<&OriginPattern> {
        self.rest.as_ref()?.origin.as_ref()
    }

    /// The path.
    pub fn path(&self) -> &TargetTemplate {
        &self.path
    }

    /// Whether it has a query of its own.
    pub fn has_query(&self) -> bool {
        self.query().is_some()
    }

    /// Whether it has a fragment.
    pub fn has_fragment(&self) -> bool {
        self.fragment().is_some()
    }

    /// Whether a capture is put into the path or the fragment.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// assert!(Target::parse("/b/{x}", &Pattern::parse("/a/{x}")?)?.puts_into_path("x"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn puts_into_path(&self, name: &str) -> bool {
        let mut expressions = self
            .path
            .expressions()
            .chain(self.fragment().into_iter().flat_map(TargetTemplate::expressions));
        expressions.any(|(_, captured)| captured == name)
    }

    /// Whether a capture is put into the host.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// assert!(!Target::parse("/b/{x}", &Pattern::parse("/a/{x}")?)?.puts_into_host("x"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn puts_into_host(&self, name: &str) -> bool {
        self.host_capture() == Some(name)
    }

    /// Its path as a pattern whose captures take what those of `pattern` can: the paths that it can
    /// lead to, and more where a capture stands in it twice.
    pub fn path_as_pattern(&self, pattern: &Pattern) -> Template {
        let form_of = |name: &str| pattern.form_of(name).unwrap_or(Expression::Any);
        let mut builder = TemplateBuilder::default();
        // What is captured with its own `/` and put behind one at the start leaves one of the two.
        let doubled = self.path.literal_prefix() == "/"
            && self
                .path
                .expressions()
                .next()
                .is_some_and(|(_, name)| form_of(name) == Expression::Segments);
        for piece in self.path.pieces().skip(usize::from(doubled)) {
            match piece {
                Piece::Text(text) => builder.push_text(text),
                Piece::Expression(_, name) => builder.push_expression(form_of(name), name),
            }
        }
        builder.finish()
    }

    /// What the captures of `pattern` must be for this to lead to a path; none where it never does.
    pub fn captures_for(
        &self,
        path: &str,
        pattern: &Pattern,
        fold: bool,
    ) -> Option<Vec<(String, String)>> {
        let template = self.path_as_pattern(pattern);
        let mut captures = Captures::new();
        let value = |((_, name), captured): ((Expression, &str), &CaptureValue<'_>)| {
            (name.to_owned(), captured.text.to_owned())
        };
        template
            .matches(path, fold, &mut captures)
            .then(|| template.expressions().zip(&captures).map(value).collect())
    }

    /// The path, if it is a literal path of the site and nothing more.
    pub fn literal_path(&self) -> Option<&str> {
        (self.rest.is_none() && self.path.is_literal()).then(|| self.path.as_str())
    }

    fn host_capture(&self) -> Option<&str> {
        self.origin()?.host.capture.as_deref()
    }

    /// The query.
    pub fn query(&self) -> Option<&TargetTemplate> {
        self.rest.as_ref()?.query.as_ref()
    }

    /// The fragment.
    pub fn fragment(&self) -> Option<&TargetTemplate> {
        self.rest.as_ref()?.fragment.as_ref()
    }

    fn expressions_are_captured(&self, text: &str, pattern: &Pattern) -> Result<()> {
        for (form, name) in self.expressions() {
            let written = form.written(name);
            let at = text.find(&written).unwrap_or(0);
            let fail =
                |kind| Err(TemplateError::new(kind, at..(at + written.len()).min(text.len())));
            match pattern.captures().find(|(_, captured)| *captured == name) {
                None => {
                    return fail(Kind::Undefined(
                        name.to_owned(),
                        pattern.names().map(str::to_owned).collect(),
                    ));
                }
                Some((captured, _))
                    if form == Expression::Segments && captured != Expression::Segments =>
                {
                    return fail(Kind::NotSegments(name.to_owned()));
                }
                Some(_) => {}
            }
        }
        Ok(())
    }
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(origin) = self.origin() {
            origin.fmt(f)?;
        }
        self.path.fmt(f)?;
        if let Some(query) = self.query() {
            write!(f, "?{query}")?;
        }
        match self.fragment() {
            Some(fragment) => write!(f, "#{fragment}"),
            None => Ok(()),
        }
    }
}
