//! Puts captures into a target.

use std::cell::Cell;

use super::capture::{CaptureValue, Captures, ExpansionError};
use super::pattern::{HostPattern, OriginPattern, Pattern};
use super::piece::Part;
use super::target::{Target, TargetBase, TargetTemplate};
use crate::address::{
    Address, AddressWriter, MAX_HOST_BYTES, form_decode, has_pair, normalize, parameters,
};

thread_local! {
    /// A path is put together here, so that serving a file allocates nothing.
    static SCRATCH: Cell<String> = const { Cell::new(String::new()) };
}

impl Target {
    /// Puts captures into a target that is a path, and shows the path to `see`; it is normalized
    /// and begins with one `/`.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// let pattern = Pattern::parse("/a/{x}")?;
    /// let target = Target::parse_path("/b/{x}.html", &pattern)?;
    /// let mut captures = Default::default();
    /// pattern.path().matches("/a/1", false, &mut captures);
    /// assert_eq!(target.with_path(&pattern, &captures, str::to_owned)?, "/b/1.html");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// When a capture cannot stand where the target has it.
    pub fn with_path<R>(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        see: impl FnOnce(&str) -> R,
    ) -> std::result::Result<R, ExpansionError> {
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
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// use ravel::template::Pattern;
    ///
    /// use ravel::template::Target;
    ///
    /// let pattern = Pattern::parse("/a/{x}")?;
    /// let target = Target::parse("/b/{x}?y={x}", &pattern)?;
    /// let mut captures = Default::default();
    /// pattern.path().matches("/a/1", false, &mut captures);
    /// let url = target.expand(&pattern, &captures, rules.site().target_base(), None)?;
    /// assert_eq!(url.as_str(), "https://h.example/b/1?y=1");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// When a capture cannot stand where the target has it.
    pub fn expand(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        base: TargetBase<'_>,
        query: Option<&str>,
    ) -> std::result::Result<Address, ExpansionError> {
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
                slot(pattern, captures, name, ExpansionError::Label)?.into_label(&mut full)?;
                full.push('.');
                full.push_str(host.as_str());
                if full.len() > MAX_HOST_BYTES {
                    return Err(ExpansionError::HostLength);
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

    pub(super) fn put_query(
        &self,
        pattern: &Pattern,
        captures: &Captures<'_>,
        asked: Option<&str>,
        writer: &mut AddressWriter,
    ) -> std::result::Result<(), ExpansionError> {
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
pub(super) fn put_path(
    path: &TargetTemplate,
    pattern: &Pattern,
    captures: &Captures<'_>,
    out: &mut String,
) -> std::result::Result<(), ExpansionError> {
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
        let normal = normalize(&out[start..]).map_err(|_| ExpansionError::Segment)?.into_owned();
        out.truncate(start + 1);
        out.push_str(normal.trim_start_matches('/'));
    }
    Ok(())
}

pub(super) fn put(
    template: &TargetTemplate,
    pattern: &Pattern,
    captures: &Captures<'_>,
    out: &mut String,
    write: impl Fn(CaptureValue<'_>, &mut String) -> std::result::Result<(), ExpansionError>,
) -> std::result::Result<(), ExpansionError> {
    if template.is_literal() {
        out.push_str(template.as_str());
        return Ok(());
    }
    for part in template.parts() {
        match *part {
            Part::Text { start, end } => out.push_str(template.slice(start, end)),
            Part::Expression { start, end, .. } => {
                write(
                    slot(pattern, captures, template.slice(start, end), ExpansionError::Segment)?,
                    out,
                )?;
            }
        }
    }
    Ok(())
}

/// What a pattern captured under a name; targets are checked to use no others when they are read.
pub(super) fn slot<'r>(
    pattern: &Pattern,
    captures: &Captures<'r>,
    name: &str,
    otherwise: ExpansionError,
) -> std::result::Result<CaptureValue<'r>, ExpansionError> {
    let at = pattern.names().position(|captured| captured == name);
    at.and_then(|at| captures.get(at)).copied().ok_or(otherwise)
}
