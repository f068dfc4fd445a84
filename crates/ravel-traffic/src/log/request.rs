//! The request of a log line: its method and its URL, as the server was asked.

use std::borrow::Cow;

/// Where requests were made that do not say it themselves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Place<'l> {
    pub(crate) scheme: Option<&'l [u8]>,
    pub(crate) host: Option<&'l [u8]>,
}

/// Requests that are about no URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Urlless {
    /// Nothing was asked before the connection ended: `-`, or nothing.
    Nothing,
    /// `OPTIONS *`, about the server (RFC 9112, section 3.2.4).
    Server,
    /// A tunnel, `CONNECT host:port` (RFC 9112, section 3.2.3).
    Tunnel,
    /// What is no request of HTTP, such as the first bytes of TLS.
    Unintelligible,
}

impl Urlless {
    /// All of them.
    pub const ALL: [Urlless; 4] =
        [Urlless::Nothing, Urlless::Server, Urlless::Tunnel, Urlless::Unintelligible];

    /// Its name in data.
    ///
    /// ```
    /// assert_eq!(ravel_traffic::Urlless::Tunnel.as_str(), "tunnel");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            Urlless::Nothing => "nothing",
            Urlless::Server => "server",
            Urlless::Tunnel => "tunnel",
            Urlless::Unintelligible => "unintelligible",
        }
    }
}

/// What was asked, as it was sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum LoggedRequest<'l> {
    /// A request line.
    Line(Cow<'l, [u8]>),
    /// A method and a target.
    Parts(Cow<'l, [u8]>, Cow<'l, [u8]>),
    /// Nothing.
    Nothing,
}

impl<'l> LoggedRequest<'l> {
    /// `METHOD URL` as it stands in the request line: where the URL is a path of the place itself, and
    /// nothing of it is to be encoded. That holds for almost all.
    #[inline]
    pub(crate) fn as_it_stands(
        &self,
        place: Place<'_>,
        at: &[u8],
        with_query: bool,
    ) -> Option<&'l [u8]> {
        let LoggedRequest::Line(Cow::Borrowed(line)) = self else { return None };
        let (text, version) = line.split_last_chunk::<9>()?;
        let [b' ', b'H', b'T', b'T', b'P', b'/', major, b'.', minor] = version else { return None };
        let (method, target) = text.split_at(text.iter().position(|byte| *byte == b' ')?);
        let target = &target[1..];
        let is_one = [*major, *minor].iter().all(u8::is_ascii_digit)
            && is_method(method)
            && target.first() == Some(&b'/')
            && are_plain(target)
            && (with_query || memchr::memchr(b'?', target).is_none())
            && origin_of(place, at).is_none();
        is_one.then_some(text)
    }

    /// Writes `METHOD URL`, where a URL of the place itself is a path.
    pub(crate) fn write(
        &self,
        place: Place<'_>,
        at: &[u8],
        with_query: bool,
        out: &mut Vec<u8>,
    ) -> Result<(), Urlless> {
        let (method, target) = match self {
            LoggedRequest::Line(line) => split_line(line)?,
            LoggedRequest::Parts(method, target) => (&**method, &**target),
            LoggedRequest::Nothing => return Err(Urlless::Nothing),
        };
        if !is_method(method) {
            return Err(Urlless::Unintelligible);
        }
        let (origin, path) = if target.first() == Some(&b'/') {
            (origin_of(place, at), target)
        } else if let Some(rest) = without_scheme(target) {
            let end = rest.iter().position(|byte| b"/?#".contains(byte)).unwrap_or(rest.len());
            let length = target.len() - rest.len() + end;
            (Some(target[..length].to_ascii_lowercase()), &target[length..])
        } else {
            return Err(match target {
                b"*" => Urlless::Server,
                _ if method == b"CONNECT" => Urlless::Tunnel,
                b"-" | b"" => Urlless::Nothing,
                _ => Urlless::Unintelligible,
            });
        };
        out.extend_from_slice(method);
        out.push(b' ');
        if let Some(origin) = origin.filter(|origin| **origin != *at) {
            write_encoded(&origin, out);
        }
        if path.first() != Some(&b'/') {
            out.push(b'/');
        }
        let end = if with_query { None } else { memchr::memchr(b'?', path) };
        write_encoded(&path[..end.unwrap_or(path.len())], out);
        Ok(())
    }
}

/// The method and the target of a request line; without a version it is one of HTTP/0.9, and all
/// of its rest is the target.
fn split_line(line: &[u8]) -> Result<(&[u8], &[u8]), Urlless> {
    if line.is_empty() || line == b"-" {
        return Err(Urlless::Nothing);
    }
    let space = memchr::memchr(b' ', line).ok_or(Urlless::Unintelligible)?;
    let (method, rest) = (&line[..space], without_spaces(&line[space + 1..]));
    let version = memchr::memrchr(b' ', rest).filter(|at| rest[at + 1..].starts_with(b"HTTP/"));
    let target = version.map_or(rest, |at| without_spaces(&rest[..at]));
    Ok((method, target))
}

