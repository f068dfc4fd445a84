//! Whole URLs, normalized.

use std::borrow::Cow;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::num::NonZeroU64;
use std::ops::Range;

use super::host::{port_number, split_port};
use super::writer::AddressWriter;
use super::{
    Host, Scheme, UrlError, encode, has_pair, is_fragment_byte, is_query_byte, normalize, path_hash,
};

/// A whole URL without user name, normalized: `scheme://host[:port]/path?query#fragment`. Its text
/// is what the WHATWG URL parser makes of it.
///
/// Two URLs are the same exactly when their texts are. What is asked of the site has no port.
#[derive(Debug, Clone)]
pub struct Address {
    pub(super) text: String,
    pub(super) scheme: Scheme,
    pub(super) host_end: u32,
    /// Behind the port, if there is one.
    pub(super) path_start: u32,
    pub(super) path_end: u32,
    pub(super) query_end: u32,
    pub(super) odd: bool,
    /// Worked out when a request is read, so that a look-up need not wait for the text.
    pub(super) path_hash: Option<NonZeroU64>,
}

impl PartialEq for Address {
    fn eq(&self, other: &Address) -> bool {
        self.text == other.text
    }
}

impl Eq for Address {}

impl Hash for Address {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.text.hash(state);
    }
}

impl Address {
    /// Reads an absolute `http` or `https` URL that is asked of the site; its port is dropped, as
    /// the edge drops it.
    ///
    /// # Errors
    /// What makes it no URL; see [`UrlError`].
    ///
    /// ```
    /// use ravel::address::Address;
    ///
    /// let address = Address::parse("HTTPS://H.example:443/b/../%61?q='x'#top").unwrap();
    /// assert_eq!(address.as_str(), "https://h.example/a?q=%27x%27#top");
    /// assert_eq!((address.path(), address.query(), address.fragment()), ("/a", Some("q=%27x%27"), Some("top")));
    /// ```
    pub fn parse(text: &str) -> Result<Address, UrlError> {
        let (scheme, host, target) = split(text)?;
        let host = match plain_host(host) {
            Some(plain) => Cow::Borrowed(plain),
            None => Cow::Owned(Host::parse(host)?.as_str().to_owned()),
        };
        Address::new(scheme, &host, None, target)
    }

    /// Reads an absolute `http` or `https` URL that a redirect leads to: a port that is not the
    /// scheme's is kept.
    ///
    /// # Errors
    /// What makes it no URL; see [`UrlError`].
    ///
    /// ```
    /// use ravel::address::Address;
    ///
    /// let address = Address::parse_location("http://h.example:8080/a").unwrap();
    /// assert_eq!(address.port(), Some(8080));
    /// ```
    pub fn parse_location(text: &str) -> Result<Address, UrlError> {
        let (scheme, host, target) = split(text)?;
        let (_, port) = split_port(host);
        let port = port
            .map(port_number)
            .transpose()?
            .flatten()
            .filter(|port| *port != scheme.default_port());
        Address::new(scheme, Host::parse(host)?.as_str(), port, target)
    }

    /// A URL from its scheme, its host as it arrives in a request, and what follows the host.
    ///
    /// # Errors
    /// What makes it no URL; see [`UrlError`].
    ///
    /// ```
    /// use ravel::address::{Address, Scheme};
    ///
    /// let address = Address::from_parts(Scheme::Http, "H.example", "/a").unwrap();
    /// assert_eq!(address.as_str(), "http://h.example/a");
    /// ```
    pub fn from_parts(scheme: Scheme, host: &str, target: &str) -> Result<Address, UrlError> {
        let host = match plain_host(host) {
            Some(plain) => Cow::Borrowed(plain),
            None => Cow::Owned(Host::of_request(host)?.as_str().to_owned()),
        };
        Address::new(scheme, &host, None, target)
    }

    fn new(
        scheme: Scheme,
        host: &str,
        port: Option<u16>,
        target: &str,
    ) -> Result<Address, UrlError> {
        let (rest, fragment) = match target.split_once('#') {
            Some((rest, fragment)) => (rest, Some(fragment)),
            None => (target, None),
        };
        let (path, query) = match rest.split_once('?') {
            Some((path, query)) => (path, Some(query)),
            None => (rest, None),
        };
        let path = if path.is_empty() { Cow::Borrowed("/") } else { normalize(path)? };
        let mut writer = AddressWriter::new(scheme, host, port, target.len());
        writer.text().push_str(&path);
        if let Some(query) = query {
            writer.begin_query();
            encode(query.as_bytes(), is_query_byte, writer.text());
        }
        if let Some(fragment) = fragment {
            writer.begin_fragment();
            encode(fragment.as_bytes(), is_fragment_byte, writer.text());
        }
        let mut address = writer.finish();
        let path = address.path().as_bytes();
        (address.odd, address.path_hash) = (is_odd(path), NonZeroU64::new(path_hash(path)));
        Ok(address)
    }

    /// The scheme.
    pub fn scheme(&self) -> Scheme {
        self.scheme
    }

    /// The host, normalized.
    pub fn host(&self) -> &str {
        &self.text[self.host_start()..self.host_end as usize]
    }

    /// The port, where it is not the scheme's own.
    pub fn port(&self) -> Option<u16> {
        self.text[self.host_end as usize..self.path_start as usize].strip_prefix(':')?.parse().ok()
    }

    /// The path, normalized; it begins with `/`.
    pub fn path(&self) -> &str {
        &self.text[self.path_range()]
    }

