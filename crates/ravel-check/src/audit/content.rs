//! What built files refer to: HTML, CSS, web manifests and sitemaps, read by tokenizers of their
//! standards.

use std::ops::Range;

use cssparser::{Parser, Token as CssToken};
use html5gum::{DefaultEmitter, StartTag, Token, Tokenizer};

use super::sitemap::Sitemap;
/// What a file says, as far as addresses are concerned.
#[derive(Debug, Default)]
pub(super) struct Content {
    pub(super) references: Vec<Reference>,
    /// The URL that relative references of a page are seen from, if it states one.
    pub(super) base: Option<String>,
    /// It looks like the shell of an app: its scripts make the page.
    pub(super) app_shell: bool,
}

/// An address that a file names.
#[derive(Debug)]
pub(super) struct Reference {
    pub(super) kind: Kind,
    /// As it is written.
    pub(super) url: String,
    /// The bytes of the file where it stands.
    pub(super) range: Range<usize>,
}

/// What a reference is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// A link that visitors follow.
    Link,
    Script,
    Style,
    /// An image, a font, a video and the like.
    Media,
    Frame,
    /// A page's own address, as it states it.
    Canonical,
    /// A page's address in a sitemap.
    SitemapEntry,
}

impl Kind {
    /// Whether a browser loads it by itself.
    pub(super) fn is_loaded(self) -> bool {
        self.is_asset() || self == Kind::Frame
    }

    /// Whether browsers want no HTML there.
    pub(super) fn is_asset(self) -> bool {
        matches!(self, Kind::Script | Kind::Style | Kind::Media)
    }
}

/// Whether files of this name are read for what they refer to.
///
/// ```
/// assert!(ravel_check::reads("a.html") && !ravel_check::reads("a.png"));
/// ```
pub fn reads(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    [".html", ".htm", ".css", ".webmanifest"].iter().any(|end| lower.ends_with(end))
        || is_sitemap(&lower)
        || is_manifest(&lower)
        || is_build_manifest(&lower)
}

/// Whether a build may have written there which names it gave to which sources.
///
/// ```
/// assert!(ravel_check::is_build_manifest("assets/manifest.json"));
/// ```
pub fn is_build_manifest(name: &str) -> bool {
    let last = name.rsplit('/').next().unwrap_or(name);
    last.contains("manifest") && last.ends_with(".json")
}

fn is_sitemap(lower: &str) -> bool {
    let last = lower.rsplit('/').next().unwrap_or(lower);
    last.starts_with("sitemap") && last.ends_with(".xml")
}

fn is_manifest(lower: &str) -> bool {
    lower.ends_with(".webmanifest") || lower.rsplit('/').next() == Some("manifest.json")
}

/// Reads a file by its name's ending.
pub(super) fn read(name: &str, text: &str) -> Result<Content, String> {
    let lower = name.to_ascii_lowercase();
    if lower.ends_with(".css") {
        return Ok(Content { references: css(text, 0), ..Content::default() });
    }
    if is_manifest(&lower) {
        return Ok(Content { references: manifest(text)?, ..Content::default() });
    }
    if is_build_manifest(&lower) {
        return Ok(Content::default());
    }
    if is_sitemap(&lower) {
        let sitemap = Sitemap::parse(text)?;
        let entry = |(url, range): &(String, Range<usize>)| Reference {
            kind: Kind::SitemapEntry,
            url: url.clone(),
            range: range.clone(),
        };
        let references = sitemap.pages.iter().map(entry).collect();
        return Ok(Content { references, ..Content::default() });
    }
    Ok(html(text))
}

fn html(text: &str) -> Content {
    let mut emitter = DefaultEmitter::<usize>::new_with_span();
    emitter.naively_switch_states(true);
    let mut content = Content::default();
    let (mut scripts, mut mount) = (false, false);
    // A mount element that has content was rendered already.
    let mut open_mount = false;
    let mut in_style = false;
    for token in Tokenizer::new_with_emitter(text, emitter) {
        match token {
            Ok(Token::StartTag(tag)) => {
                in_style = *tag.name == b"style";
                tag_references(&tag, &mut content);
                scripts |= *tag.name == b"script" && attribute(&tag, "src").is_some();
                let id = attribute(&tag, "id").map(|(id, _)| id);
                open_mount = *tag.name == b"div"
                    && id.as_deref().is_some_and(|id| matches!(id, "app" | "root"));
            }
            Ok(Token::EndTag(_)) if open_mount => (mount, open_mount) = (true, false),
            Ok(Token::String(text)) if open_mount => {
                open_mount = text.value.trim_ascii().is_empty();
            }
            Ok(Token::String(style)) if in_style => {
                let css_text = String::from_utf8_lossy(&style.value).into_owned();
                content.references.extend(css(&css_text, style.span.start));
            }
            Ok(Token::EndTag(_)) => in_style = false,
            Ok(_) => {}
            Err(never) => match never {},
        }
    }
    content.app_shell = scripts && mount;
    content
}

fn attribute(tag: &StartTag<usize>, name: &str) -> Option<(String, Range<usize>)> {
    let value = tag.attributes.get(name.as_bytes())?;
    Some((
        String::from_utf8_lossy(&value.value).trim().to_owned(),
        value.span.start..value.span.end,
    ))
}

