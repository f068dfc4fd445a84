//! Origins of other hosts that style sheets load from, and that scripts name.

use cssparser::{ParseError, Parser, Token};
use url::Url;

/// The origin of a whole URL of HTTP, or of one without its scheme.
pub(crate) fn origin_of(url: &str) -> Option<String> {
    let whole = if url.starts_with("//") { format!("https:{url}") } else { url.to_owned() };
    let url = Url::parse(&whole).ok().filter(|url| url.scheme().starts_with("http"))?;
    Some(url.origin().ascii_serialization())
}

/// The origins of what a style sheet loads; not those of its comments.
pub(crate) fn in_style(text: &str) -> Vec<String> {
    let mut urls = Vec::new();
    block(&mut Parser::new(text), &mut urls);
    urls.iter().filter_map(|url| origin_of(url)).collect()
}

fn block(parser: &mut Parser<'_>, urls: &mut Vec<String>) {
    let mut imports = false;
    while let Ok(token) = parser.next().cloned() {
        match &token {
            Token::UnquotedUrl(url) => urls.push(url.to_string()),
            Token::QuotedString(url) if imports => urls.push(url.to_string()),
            Token::Function(name) => {
                let is_url = name.eq_ignore_ascii_case("url") || name.eq_ignore_ascii_case("src");
                let _ = parser.parse_nested_block(|inner| {
                    if is_url && let Ok(url) = inner.expect_string_cloned() {
                        urls.push(url.to_string());
                    }
                    block(inner, urls);
                    Ok::<(), ParseError<()>>(())
                });
            }
            Token::ParenthesisBlock | Token::SquareBracketBlock | Token::CurlyBracketBlock => {
                let _ = parser.parse_nested_block(|inner| {
                    block(inner, urls);
                    Ok::<(), ParseError<()>>(())
                });
            }
            _ => {}
        }
        imports = matches!(&token, Token::AtKeyword(name) if name.eq_ignore_ascii_case("import"));
    }
}

/// Origins of HTTPS at the beginning of a script's strings.
pub(crate) fn in_script(text: &str) -> impl Iterator<Item = String> {
    text.match_indices("https://").filter_map(|(at, _)| {
        let is_end = |c: char| !(c.is_ascii_alphanumeric() || "-.:/".contains(c));
        let rest = &text[at..];
        let url = &rest[..rest.find(is_end).unwrap_or(rest.len())];
        // In a comment it stands without quotes.
        let is_string = text[..at].ends_with(['"', '\'', '`']);
        let url = Url::parse(url).ok().filter(|_| is_string)?;
        let is_whole = url.host_str().is_some_and(|host| host.contains('.'));
        // Namespaces are names, not places.
        let is_namespace = url.host_str().is_some_and(|host| host.ends_with("w3.org"));
        (is_whole && !is_namespace).then(|| url.origin().ascii_serialization())
    })
}
