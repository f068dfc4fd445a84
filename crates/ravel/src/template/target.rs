//! Where a rule leads, and how captures are put there.

use std::cell::Cell;
use std::fmt;

use super::capture::{Captured, Captures, Impossible};
use super::error::{TemplateError, TemplateErrorKind as Kind};
use super::parse::{self, Within, begins_as_path, find_outside};
use super::pattern::{HostPattern, OriginPattern, Pattern, origin_pattern};
use super::piece::{Expression, Part, Piece, Template, TemplateBuilder};
use crate::address::{
    Address, AddressWriter, MAX_HOST_BYTES, Scheme, form_decode, has_pair, normalize, parameters,
};

/// Where a redirect leads: a path of the site, or a whole URL, with query and fragment if wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// The path; below the base path unless there is an origin.
    pub path: TargetTemplate,
    rest: Option<Box<Rest>>,
}

/// What most targets have none of.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Rest {
    origin: Option<OriginPattern>,
    query: Option<TargetTemplate>,
    fragment: Option<TargetTemplate>,
}

thread_local! {
    /// A path is put together here, so that serving a file allocates nothing.
    static SCRATCH: Cell<String> = const { Cell::new(String::new()) };
}

/// A part of a target; targets are mostly shorter than what leads to them.
pub type TargetTemplate = Template<22>;

/// The origin and the base path that a target is written on.
#[derive(Debug, Clone, Copy)]
pub struct TargetBase<'a> {
    /// The scheme of a path target.
    pub scheme: Scheme,
    /// The host of a path target.
    pub host: &'a str,
    /// The base path of a path target, with its final `/`.
    pub base: &'a str,
}

type Result<T> = std::result::Result<T, TemplateError>;

impl Target {
    /// Reads a target; its expressions must be captures of `pattern`.
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
            parse::template(path_text, path_at, Within::Path)?
        } else if origin.is_some() && path_text.is_empty() {
            TemplateBuilder::literal("/")
        } else {
            return Err(TemplateError::new(Kind::Start, path_at..text.len()));
        };
        let after = &rest[path_end..];
        let fragment_at = find_outside(after, b"#");
        let query = after[..fragment_at.unwrap_or(after.len())].strip_prefix('?');
        let query = query
            .map(|query| parse::template(query, path_at + path_end + 1, Within::Query))
            .transpose()?;
        let fragment = fragment_at.map(|at| {
            parse::template(&after[at + 1..], path_at + path_end + at + 1, Within::Fragment)
        });
        let fragment = fragment.transpose()?;
        let more = origin.is_some() || query.is_some() || fragment.is_some();
        Ok(Target { path, rest: more.then(|| Box::new(Rest { origin, query, fragment })) })
    }

    /// Its expressions, host first.
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
    pub fn puts_into_path(&self, name: &str) -> bool {
        let mut expressions = self
            .path
            .expressions()
            .chain(self.fragment().into_iter().flat_map(TargetTemplate::expressions));
        expressions.any(|(_, captured)| captured == name)
    }

    /// Whether a capture is put into the host.
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
        let value = |((_, name), captured): ((Expression, &str), &Captured<'_>)| {
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

    /// Puts captures into a target that is a path, and shows the path to `see`; it is normalized
    /// and begins with one `/`.
    ///
    /// # Errors
    /// When a capture cannot stand where the target has it.
    pub fn with_path<R>(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        see: impl FnOnce(&str) -> R,
    ) -> std::result::Result<R, Impossible> {
        if self.path.is_literal() && !self.path.as_str().starts_with("//") {
            return Ok(see(self.path.as_str()));
        }
        let mut path = SCRATCH.take();
        path.clear();
        let seen = put_path(&self.path, pattern, captures, &mut path).map(|()| see(&path));
        SCRATCH.set(path);
        seen
    }

    /// Puts captures into the target and gives the URL it leads to. Parameters of `query` that the
    /// pattern does not name are carried along, but for those whose key the target has; `None` for
    /// `query` carries none.
    ///
    /// # Errors
    /// When a capture cannot stand where the target has it.
    pub fn expand(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        base: TargetBase<'_>,
        query: Option<&str>,
    ) -> std::result::Result<Address, Impossible> {
        let room = base.base.len() + self.path.as_str().len() + query.map_or(0, str::len) + 16;
        let mut writer = match self.origin() {
            None => {
                let mut writer = AddressWriter::new(base.scheme, base.host, None, room);
                writer.text().push_str(&base.base[..base.base.len() - 1]);
                writer
            }
            Some(OriginPattern { scheme, host: HostPattern { capture: None, host }, port }) => {
                AddressWriter::new(*scheme, host.as_str(), *port, room)
            }
            Some(OriginPattern {
                scheme,
                host: HostPattern { capture: Some(name), host },
                port,
            }) => {
                let mut full = String::with_capacity(64);
                slot(pattern, captures, name, Impossible::Label)?.into_label(&mut full)?;
                full.push('.');
                full.push_str(host.as_str());
                if full.len() > MAX_HOST_BYTES {
                    return Err(Impossible::HostLength);
                }
                AddressWriter::new(*scheme, &full, *port, room)
            }
        };
        put_path(&self.path, pattern, captures, writer.text())?;
        if query.is_some() || self.query().is_some() {
            self.put_query(pattern, captures, query, &mut writer)?;
        }
        if let Some(fragment) = self.fragment() {
            writer.begin_fragment();
            put(fragment, pattern, captures, writer.text(), |captured, out| {
                captured.into_path(out)
            })?;
        }
        Ok(writer.finish())
    }

    fn put_query(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        asked: Option<&str>,
        writer: &mut AddressWriter,
    ) -> std::result::Result<(), Impossible> {
        let mut open = false;
        let mut own = 0..0;
        if let Some(query) = self.query() {
            writer.begin_query();
            open = true;
            let start = writer.text().len();
            put(query, pattern, captures, writer.text(), |captured, out| {
                captured.into_query(out);
                Ok(())
            })?;
            own = start..writer.text().len();
        }
        let mut first = own.is_empty();
        for (raw, key, _) in parameters(asked.unwrap_or_default()) {
            let of_target = |text: &str| {
                parameters(text).any(|(_, own, _)| form_decode(own) == form_decode(key))
            };
            if pattern.uses_parameter(key)
                || (!own.is_empty() && of_target(&writer.text()[own.clone()]))
            {
                continue;
            }
            if !std::mem::replace(&mut open, true) {
                writer.begin_query();
            }
            if !std::mem::replace(&mut first, false) {
                writer.text().push('&');
            }
            writer.text().push_str(raw);
        }
        Ok(())
    }
}

