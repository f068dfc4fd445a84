//! Hosts and schemes.

use std::fmt;

use super::UrlError;

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

    /// The port of a URL that names none: 80 or 443.
    ///
    /// ```
    /// assert_eq!(ravel::address::Scheme::Https.default_port(), 443);
    /// ```
    pub fn default_port(self) -> u16 {
        match self {
            Scheme::Http => 80,
            Scheme::Https => 443,
        }
    }

    /// What is before a host in a URL.
    pub(super) fn prefix(self) -> &'static str {
        match self {
            Scheme::Http => "http://",
            Scheme::Https => "https://",
        }
    }

    /// Takes `http://` or `https://`, in any case, from the front of a text.
    ///
    /// ```
    /// use ravel::address::Scheme;
    ///
    /// assert_eq!(Scheme::split("HTTPS://h.example/"), Some((Scheme::Https, "h.example/")));
    /// assert_eq!(Scheme::split("/a"), None);
    /// ```
    pub fn split(text: &str) -> Option<(Scheme, &str)> {
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

/// A host name in the one form that names are compared in: lower case, ASCII, no final dot, no
/// port.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Host(Box<str>);

impl Host {
    /// Reads a host as people write it in a URL, and as browsers read it: IDNA, and IPv4 addresses
    /// in any notation (WHATWG URL, section 3.5). A port and a final dot are dropped.
    ///
    /// # Errors
    /// [`UrlError::Host`] or [`UrlError::Port`].
    ///
    /// ```
    /// use ravel::address::Host;
    ///
    /// assert_eq!(Host::parse("Bücher.example:443").unwrap().as_str(), "xn--bcher-kva.example");
    /// assert!(Host::parse("no host").is_err());
    /// ```
    pub fn parse(text: &str) -> Result<Host, UrlError> {
        let name = without_port(text)?;
        let name = name.strip_suffix('.').unwrap_or(name);
        let host = url::Host::parse(name).map_err(|_| UrlError::Host)?;
        let host = host.to_string();
        if !host.starts_with('[') && !has_labels(&host) {
            return Err(UrlError::Host);
        }
        Ok(Host(host.into()))
    }

    /// Reads a host as it arrives in a request: it is ASCII and not percent-encoded, since browsers
    /// have made it so. A port and a final dot are dropped.
    ///
    /// # Errors
    /// [`UrlError::Host`] or [`UrlError::Port`].
    ///
    /// ```
    /// use ravel::address::Host;
    ///
    /// assert_eq!(Host::of_request("H.example.").unwrap().as_str(), "h.example");
    /// assert!(Host::of_request("b%C3%BCcher.example").is_err());
    /// ```
    pub fn of_request(text: &str) -> Result<Host, UrlError> {
        let name = without_port(text)?;
        if let Some(inner) = name.strip_prefix('[').and_then(|name| name.strip_suffix(']')) {
            // As browsers send it: it is compared, not read.
            let plain = !inner.is_empty()
                && inner.bytes().all(|byte| byte.is_ascii_hexdigit() || b":.".contains(&byte));
            return if plain {
                Ok(Host(name.to_ascii_lowercase().into()))
            } else {
                Err(UrlError::Host)
            };
        }
        let name = name.strip_suffix('.').unwrap_or(name);
        match has_labels(name) {
            true => Ok(Host(name.to_ascii_lowercase().into())),
            false => Err(UrlError::Host),
        }
    }

    /// The host as text.
    ///
    /// ```
    /// assert_eq!(ravel::address::Scheme::Https.as_str(), "https");
    /// ```
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
pub(crate) fn split_port(text: &str) -> (&str, Option<&str>) {
    match text.rfind(':') {
        Some(at) if !text[at..].contains(']') => (&text[..at], Some(&text[at + 1..])),
        _ => (text, None),
    }
}

/// The number of a port; none where it is left empty.
pub(crate) fn port_number(port: &str) -> Result<Option<u16>, UrlError> {
    let digits = port.bytes().all(|byte| byte.is_ascii_digit());
    match port {
        "" => Ok(None),
        _ => port.parse().ok().filter(|_| digits).map(Some).ok_or(UrlError::Port),
    }
}

fn without_port(text: &str) -> Result<&str, UrlError> {
    // A password is not a port.
    if text.contains('@') {
        return Err(UrlError::Host);
    }
    let (name, port) = split_port(text);
    port.map(port_number).transpose()?;
    Ok(name)
}

/// Whether a name is labels with dots between them (RFC 1035, section 2.3.4).
fn has_labels(name: &str) -> bool {
    let is_label =
        |label: &str| (1..=63).contains(&label.len()) && label.bytes().all(is_label_byte);
    name.len() <= MAX_HOST_BYTES && name.split('.').all(is_label)
}

/// The length of a host, without a final dot (RFC 1035, section 2.3.4).
pub(crate) const MAX_HOST_BYTES: usize = 253;

// `_` is no letter of a host name (RFC 952), yet names with it are looked up and served.
fn is_label_byte(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_'
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_of_requests_are_taken_as_they_come() {
        let cases = [
            ("Harbour.Example.:8080", Ok("harbour.example")),
            ("xn--a.example", Ok("xn--a.example")),
            ("127.1", Ok("127.1")),
            ("[2001:DB8::1]:443", Ok("[2001:db8::1]")),
            ("[::ffff:192.0.2.7]", Ok("[::ffff:192.0.2.7]")),
            ("b\u{fc}cher.example", Err(UrlError::Host)),
            ("harb%6Fur.example", Err(UrlError::Host)),
            ("", Err(UrlError::Host)),
            ("harbour..example", Err(UrlError::Host)),
            ("[::1", Err(UrlError::Host)),
            ("[fe80::1%25eth0]", Err(UrlError::Host)),
        ];
        for (text, expected) in cases {
            let host = Host::of_request(text);
            assert_eq!(
                host.as_ref().map(Host::as_str),
                expected.as_ref().map(|host| *host),
                "{text:?}"
            );
        }
    }

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
            ("127.1", Ok("127.0.0.1")),
            ("0x7f.1.", Ok("127.0.0.1")),
            ("192.0.2.256", Err(UrlError::Host)),
            ("harbour.5", Err(UrlError::Host)),
            ("xn--a.example", Err(UrlError::Host)),
            ("[::ffff:192.0.2.7]", Ok("[::ffff:c000:207]")),
            ("harbour.example:+80", Err(UrlError::Port)),
            ("[2001:DB8::1]:443", Ok("[2001:db8::1]")),
            ("", Err(UrlError::Host)),
            (".", Err(UrlError::Host)),
            ("a..b", Err(UrlError::Host)),
            ("user@harbour.example", Err(UrlError::Host)),
            ("user:password@harbour.example", Err(UrlError::Host)),
            ("har bour.example", Err(UrlError::Host)),
            ("harbour.example:http", Err(UrlError::Port)),
            ("harbour.example:70000", Err(UrlError::Port)),
            ("[::1", Err(UrlError::Host)),
        ];
        for (text, expected) in cases {
            assert_eq!(
                Host::parse(text).as_ref().map(Host::as_str),
                expected.as_ref().map(|host| *host),
                "{text:?}"
            );
        }
    }
}
