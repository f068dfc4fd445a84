//! A request that is known, and how often it was made.

use http::Method;

use crate::log::Day;

/// A request that is known, and how often it was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hit {
    pub(crate) method: Option<Method>,
    pub(crate) url: String,
    pub(crate) status: Option<u16>,
    pub(crate) count: u64,
    pub(crate) day: Option<Day>,
}

impl Hit {
    /// A request for a URL, or for a path below the base path at the canonical origin, made once.
    ///
    /// ```
    /// let hit = ravel_traffic::Hit::of("/a").times(12);
    /// assert_eq!((hit.url(), hit.count()), ("/a", 12));
    /// ```
    pub fn of(url: impl Into<String>) -> Hit {
        Hit { method: None, url: url.into(), status: None, count: 1, day: None }
    }

    /// The same, made so often.
    #[must_use]
    pub fn times(mut self, count: u64) -> Hit {
        self.count = count;
        self
    }

    /// The same, with its method.
    #[must_use]
    pub fn with_method(mut self, method: Method) -> Hit {
        self.method = Some(method);
        self
    }

    /// The same, with the status that was answered.
    #[must_use]
    pub fn with_status(mut self, status: u16) -> Hit {
        self.status = Some(status);
        self
    }

    /// The same, made on a day.
    #[must_use]
    pub fn on(mut self, day: Day) -> Hit {
        self.day = Some(day);
        self
    }

    /// The day, where the source has it.
    pub fn day(&self) -> Option<Day> {
        self.day
    }

    /// The method, where the source has it.
    pub fn method(&self) -> Option<&Method> {
        self.method.as_ref()
    }

    /// A URL, or a path below the base path at the canonical origin, as it is written.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The status that was answered, or is expected, where the source has it.
    pub fn status(&self) -> Option<u16> {
        self.status
    }

    /// How often; 1 where the source does not count.
    pub fn count(&self) -> u64 {
        self.count
    }
}

/// A method; in capitals as methods are written, so that no host or path is taken for one.
pub(crate) fn method(text: &str) -> Result<Method, String> {
    let is_plain = text.bytes().all(|byte| byte.is_ascii_uppercase() || b"-_".contains(&byte));
    let method = Method::from_bytes(text.as_bytes()).ok().filter(|_| is_plain);
    method.ok_or_else(|| format!("`{}` is not a method, as `POST`", short(text)))
}

/// A status of HTTP.
pub(crate) fn status(text: &str) -> Result<u16, String> {
    let number = text.parse().ok().filter(|status| (100..=599).contains(status));
    number.ok_or_else(|| format!("`{}` is not a valid status", short(text)))
}

/// A whole number, with or without marks between thousands.
pub(crate) fn count(text: &str) -> Result<u64, String> {
    let is_mark = |c: char| matches!(c, ',' | '.' | '\'' | '’' | ' ' | '\u{a0}' | '\u{202f}');
    let mut parts = text.split(is_mark);
    let is_number = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
    let first = parts.next().unwrap_or_default();
    let rest: Vec<&str> = parts.collect();
    let is_grouped = rest.is_empty() || first.len() <= 3;
    let is_whole = is_number(first)
        && is_grouped
        && rest.iter().all(|part| part.len() == 3 && is_number(part));
    let number = is_whole.then(|| format!("{first}{}", rest.concat()).parse().ok()).flatten();
    number.ok_or_else(|| format!("`{}` is not a count", short(text)))
}

/// A text for a message, not longer than people read.
pub(crate) fn short(text: &str) -> String {
    const MAX_CHARS: usize = 80;
    match text.char_indices().nth(MAX_CHARS) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}
