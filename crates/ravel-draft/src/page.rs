//! What an HTML page says of itself and loads.

use html5gum::{DefaultEmitter, StartTag, Token, Tokenizer};

/// What is loaded, as Content Security Policy tells it apart (CSP Level 3, section 6.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum LoadKind {
    Script,
    Style,
    Image,
    Media,
    Font,
    Frame,
    Form,
}

/// What an HTML page says of itself and loads.
#[derive(Debug, Default)]
pub(crate) struct Page {
    pub(crate) language: Option<String>,
    /// The URL that relative ones are seen from, if it is stated.
    pub(crate) base: Option<String>,
    /// What it states as its own URL: canonical links, `og:url`.
    pub(crate) own: Vec<String>,
    /// Where it leads a visitor by itself, at once.
    pub(crate) refresh: Option<String>,
    pub(crate) links: Vec<String>,
    pub(crate) loads: Vec<(LoadKind, String)>,
    /// The texts of scripts in the page.
    pub(crate) scripts: Vec<String>,
    /// It has styles in the page, as elements or attributes.
    pub(crate) has_styles: bool,
    /// It has event handlers as attributes.
    pub(crate) has_handlers: bool,
}

impl Page {
    pub(crate) fn read(text: &str) -> Page {
        let mut emitter = DefaultEmitter::<()>::default();
        emitter.naively_switch_states(true);
        let mut page = Page::default();
        let mut script = None;
        for token in Tokenizer::new_with_emitter(text, emitter) {
            match token {
                Ok(Token::StartTag(tag)) => {
                    script = page.take(&tag).then(String::new);
                }
                Ok(Token::String(more)) => {
                    if let Some(script) = &mut script {
                        script.push_str(&String::from_utf8_lossy(&more));
                    }
                }
                Ok(Token::EndTag(_)) => page.scripts.extend(script.take()),
                Ok(_) => {}
                Err(never) => match never {},
            }
        }
        page
    }

    /// Takes in what a tag says; whether the text of a script follows.
    fn take(&mut self, tag: &StartTag<()>) -> bool {
        let get = |name: &str| {
            let value = tag.attributes.get(name.as_bytes())?;
            Some(String::from_utf8_lossy(value).trim().to_owned())
        };
        let is = |name: &str, wanted: &str| {
            get(name).is_some_and(|value| value.eq_ignore_ascii_case(wanted))
        };
        self.has_styles |= get("style").is_some() || *tag.name == b"style"[..];
        self.has_handlers |= tag.attributes.keys().any(|name| name.starts_with(b"on"));
        let mut load = |kind, name: &str| {
            self.loads.extend(get(name).filter(|url| !url.is_empty()).map(|url| (kind, url)));
        };
        match &**tag.name {
            b"html" => self.language = get("lang").filter(|lang| !lang.is_empty()),
            b"base" => self.base = self.base.take().or(get("href")),
            b"a" | b"area" => self.links.extend(get("href")),
            b"img" | b"input" => load(LoadKind::Image, "src"),
            b"video" | b"audio" | b"source" | b"track" => load(LoadKind::Media, "src"),
            b"iframe" | b"frame" => load(LoadKind::Frame, "src"),
            b"form" => load(LoadKind::Form, "action"),
            b"script" => {
                load(LoadKind::Script, "src");
                // Data in a script element is not run (HTML, section 4.12.1).
                let kind = get("type").unwrap_or_default().to_ascii_lowercase();
                let runs = ["", "module", "text/javascript", "application/javascript"];
                return get("src").is_none() && runs.contains(&&*kind);
            }
            b"meta" if is("property", "og:url") || is("name", "og:url") => {
                self.own.extend(get("content"));
            }
            b"meta" if is("http-equiv", "refresh") => {
                self.refresh = get("content").as_deref().and_then(refresh);
            }
            b"link" => {
                let relation = get("rel").unwrap_or_default().to_ascii_lowercase();
                let has = |wanted: &str| relation.split_ascii_whitespace().any(|one| one == wanted);
                let loaded_as = get("as").unwrap_or_default();
                if has("canonical") {
                    self.own.extend(get("href"));
                } else if has("stylesheet") {
                    load(LoadKind::Style, "href");
                } else if has("modulepreload") || (has("preload") && loaded_as == "script") {
                    load(LoadKind::Script, "href");
                } else if has("preload") && loaded_as == "font" {
                    load(LoadKind::Font, "href");
                } else if has("icon") || has("apple-touch-icon") {
                    load(LoadKind::Image, "href");
                }
            }
            _ => {}
        }
        false
    }
}

/// Where a refresh leads that comes at once (HTML, section 4.2.5.3).
fn refresh(content: &str) -> Option<String> {
    let (seconds, rest) = content.split_once([';', ','])?;
    let at_once = seconds.trim().parse::<f64>().is_ok_and(|seconds| seconds <= 1.0);
    let (name, url) = rest.split_once('=')?;
    let url = url.trim().trim_matches(['"', '\'']);
    (at_once && name.trim().eq_ignore_ascii_case("url") && !url.is_empty()).then(|| url.to_owned())
}
