//! Common Log Format, with a virtual host in front or not, and Combined, which adds two fields:
//! `192.0.2.7 - - [26/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 512 "referer" "user-agent"`.

use std::borrow::Cow;

use super::{DayReader, LogLine, LoggedRequest, Parsed, unescaped};

/// The bytes of `[26/Nov/2026:10:00:00 +0000]`.
const TIME: usize = 28;

/// Reads a line, with the header fields behind if these matter.
pub(crate) fn common<'l>(line: &'l [u8], days: &mut DayReader, headers: bool) -> Parsed<'l> {
    let Some(at) = time_in(line) else { return Parsed::Unread("there is no time in `[…]`") };
    let day = days.common(&line[at + 1..at + 12]);
    if day.is_none() {
        return Parsed::Unread("the time in `[…]` is not a date");
    }
    let rest = line[at + TIME..].trim_ascii_start();
    let Some((request, is_escaped, rest)) = quoted(rest) else {
        return Parsed::Unread("there is no request in quotes");
    };
    let rest = rest.trim_ascii_start();
    let end = rest.iter().position(|byte| *byte == b' ').unwrap_or(rest.len());
    let Some(status) = status(&rest[..end]) else { return Parsed::Unread("there is no status") };
    // Behind the status are the bytes, and then fields in quotes, if any.
    let (mut referer, mut user_agent) = (None, None);
    if headers
        && let Some(from) = memchr::memchr(b'"', &rest[end..])
        && let Some((field, _, rest)) = quoted(&rest[end + from..])
    {
        referer = Some(field);
        user_agent = quoted(rest.trim_ascii_start()).map(|(field, ..)| field);
    }
    let host = virtual_host(&line[..at]).map(Cow::Borrowed);
    let request = if is_escaped { unescaped(request) } else { Cow::Borrowed(request) };
    let asked = LoggedRequest::Line(request);
    Parsed::Line(LogLine { asked, scheme: None, host, status, day, count: 1, referer, user_agent })
}

/// Where the time is: a name of somebody who asks may have brackets, too.
fn time_in(line: &[u8]) -> Option<usize> {
    memchr::memchr_iter(b'[', line).find(|at| {
        let Some(time) = line.get(*at..at + TIME) else { return false };
        time[TIME - 1] == b']' && time[3] == b'/' && time[7] == b'/' && time[12] == b':'
    })
}

/// What is in quotes, in which quotes are escaped, whether anything is, and what is behind.
fn quoted(text: &[u8]) -> Option<(&[u8], bool, &[u8])> {
    let inner = text.strip_prefix(b"\"")?;
    let mut from = 0;
    loop {
        let at = from + memchr::memchr2(b'"', b'\\', &inner[from..])?;
        if inner[at] == b'"' {
            return Some((&inner[..at], from > 0, &inner[at + 1..]));
        }
        from = (at + 2).min(inner.len());
    }
}

/// Three digits, or `-` for one that is not known.
pub(super) fn status(text: &[u8]) -> Option<u16> {
    match text {
        b"-" => Some(0),
        [a @ b'1'..=b'9', b @ b'0'..=b'9', c @ b'0'..=b'9'] => {
            Some(u16::from(a - b'0') * 100 + u16::from(b - b'0') * 10 + u16::from(c - b'0'))
        }
        // As some servers log what was not answered.
        b"000" => Some(0),
        _ => None,
    }
}

/// The host in front of the client's address: `host:port address ident user`.
fn virtual_host(before: &[u8]) -> Option<&[u8]> {
    let end = before.iter().position(|byte| *byte == b' ')?;
    let (first, rest) = (&before[..end], &before[end + 1..]);
    // Without a host, what follows the address is an identity that nobody has.
    if rest.starts_with(b"- ") {
        return None;
    }
    let second = rest.split(|byte| *byte == b' ').next()?;
    if !second.iter().any(|byte| b".:".contains(byte)) {
        return None;
    }
    std::str::from_utf8(second).ok()?.parse::<std::net::IpAddr>().ok()?;
    Some(first)
}
