//! A request: method, URL and header fields.

use std::fmt;
use std::sync::LazyLock;

use http::{HeaderMap, HeaderName, HeaderValue, Method};

use super::{Address, Scheme, UrlError};

/// What a visitor's browser asks of the edge.
///
/// A request whose address is malformed can be made: it is answered, with 400.
#[derive(Debug, Clone)]
pub struct Request {
    method: Method,
    address: Result<Address, (UrlError, String)>,
    /// Most requests that are asked about have none.
    headers: Option<Box<HeaderMap>>,
}

static NO_HEADERS: LazyLock<HeaderMap> = LazyLock::new(HeaderMap::new);

impl Request {
    /// A `GET` of an absolute URL.
    ///
    /// # Errors
    /// When the text does not begin with `http://` or `https://`.
    ///
    /// ```
    /// let request = ravel::Request::get("https://h.example/a?b")?;
    /// assert_eq!(request.url(), "https://h.example/a?b");
    /// assert!(ravel::Request::get("/a").is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn get(url: &str) -> Result<Request, RequestError> {
        Request::new(Method::GET, url)
    }

    /// Any method, of an absolute URL.
    ///
    /// # Errors
    /// When the text does not begin with `http://` or `https://`.
    ///
    /// ```
    /// let request = ravel::Request::new(http::Method::POST, "http://h.example/a")?;
    /// assert_eq!(request.method(), "POST");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(method: Method, url: &str) -> Result<Request, RequestError> {
        match Address::parse(url) {
            Err(UrlError::Scheme) => Err(RequestError { url: url.to_owned() }),
            address => Ok(Request {
                method,
                address: address.map_err(|why| (why, url.to_owned())),
                headers: None,
            }),
        }
    }

    /// A request as it arrives: the `host` field (or `:authority`) and the target in origin form
    /// (RFC 9112, section 3.2.1).
    ///
    /// ```
    /// use ravel::address::Scheme;
    ///
    /// let request = ravel::Request::from_parts(http::Method::GET, Scheme::Https, "H.example:443", "/%61");
    /// assert_eq!(request.url(), "https://h.example/a");
    /// ```
    pub fn from_parts(method: Method, scheme: Scheme, host: &str, target: &str) -> Request {
        let address = match target.starts_with('/') {
            true => Address::from_parts(scheme, host, target),
            false => Err(UrlError::PathStart),
        };
        Request {
            method,
            address: address.map_err(|why| (why, format!("{scheme}://{host}{target}"))),
            headers: None,
        }
    }

    /// A request for an address.
    ///
    /// ```
    /// use ravel::address::Address;
    ///
    /// let address = Address::parse("https://h.example/a").unwrap();
    /// assert_eq!(ravel::Request::of(http::Method::GET, address).url(), "https://h.example/a");
    /// ```
    pub fn of(method: Method, address: Address) -> Request {
        Request { method, address: Ok(address), headers: None }
    }

    /// Adds a header field; fields of one name add up.
    ///
    /// ```
    /// use http::header::{COOKIE, HeaderValue};
    ///
    /// let request = ravel::Request::get("https://h.example/")?;
    /// let request = request.with_header(COOKIE, HeaderValue::from_static("plan=pro"));
    /// assert_eq!(request.headers()[COOKIE], "plan=pro");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn with_header(mut self, name: HeaderName, value: HeaderValue) -> Request {
        self.headers.get_or_insert_default().append(name, value);
        self
    }

    /// The same request with these header fields.
    #[must_use]
    pub fn with_headers(mut self, headers: HeaderMap) -> Request {
        self.headers = (!headers.is_empty()).then(|| Box::new(headers));
        self
    }

    /// The method.
    pub fn method(&self) -> &Method {
        &self.method
    }

    /// The header fields.
    pub fn headers(&self) -> &HeaderMap {
        self.headers.as_deref().unwrap_or(&NO_HEADERS)
    }

    /// Whether it has any header.
    pub(crate) fn has_headers(&self) -> bool {
        self.headers.is_some()
    }

    /// The address, or why there is none.
    ///
    /// ```
    /// use ravel::address::UrlError;
    ///
    /// let request = ravel::Request::get("https://h.example/%zz")?;
    /// assert_eq!(request.address().unwrap_err(), UrlError::Escape);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn address(&self) -> Result<&Address, UrlError> {
        self.address.as_ref().map_err(|(why, _)| *why)
    }

    /// The address as text; as it was given where it is malformed.
    ///
    /// ```
    /// let request = ravel::Request::get("HTTPS://H.example/a/../b")?;
    /// assert_eq!(request.url(), "https://h.example/b");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn url(&self) -> &str {
        match &self.address {
            Ok(address) => address.as_str(),
            Err((_, text)) => text,
        }
    }
}

/// A text that is no absolute `http` or `https` URL.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestError {
    url: String,
}

impl fmt::Display for RequestError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}` is not a whole URL: it must begin with `http://` or `https://`", self.url)
    }
}

impl std::error::Error for RequestError {}