/// Appends a path with its captures, normalized, with one `/` at its start.
fn put_path(
    path: &TargetTemplate,
    pattern: &Pattern,
    captures: &Captures<'_>,
    out: &mut String,
) -> std::result::Result<(), Impossible> {
    let start = out.len();
    put(path, pattern, captures, out, |captured, out| captured.into_path(out))?;
    let slashes = out[start..].bytes().take_while(|byte| *byte == b'/').count();
    match slashes {
        0 => out.insert(start, '/'),
        1 => {}
        _ => drop(out.drain(start + 1..start + slashes)),
    }
    // Text and captures are spelled as paths are; put side by side they can still make a `.` or
    // `..` segment.
    if !path.is_literal() && has_pair(&out.as_bytes()[start..], *b"/.") {
        let normal = normalize(&out[start..]).map_err(|_| Impossible::Segment)?.into_owned();
        out.truncate(start + 1);
        out.push_str(normal.trim_start_matches('/'));
    }
    Ok(())
}

fn put(
    template: &TargetTemplate,
    pattern: &Pattern,
    captures: &Captures<'_>,
    out: &mut String,
    write: impl Fn(Captured<'_>, &mut String) -> std::result::Result<(), Impossible>,
) -> std::result::Result<(), Impossible> {
    if template.is_literal() {
        out.push_str(template.as_str());
        return Ok(());
    }
    for part in template.parts() {
        match *part {
            Part::Text { start, end } => out.push_str(template.slice(start, end)),
            Part::Expression { start, end, .. } => {
                write(
                    slot(pattern, captures, template.slice(start, end), Impossible::Segment)?,
                    out,
                )?;
            }
        }
    }
    Ok(())
}

/// What a pattern captured under a name; targets are checked to use no others when they are read.
fn slot<'r>(
    pattern: &Pattern,
    captures: &Captures<'r>,
    name: &str,
    otherwise: Impossible,
) -> std::result::Result<Captured<'r>, Impossible> {
    let at = pattern.names().position(|captured| captured == name);
    at.and_then(|at| captures.get(at)).copied().ok_or(otherwise)
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
