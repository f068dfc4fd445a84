//! Common Log Format, with a virtual host in front or not, and Combined, which adds two fields:
//! `192.0.2.7 - - [26/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 512 "referer" "user-agent"`.

use std::borrow::Cow;

use super::{DayReader, LogLine, Parsed, split_line, unescaped};

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
    let Some((request, rest)) = quoted(rest) else {
        return Parsed::Unread("there is no request in quotes");
    };
    let rest = rest.trim_ascii_start();
    let end = memchr::memchr(b' ', rest).unwrap_or(rest.len());
    let Some(status) = status(&rest[..end]) else { return Parsed::Unread("there is no status") };
    let mut parsed = LogLine { status, day, count: 1, ..LogLine::default() };
    parsed.host = virtual_host(&line[..at]).map(Cow::Borrowed);
    // Behind the status are the bytes, and then fields in quotes, if any.
    if headers
        && let Some(from) = memchr::memchr(b'"', &rest[end..])
        && let Some((referer, rest)) = quoted(&rest[end + from..])
    {
        parsed.referer = Some(referer);
        parsed.user_agent = quoted(rest.trim_ascii_start()).map(|(field, _)| field);
    }
    take_request(request, &mut parsed);
    Parsed::Line(parsed)
}

/// Takes in a request line as the log has it, escaped.
pub(super) fn take_request<'l>(request: &'l [u8], line: &mut LogLine<'l>) {
    match unescaped(request) {
        Cow::Borrowed(request) => match split_line(request) {
            Ok((method, target)) => {
                line.asked = Some((Cow::Borrowed(method), Cow::Borrowed(target)));
            }
            Err(why) => line.urlless = Some(why),
        },
        Cow::Owned(request) => match split_line(&request) {
            Ok((method, target)) => {
                line.asked = Some((Cow::Owned(method.to_vec()), Cow::Owned(target.to_vec())));
            }
            Err(why) => line.urlless = Some(why),
        },
    }
}

/// Where the time is: a name of somebody who asks may have brackets, too.
fn time_in(line: &[u8]) -> Option<usize> {
    memchr::memchr_iter(b'[', line).find(|at| {
        let Some(time) = line.get(*at..at + TIME) else { return false };
        time[TIME - 1] == b']' && time[3] == b'/' && time[7] == b'/' && time[12] == b':'
    })
}

/// What is in quotes, in which quotes are escaped, and what is behind.
fn quoted(text: &[u8]) -> Option<(&[u8], &[u8])> {
    let inner = text.strip_prefix(b"\"")?;
    let mut from = 0;
    loop {
        let at = from + memchr::memchr2(b'"', b'\\', &inner[from..])?;
        if inner[at] == b'"' {
            return Some((&inner[..at], &inner[at + 1..]));
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
    let mut fields = before.split(|byte| *byte == b' ');
    let (first, second) = (fields.next()?, fields.next()?);
    // Without a host, what follows the address is an identity that nobody has.
    if second == b"-" || !second.iter().any(|byte| b".:".contains(byte)) {
        return None;
    }
    std::str::from_utf8(second).ok()?.parse::<std::net::IpAddr>().ok()?;
    Some(first)
}
