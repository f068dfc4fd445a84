//! An address as the edge sees it, and how it is brought to one spelling.
//!
//! ```text
//!   text ──Request──▶ method + Address (normalized) + header fields
//!                     scheme://host/path?query#fragment, one string with its seams known
//! ```
//!
//! Everything later compares addresses byte for byte, so this is the one place where two spellings
//! of an address become one (RFC 3986, section 6.2.2). What cannot be an address at all is
//! [`UrlError`].

mod host;
mod path;
mod query;
mod request;
mod typed;
mod url;
mod writer;

pub use host::{Host, Scheme};
pub use path::{decode, encode, is_path_byte};
pub use query::{form_decode, parameters};
pub use request::{Request, RequestError};
pub use typed::typed;
pub use url::Address;

pub(crate) use host::{MAX_HOST_BYTES, port_number, split_port};
pub(crate) use path::{
    has_pair, is_fragment_byte, is_query_byte, is_unreserved, normalize, path_hash,
};
pub(crate) use writer::AddressWriter;

use std::fmt;

/// Why a text is not a valid URL; a request for it is answered with 400.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum UrlError {
    /// There is no `http://` or `https://` before it.
    Scheme,
    /// The host is missing, holds a user name, or is not a host name.
    Host,
    /// What follows the host's `:` is not a port number.
    Port,
    /// The path does not begin with `/`.
    PathStart,
    /// The path holds a control character.
    Control,
    /// The path holds a `\`.
    Backslash,
    /// A `%` in the path is not followed by two hexadecimal digits.
    Escape,
}

impl fmt::Display for UrlError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            UrlError::Scheme => "it does not begin with `http://` or `https://`",
            UrlError::Host => "its host is missing or is not a host name",
            UrlError::Port => "its port is no number from 0 to 65535",
            UrlError::PathStart => "its path does not begin with `/`",
            UrlError::Control => "its path holds a control character",
            UrlError::Backslash => "its path holds a `\\`",
            UrlError::Escape => "a `%` in its path is not followed by two hexadecimal digits",
        })
    }
}

impl std::error::Error for UrlError {}
