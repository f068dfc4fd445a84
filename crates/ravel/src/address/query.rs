//! Query strings: their parameters, decoded as forms are (WHATWG URL, section 5).

use std::borrow::Cow;

/// The parameters of a query, in order: each as it stands, its key, and its value (none without a
/// `=`), none decoded.
///
/// ```
/// let found: Vec<_> = ravel::address::parameters("a=1&b").collect();
/// assert_eq!(found, [("a=1", "a", Some("1")), ("b", "b", None)]);
/// ```
pub fn parameters(query: &str) -> impl Iterator<Item = (&str, &str, Option<&str>)> {
    query.split('&').filter(|part| !part.is_empty()).map(|part| match part.split_once('=') {
        Some((key, value)) => (part, key, Some(value)),
        None => (part, part, None),
    })
}

/// Decodes one key or value as forms write it (`application/x-www-form-urlencoded`): `+` is a
/// space, a broken escape is text.
///
/// ```
/// assert_eq!(&*ravel::address::form_decode("a+b%21"), b"a b!");
/// ```
pub fn form_decode(text: &str) -> Cow<'_, [u8]> {
    if !text.bytes().any(|byte| byte == b'+' || byte == b'%') {
        return Cow::Borrowed(text.as_bytes());
    }
    let spaced = text.replace('+', " ");
    Cow::Owned(percent_encoding::percent_decode_str(&spaced).collect())
}
