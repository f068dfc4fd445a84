//! Access logs: what one line says of a request.

mod common;
mod day;
mod json;
mod request;
mod w3c;

use std::borrow::Cow;

pub use day::Day;
pub use json::JsonKeys;
pub use request::Urlless;

pub(crate) use common::common;
pub(crate) use day::DayReader;
pub(crate) use request::{LoggedRequest, Place, unescaped};

use w3c::W3cFields;

/// How the lines of an access log are written.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum LogFormat {
    /// Common Log Format, also with a host in front, and Combined, with `referer` and `user-agent`
    /// behind.
    Common,
    /// W3C Extended Log File Format, of which the directive `#Fields:` names the fields.
    W3c(W3cFields),
    /// An object of JSON on each line.
    Json(JsonKeys),
}

/// What a line says of a request; a place in it is what the server was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct LogLine<'l> {
    pub(crate) asked: LoggedRequest<'l>,
    pub(crate) scheme: Option<Cow<'l, [u8]>>,
    pub(crate) host: Option<Cow<'l, [u8]>>,
    /// 0 where it is not known.
    pub(crate) status: u16,
    pub(crate) day: Option<Day>,
    pub(crate) count: u64,
    pub(crate) referer: Option<&'l [u8]>,
    pub(crate) user_agent: Option<&'l [u8]>,
}

impl LogLine<'_> {
    /// What a line says that says nothing.
    const NOTHING: LogLine<'static> = LogLine {
        asked: LoggedRequest::Nothing,
        scheme: None,
        host: None,
        status: 0,
        day: None,
        count: 1,
        referer: None,
        user_agent: None,
    };
}

/// What a line is.
#[derive(Debug)]
pub(crate) enum Parsed<'l> {
    Line(LogLine<'l>),
    /// A comment, a directive, or nothing.
    Nothing,
    /// It cannot be read.
    Unread(&'static str),
}

impl LogFormat {
    /// The format of which these lines are the first, if it is a log; the same for a whole file and
    /// for a part of it that begins there.
    ///
    /// ```
    /// use ravel_traffic::{JsonKeys, LogFormat};
    ///
    /// let line = b"192.0.2.7 - - [26/Nov/2026:10:00:00 +0000] \"GET / HTTP/1.1\" 200 512\n";
    /// assert_eq!(LogFormat::of(line, &JsonKeys::default()), Some(LogFormat::Common));
    /// assert_eq!(LogFormat::of(b"/a\n/b\n", &JsonKeys::default()), None);
    /// ```
    pub fn of(first: &[u8], keys: &JsonKeys) -> Option<LogFormat> {
        let mut fields = None;
        for line in first.split(|byte| *byte == b'\n').take(MAX_LOOKED) {
            let line = line.strip_suffix(b"\r").unwrap_or(line);
            let line = line.strip_prefix("\u{feff}".as_bytes()).unwrap_or(line);
            if let Some(found) = W3cFields::of(line) {
                fields = Some(found);
                continue;
            }
            let is_blank = line.trim_ascii().is_empty();
            if is_blank || (line.starts_with(b"#") && (fields.is_some() || is_directive(line))) {
                continue;
            }
            if let Some(fields) = fields {
                return Some(LogFormat::W3c(fields));
            }
            if line.starts_with(b"{") {
                return Some(LogFormat::Json(keys.clone()));
            }
            let mut days = DayReader::default();
            if let Parsed::Line(_) = common(line, &mut days, false) {
                return Some(LogFormat::Common);
            }
        }
        fields.map(LogFormat::W3c)
    }

    /// The fields that a directive of W3C Extended Format names, for what follows.
    ///
    /// ```
    /// use ravel_traffic::{JsonKeys, LogFormat};
    ///
    /// let first = b"#Fields: date cs-uri-stem\n";
    /// let mut format = LogFormat::of(first, &JsonKeys::default()).expect("a log");
    /// let before = format.clone();
    /// format.take_directive(b"#Fields: cs-uri-stem sc-status");
    /// assert_ne!(format, before);
    /// ```
    pub fn take_directive(&mut self, line: &[u8]) {
        if let (LogFormat::W3c(fields), Some(new)) = (self, W3cFields::of(line)) {
            *fields = new;
        }
    }

    /// Reads a line, without its end; of header fields, those that cost time only if they matter.
    pub(crate) fn parse<'l>(
        &self,
        line: &'l [u8],
        days: &mut DayReader,
        headers: bool,
    ) -> Parsed<'l> {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        if line.trim_ascii().is_empty() {
            return Parsed::Nothing;
        }
        match self {
            LogFormat::Common => common(line, days, headers),
            LogFormat::W3c(fields) => fields.parse(line, days),
            LogFormat::Json(keys) => keys.parse(line, days),
        }
    }

    /// Its name.
    pub fn name(&self) -> &'static str {
        match self {
            LogFormat::Common => "common log format",
            LogFormat::W3c(_) => "W3C extended log format",
            LogFormat::Json(_) => "JSON lines",
        }
    }
}

/// So many lines are looked at to find out what a source is: the first may be broken.
const MAX_LOOKED: usize = 20;

fn is_directive(line: &[u8]) -> bool {
    let names = ["#Version:", "#Date:", "#Software:", "#Start-Date:", "#End-Date:", "#Remark:"];
    names.iter().any(|name| line.starts_with(name.as_bytes()))
}