/// Other white space is part of what was asked.
fn without_spaces(mut text: &[u8]) -> &[u8] {
    while let Some(rest) = text.strip_prefix(b" ") {
        text = rest;
    }
    while let Some(rest) = text.strip_suffix(b" ") {
        text = rest;
    }
    text
}

fn is_method(method: &[u8]) -> bool {
    let is_of_one = |byte: &u8| byte.is_ascii_uppercase() || b"-_".contains(byte);
    !method.is_empty() && method.len() <= 32 && method.iter().all(is_of_one)
}

/// What is behind `http://` or `https://`.
fn without_scheme(target: &[u8]) -> Option<&[u8]> {
    [&b"http://"[..], b"https://"].into_iter().find_map(|scheme| {
        let first = target.get(..scheme.len())?;
        first.eq_ignore_ascii_case(scheme).then(|| &target[scheme.len()..])
    })
}

/// The origin of a request; none where it is that of requests that do not say theirs.
fn origin_of(place: Place<'_>, at: &[u8]) -> Option<Vec<u8>> {
    let host = place.host.filter(|host| !host.is_empty() && *host != b"-")?;
    let (own_scheme, own_host) = split_origin(at);
    let (name, port) = match host.iter().rposition(|byte| *byte == b':') {
        Some(colon) if host[colon + 1..].iter().all(u8::is_ascii_digit) => {
            (&host[..colon], Some(&host[colon + 1..]))
        }
        _ => (host, None),
    };
    let scheme = match (place.scheme, port) {
        (Some(scheme), _) if !scheme.is_empty() => scheme,
        (_, Some(b"443")) => b"https",
        (_, Some(b"80")) => b"http",
        _ => own_scheme,
    };
    if name.eq_ignore_ascii_case(own_host) && scheme.eq_ignore_ascii_case(own_scheme) {
        return None;
    }
    Some([scheme, b"://", name].concat().to_ascii_lowercase())
}

fn split_origin(origin: &[u8]) -> (&[u8], &[u8]) {
    let colon = memchr::memchr(b':', origin).unwrap_or(0);
    (&origin[..colon], origin.get(colon + 3..).unwrap_or_default())
}

/// Whether a URL can have all of these.
fn are_plain(bytes: &[u8]) -> bool {
    // All are looked at: that is faster than to stop at the first.
    bytes.iter().fold(true, |plain, byte| plain & is_plain(*byte))
}

fn is_plain(byte: u8) -> bool {
    byte.is_ascii_graphic() & (byte != b'#')
}

/// Writes what a URL cannot have as percent-encoded: an edge reads it so (RFC 3986, section 2.1).
fn write_encoded(bytes: &[u8], out: &mut Vec<u8>) {
    const HEX: &[u8; 16] = b"0123456789ABCDEF";
    for byte in bytes {
        match is_plain(*byte) {
            true => out.push(*byte),
            false => out.extend([b'%', HEX[usize::from(byte >> 4)], HEX[usize::from(byte & 15)]]),
        }
    }
}

/// A quoted field as it was before the server escaped it: `\xHH`, `\"`, `\\`, and the escapes of C.
pub(crate) fn unescaped(field: &[u8]) -> Cow<'_, [u8]> {
    if memchr::memchr(b'\\', field).is_none() {
        return Cow::Borrowed(field);
    }
    let hex = |byte: u8| (byte as char).to_digit(16);
    let mut out = Vec::with_capacity(field.len());
    let mut at = 0;
    while let Some(&byte) = field.get(at) {
        let (written, read) = match (byte, field.get(at + 1)) {
            (b'\\', Some(b'x' | b'X')) => {
                let digits = field.get(at + 2..at + 4).map(|two| (hex(two[0]), hex(two[1])));
                match digits {
                    Some((Some(high), Some(low))) => ((high * 16 + low) as u8, 4),
                    _ => (byte, 1),
                }
            }
            (b'\\', Some(escaped)) => match escaped {
                b'"' | b'\\' => (*escaped, 2),
                b'n' => (b'\n', 2),
                b'r' => (b'\r', 2),
                b't' => (b'\t', 2),
                b'b' => (8, 2),
                b'f' => (12, 2),
                b'v' => (11, 2),
                _ => (byte, 1),
            },
            _ => (byte, 1),
        };
        out.push(written);
        at += read;
    }
    Cow::Owned(out)
}
