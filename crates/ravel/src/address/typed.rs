//! URLs as people type them, and as links have them: a browser reads them before anything is sent.

/// What a browser sends for a URL that is typed, by the WHATWG URL standard: host names in their one
/// spelling, `\` as `/`, without white space around it and without a user name. None where that is
/// no URL of HTTP.
///
/// What is *sent* is not read so: a host with `%` in a request is refused, and typed it is a name.
///
/// ```
/// use ravel::address::typed;
///
/// assert_eq!(typed(" https:\\\\H%2Eexample\\a"), Some("https://h.example/a".to_owned()));
/// assert_eq!(typed("https://b\u{fc}cher.example"), Some("https://xn--bcher-kva.example/".to_owned()));
/// assert_eq!(typed("mailto:a@h.example"), None);
/// ```
pub fn typed(text: &str) -> Option<String> {
    let mut url = url::Url::parse(text).ok()?;
    if !matches!(url.scheme(), "http" | "https") {
        return None;
    }
    // A browser answers with it when it is asked who it is, and does not send it in the URL.
    url.set_username("").and_then(|()| url.set_password(None)).ok()?;
    Some(url.into())
}