fn tag_references(tag: &StartTag<usize>, content: &mut Content) {
    let mut add = |kind, name: &str| {
        if let Some((url, range)) = attribute(tag, name) {
            content.references.push(Reference { kind, url, range });
        }
    };
    match &**tag.name {
        b"a" | b"area" => add(Kind::Link, "href"),
        b"form"
            if attribute(tag, "method")
                .is_none_or(|(method, _)| method.eq_ignore_ascii_case("get")) =>
        {
            add(Kind::Link, "action")
        }
        b"script" => add(Kind::Script, "src"),
        b"img" | b"source" | b"audio" | b"track" | b"embed" => {
            add(Kind::Media, "src");
            source_set(tag, "srcset", content);
        }
        b"video" => {
            add(Kind::Media, "src");
            add(Kind::Media, "poster");
        }
        b"iframe" => add(Kind::Frame, "src"),
        b"object" => add(Kind::Media, "data"),
        b"base" => {
            content.base = content.base.take().or(attribute(tag, "href").map(|(url, _)| url))
        }
        b"link" => {
            let relations =
                attribute(tag, "rel").map_or(String::new(), |(rel, _)| rel.to_ascii_lowercase());
            let has = |wanted: &str| {
                relations.split_ascii_whitespace().any(|relation| relation == wanted)
            };
            let loaded_as = attribute(tag, "as").map(|(kind, _)| kind.to_ascii_lowercase());
            if has("canonical") {
                add(Kind::Canonical, "href");
            } else if has("stylesheet") || (has("preload") && loaded_as.as_deref() == Some("style"))
            {
                add(Kind::Style, "href");
            } else if has("modulepreload")
                || (has("preload") && loaded_as.as_deref() == Some("script"))
            {
                add(Kind::Script, "href");
            } else if ["icon", "apple-touch-icon", "manifest", "preload", "mask-icon"]
                .iter()
                .any(|relation| has(relation))
            {
                add(Kind::Media, "href");
            } else if ["alternate", "next", "prev", "help", "license", "author", "search"]
                .iter()
                .any(|relation| has(relation))
            {
                add(Kind::Link, "href");
            }
        }
        _ => {}
    }
}

/// The candidates of a `srcset` (HTML, section 4.8.4.2.1): a URL each, then a width or a density.
fn source_set(tag: &StartTag<usize>, name: &str, content: &mut Content) {
    let Some((set, range)) = attribute(tag, name) else { return };
    let mut rest = set.as_str();
    loop {
        rest = rest.trim_start_matches(|c: char| c == ',' || c.is_ascii_whitespace());
        let end = rest.find(|c: char| c.is_ascii_whitespace()).unwrap_or(rest.len());
        let (url, after) = rest.split_at(end);
        if url.is_empty() {
            return;
        }
        content.references.push(Reference {
            kind: Kind::Media,
            url: url.trim_end_matches(',').to_owned(),
            range: range.clone(),
        });
        rest = match url.ends_with(',') {
            true => after,
            false => after.split_once(',').map_or("", |(_, rest)| rest),
        };
    }
}

/// The URLs of a style sheet that begins at this byte.
fn css(text: &str, start: usize) -> Vec<Reference> {
    let mut references = Vec::new();
    css_block(&mut Parser::new(text), start, &mut references);
    references
}

fn css_block(parser: &mut Parser<'_>, start: usize, references: &mut Vec<Reference>) {
    let mut imports = false;
    loop {
        let from = parser.position().byte_index();
        let Ok(token) = parser.next() else { return };
        let token = token.clone();
        let to = parser.position().byte_index();
        let mut add = |url: &str, kind| {
            references.push(Reference {
                kind,
                url: url.to_owned(),
                range: start + from..start + to,
            });
        };
        let imported = std::mem::replace(
            &mut imports,
            matches!(&token, CssToken::AtKeyword(name) if name.eq_ignore_ascii_case("import")),
        );
        let kind = if imported { Kind::Style } else { Kind::Media };
        match &token {
            CssToken::UnquotedUrl(url) => add(url, kind),
            CssToken::QuotedString(url) if imported => add(url, Kind::Style),
            CssToken::Function(name) => {
                let is_url = name.eq_ignore_ascii_case("url") || name.eq_ignore_ascii_case("src");
                let _ = parser.parse_nested_block(|inner| {
                    if is_url && let Ok(url) = inner.expect_string_cloned() {
                        references.push(Reference {
                            kind,
                            url: url.to_string(),
                            range: start + from..start + inner.position().byte_index(),
                        });
                    }
                    css_block(inner, start, references);
                    Ok::<(), cssparser::ParseError<()>>(())
                });
            }
            CssToken::ParenthesisBlock
            | CssToken::SquareBracketBlock
            | CssToken::CurlyBracketBlock => {
                let _ = parser.parse_nested_block(|inner| {
                    css_block(inner, start, references);
                    Ok::<(), cssparser::ParseError<()>>(())
                });
            }
            _ => {}
        }
    }
}

/// The addresses of a web manifest (W3C Web Application Manifest).
fn manifest(text: &str) -> Result<Vec<Reference>, String> {
    let data: serde_json::Value = serde_json::from_str(text).map_err(|error| error.to_string())?;
    let mut found: Vec<(Kind, &str)> = Vec::new();
    found.extend(data["start_url"].as_str().map(|url| (Kind::Link, url)));
    for list in ["icons", "screenshots"] {
        let items = data[list].as_array().into_iter().flatten();
        found.extend(items.filter_map(|item| item["src"].as_str()).map(|url| (Kind::Media, url)));
    }
    found.extend(
        data["shortcuts"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|item| item["url"].as_str())
            .map(|url| (Kind::Link, url)),
    );
    let place = |url: &str| {
        let start = text.find(&format!("\"{url}\"")).map_or(0, |at| at + 1);
        start..start + if start == 0 { 0 } else { url.len() }
    };
    Ok(found
        .into_iter()
        .map(|(kind, url)| Reference { kind, url: url.to_owned(), range: place(url) })
        .collect())
}
