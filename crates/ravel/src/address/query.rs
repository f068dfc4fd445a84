//! Query strings: their parameters, decoded as forms are (WHATWG URL, section 5).

use std::borrow::Cow;

/// The parameters of a query, in order: each as it stands, its key, and its value (none without a
/// `=`), none decoded.
pub fn parameters(query: &str) -> impl Iterator<Item = (&str, &str, Option<&str>)> {
    query.split('&').filter(|part| !part.is_empty()).map(|part| match part.split_once('=') {
        Some((key, value)) => (part, key, Some(value)),
        None => (part, part, None),
    })
}

/// Decodes one key or value as forms write it (`application/x-www-form-urlencoded`): `+` is a
/// space, a broken escape is text.
pub fn form_decode(text: &str) -> Cow<'_, [u8]> {
    if !text.bytes().any(|byte| byte == b'+' || byte == b'%') {
        return Cow::Borrowed(text.as_bytes());
    }
    let spaced = text.replace('+', " ");
    Cow::Owned(percent_encoding::percent_decode_str(&spaced).collect())
}