    /// Whether the path could hold an escape or an empty segment: only then a file could be asked
    /// for in an odd spelling.
    pub(crate) fn has_odd_path(&self) -> bool {
        self.odd
    }

    /// The path's [`path_hash`], where it is known already.
    pub(crate) fn path_hash(&self) -> Option<NonZeroU64> {
        self.path_hash
    }

    /// The query, without its `?`.
    ///
    /// ```
    /// let url = ravel::address::Address::parse("https://h.example/a?b=c")?;
    /// assert_eq!(url.query(), Some("b=c"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn query(&self) -> Option<&str> {
        (self.query_end > self.path_end)
            .then(|| &self.text[self.path_end as usize + 1..self.query_end as usize])
    }

    /// The fragment, without its `#`.
    pub fn fragment(&self) -> Option<&str> {
        self.text.get(self.query_end as usize + 1..)
    }

    /// The whole URL.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The URL up to its fragment: what a request asks for.
    ///
    /// ```
    /// use ravel::address::Address;
    ///
    /// let address = Address::parse("https://h.example/a?b#c").unwrap();
    /// assert_eq!(address.without_fragment(), "https://h.example/a?b");
    /// ```
    pub fn without_fragment(&self) -> &str {
        &self.text[..self.query_end as usize]
    }

    /// How many bytes [`Address::without_fragment`] has.
    pub(crate) fn len_without_fragment(&self) -> usize {
        self.query_end as usize
    }

    /// The text, owned.
    pub fn into_string(self) -> String {
        self.text
    }

    /// The same query and fragment on another origin, with another path, which may come in two
    /// parts.
    pub(crate) fn moved(&self, scheme: Scheme, host: &str, path: [&str; 2]) -> Address {
        let mut there = Address::joined(scheme, host, path, self.query());
        there.keep_fragment(self.fragment());
        there
    }

    /// An address of parts that are normalized already; the path may come in two.
    pub(crate) fn joined(
        scheme: Scheme,
        host: &str,
        path: [&str; 2],
        query: Option<&str>,
    ) -> Address {
        let path_len = path[0].len() + path[1].len();
        let mut writer = AddressWriter::new(
            scheme,
            host,
            None,
            path_len + query.map_or(0, |query| query.len() + 1),
        );
        path.into_iter().for_each(|part| writer.text().push_str(part));
        if let Some(query) = query {
            writer.begin_query();
            writer.text().push_str(query);
        }
        writer.finish()
    }

    /// Keeps the fragment of the address that led here, unless it has its own (Fetch, section 4.4).
    pub(crate) fn keep_fragment(&mut self, fragment: Option<&str>) {
        if let (None, Some(fragment)) = (self.fragment(), fragment) {
            self.text.push('#');
            self.text.push_str(fragment);
        }
    }

    fn host_start(&self) -> usize {
        self.scheme.prefix().len()
    }

    fn path_range(&self) -> Range<usize> {
        self.path_start as usize..self.path_end as usize
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

fn is_odd(path: &[u8]) -> bool {
    path.iter().fold(false, |odd, byte| odd | (*byte == b'%')) || has_pair(path, *b"//")
}

/// Scheme, host and what follows it.
fn split(text: &str) -> Result<(Scheme, &str, &str), UrlError> {
    let (scheme, rest) = Scheme::split(text).ok_or(UrlError::Scheme)?;
    let host_end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
    Ok((scheme, &rest[..host_end], &rest[host_end..]))
}

/// The host as it stands, when it is plainly in its final form already.
fn plain_host(host: &str) -> Option<&str> {
    let (name, port) = split_port(host);
    let plain = port.is_none()
        && !name.is_empty()
        && name.len() <= 63
        && !name.starts_with(['.', '-'])
        && !name.ends_with('.')
        && !name.contains("..")
        && !name.contains("--")
        && name.bytes().all(|byte| {
            byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'.' || byte == b'-'
        })
        && name.bytes().last().is_some_and(|byte| byte.is_ascii_lowercase());
    plain.then_some(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_parts_of_an_address() {
        let cases = [
            ("https://a.example", "https://a.example/", "/", None, None),
            ("HTTP://A.Example:80/x", "http://a.example/x", "/x", None, None),
            ("https://a.example?q=1", "https://a.example/?q=1", "/", Some("q=1"), None),
            ("https://a.example/x?#", "https://a.example/x?#", "/x", Some(""), Some("")),
            ("https://a.example/x#f?g", "https://a.example/x#f?g", "/x", None, Some("f?g")),
            (
                "https://a.example/x?'<\u{e9}#'`\"#",
                "https://a.example/x?%27%3C%C3%A9#'%60%22#",
                "/x",
                Some("%27%3C%C3%A9"),
                Some("'%60%22#"),
            ),
            (
                "https://a.example/x?a=%zz b#c",
                "https://a.example/x?a=%zz%20b#c",
                "/x",
                Some("a=%zz%20b"),
                Some("c"),
            ),
        ];
        for (text, whole, path, query, fragment) in cases {
            let address = Address::parse(text).unwrap();
            assert_eq!(
                (
                    address.as_str(),
                    address.host(),
                    address.path(),
                    address.query(),
                    address.fragment()
                ),
                (whole, "a.example", path, query, fragment),
                "{text:?}"
            );
        }
        for (text, why) in [
            ("ftp://a.example/", UrlError::Scheme),
            ("/x", UrlError::Scheme),
            ("https:///x", UrlError::Host),
        ] {
            assert_eq!(Address::parse(text), Err(why), "{text:?}");
        }
    }
}
