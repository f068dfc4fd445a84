use std::fmt;

use super::Malformed;

/// The two schemes an edge answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Scheme {
    /// `http`
    Http,
    /// `https`
    Https,
}

impl Scheme {
    /// `http` or `https`.
    pub fn as_str(self) -> &'static str {
        match self {
            Scheme::Http => "http",
            Scheme::Https => "https",
        }
    }

    /// What stands before a host in a URL.
    pub(super) fn prefix(self) -> &'static str {
        match self {
            Scheme::Http => "http://",
            Scheme::Https => "https://",
        }
    }

    /// Takes `http://` or `https://`, in any case, from the front of a text.
    pub(crate) fn split(text: &str) -> Option<(Scheme, &str)> {
        let rest_after = |prefix: &str| {
            let head = text.get(..prefix.len())?;
            head.eq_ignore_ascii_case(prefix).then(|| &text[prefix.len()..])
        };
        rest_after("https://")
            .map(|rest| (Scheme::Https, rest))
            .or_else(|| rest_after("http://").map(|rest| (Scheme::Http, rest)))
    }
}

impl fmt::Display for Scheme {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// A host name in the one form that names are compared in: lower case, ASCII (IDNA, UTS 46), no final dot, no port.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Host(Box<str>);

impl Host {
    /// Reads a host as it stands in a URL or a `host` field; a port is dropped.
    ///
    /// # Errors
    /// [`Malformed::Host`] or [`Malformed::Port`].
    pub fn parse(text: &str) -> Result<Host, Malformed> {
        // A password is no port.
        if text.contains('@') {
            return Err(Malformed::Host);
        }
        let (name, port) = split_port(text);
        if port.is_some_and(|port| !port.is_empty() && port.parse::<u16>().is_err()) {
            return Err(Malformed::Port);
        }
        if let Some(inner) = name.strip_prefix('[') {
            let inner = inner.strip_suffix(']').ok_or(Malformed::Host)?;
            let ip: std::net::Ipv6Addr = inner.parse().map_err(|_| Malformed::Host)?;
            return Ok(Host(format!("[{ip}]").into()));
        }
        let name = name.strip_suffix('.').unwrap_or(name);
        let ascii = idna::domain_to_ascii_cow(name.as_bytes(), idna::AsciiDenyList::URL).map_err(|_| Malformed::Host)?;
        let wellformed = !ascii.is_empty()
            && ascii.len() <= 253
            && ascii.split('.').all(|label| !label.is_empty() && label.len() <= 63 && label.bytes().all(is_label_byte));
        if wellformed { Ok(Host(ascii.into())) } else { Err(Malformed::Host) }
    }

    /// The host as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Host {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Splits `host:port`; the port is what follows the last `:` outside brackets.
pub(super) fn split_port(text: &str) -> (&str, Option<&str>) {
    match text.rfind(':') {
        Some(at) if !text[at..].contains(']') => (&text[..at], Some(&text[at + 1..])),
        _ => (text, None),
    }
}

// `_` is no letter of a host name (RFC 952), yet names with it are looked up and served.
fn is_label_byte(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_'
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_have_one_form() {
        let cases = [
            ("Harbour.Example", Ok("harbour.example")),
            ("harbour.example.", Ok("harbour.example")),
            ("harbour.example:8080", Ok("harbour.example")),
            ("harbour.example:", Ok("harbour.example")),
            ("bücher.example", Ok("xn--bcher-kva.example")),
            ("xn--bcher-kva.example", Ok("xn--bcher-kva.example")),
            ("192.0.2.7:80", Ok("192.0.2.7")),
            ("[2001:DB8::1]:443", Ok("[2001:db8::1]")),
            ("", Err(Malformed::Host)),
            (".", Err(Malformed::Host)),
            ("a..b", Err(Malformed::Host)),
            ("user@harbour.example", Err(Malformed::Host)),
            ("user:password@harbour.example", Err(Malformed::Host)),
            ("har bour.example", Err(Malformed::Host)),
            ("harbour.example:http", Err(Malformed::Port)),
            ("harbour.example:70000", Err(Malformed::Port)),
            ("[::1", Err(Malformed::Host)),
        ];
        for (text, expected) in cases {
            assert_eq!(Host::parse(text).as_ref().map(Host::as_str), expected.as_ref().map(|host| *host), "{text:?}");
        }
    }
}
