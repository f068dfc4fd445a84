//! JSON lines: an object for each request.

use std::borrow::Cow;

use serde_json::{Map, Value};

use super::day::iso;
use super::{Day, DayReader, LogLine, LoggedRequest, Parsed, unescaped};
use crate::hit;

/// The keys of objects, where they have other names than usual.
///
/// ```
/// use ravel_traffic::JsonKeys;
///
/// let keys = JsonKeys::default().with_url(Some("where".to_owned()));
/// assert_ne!(keys, JsonKeys::default());
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct JsonKeys {
    url: Option<String>,
    method: Option<String>,
    status: Option<String>,
    count: Option<String>,
}

/// Keys that need not be named.
const URLS: [&str; 6] = ["url", "uri", "request_uri", "path", "target", "request"];
const METHODS: [&str; 2] = ["method", "request_method"];
const STATUSES: [&str; 3] = ["status", "status_code", "sc-status"];
const COUNTS: [&str; 3] = ["count", "hits", "visits"];
const HOSTS: [&str; 3] = ["host", "http_host", "server_name"];
const TIMES: [&str; 5] = ["time", "timestamp", "date", "ts", "time_iso8601"];

impl JsonKeys {
    /// With the name of the key that has the URL.
    #[must_use]
    pub fn with_url(mut self, name: Option<String>) -> JsonKeys {
        self.url = name;
        self
    }

    /// With the name of the key that has the method.
    #[must_use]
    pub fn with_method(mut self, name: Option<String>) -> JsonKeys {
        self.method = name;
        self
    }

    /// With the name of the key that has the status.
    #[must_use]
    pub fn with_status(mut self, name: Option<String>) -> JsonKeys {
        self.status = name;
        self
    }

    /// With the name of the key that says how often.
    #[must_use]
    pub fn with_count(mut self, name: Option<String>) -> JsonKeys {
        self.count = name;
        self
    }

    pub(super) fn parse<'l>(&self, line: &'l [u8], _: &mut DayReader) -> Parsed<'l> {
        let Ok(object) = serde_json::from_slice::<Map<String, Value>>(line) else {
            return Parsed::Unread("it is not an object of JSON");
        };
        let find = |named: &Option<String>, usual: &[&str]| match named {
            Some(name) => object.get(name),
            None => usual.iter().find_map(|name| object.get(*name)),
        };
        let mut parsed: LogLine<'l> = LogLine::NOTHING;
        parsed.day = find(&None, &TIMES).and_then(day);
        let text = |value: &Value| value.as_str().map(|text| Cow::Owned(text.as_bytes().to_vec()));
        parsed.host = find(&None, &HOSTS).and_then(text);
        parsed.scheme = find(&None, &["scheme"]).and_then(text);
        if let Some(value) = find(&self.status, &STATUSES) {
            let number = value.as_u64().or_else(|| value.as_str()?.parse().ok());
            match number.and_then(|number| u16::try_from(number).ok()) {
                Some(number) if number < 1_000 => parsed.status = number,
                _ => return Parsed::Unread("the status is not one"),
            }
        }
        if let Some(value) = find(&self.count, &COUNTS) {
            let number = value.as_u64().or_else(|| hit::count(value.as_str()?).ok());
            match number {
                Some(number) => parsed.count = number,
                None => return Parsed::Unread("the count is not a number"),
            }
        }
        let method = find(&self.method, &METHODS).and_then(Value::as_str);
        match find(&self.url, &URLS).and_then(Value::as_str) {
            None => return Parsed::Unread("the URL is not found; name its key with `--url`"),
            Some("" | "-") => {}
            // A request line, whole.
            Some(url) if method.is_none() && url.contains(' ') => {
                parsed.asked =
                    LoggedRequest::Line(Cow::Owned(unescaped(url.as_bytes()).into_owned()));
            }
            Some(url) => {
                let method = method.unwrap_or("GET").as_bytes().to_vec();
                parsed.asked =
                    LoggedRequest::Parts(Cow::Owned(method), Cow::Owned(url.as_bytes().to_vec()));
            }
        }
        Parsed::Line(parsed)
    }
}

/// The day of a time: a date of ISO 8601, or seconds or milliseconds since 1970 began.
fn day(value: &Value) -> Option<Day> {
    if let Some(text) = value.as_str() {
        return iso(text.as_bytes());
    }
    const MAX_SECONDS: f64 = 1e11;
    let number = value.as_f64()?;
    let seconds = if number.abs() > MAX_SECONDS { number / 1_000.0 } else { number };
    Day::from_seconds(seconds.floor() as i64)
}
