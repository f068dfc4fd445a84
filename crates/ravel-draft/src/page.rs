//! What an HTML page says of itself and loads.

use std::collections::BTreeSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use html5gum::{DefaultEmitter, StartTag, Token, Tokenizer};

use crate::similar::{PageText, TextReader};

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
    /// The languages that it says other pages have, or `x-default`, with their URLs (HTML, section
    /// 4.6.7.1).
    pub(crate) alternates: Vec<(String, String)>,
    /// What it links to, each once, without itself and without fragments.
    pub(crate) links: Vec<Arc<str>>,
    pub(crate) loads: BTreeSet<(LoadKind, String)>,
    /// The texts of scripts in the page.
    pub(crate) scripts: Vec<String>,
    /// The texts of style elements.
    pub(crate) styles: Vec<String>,
    /// It has styles in the page, as elements or attributes.
    pub(crate) has_styles: bool,
    /// It has event handlers as attributes.
    pub(crate) has_handlers: bool,
    /// It has an element that scripts may fill.
    pub(crate) may_be_app: bool,
    /// Empty where nobody asked for it.
    pub(crate) text: PageText,
    /// A hash of all of it.
    pub(crate) bytes: u64,
}

/// Where a text stands in a page.
#[derive(Default)]
struct Reading {
    /// Elements that are open of which the text is not the page's own.
    outside: usize,
    in_title: bool,
    heading: Option<String>,
    text: TextReader,
}

/// Elements whose text is not what a page is about.
const OUTSIDE: [&[u8]; 8] =
    [b"nav", b"header", b"footer", b"aside", b"script", b"style", b"template", b"noscript"];

impl Page {
    /// Reads a page, and what people read there, if that is `compared` with other pages.
    pub(crate) fn read(text: &str, compared: bool) -> Page {
        let mut emitter = DefaultEmitter::<()>::default();
        emitter.naively_switch_states(true);
        let mut hasher = DefaultHasher::new();
        text.hash(&mut hasher);
        let mut page = Page { bytes: hasher.finish(), ..Page::default() };
        let (mut script, mut style) = (None, None);
        let mut reading = Reading::default();
        for token in Tokenizer::new_with_emitter(text, emitter) {
            match token {
                Ok(Token::StartTag(tag)) => {
                    script = page.take(&tag).then(String::new);
                    style = (*tag.name == b"style"[..]).then(String::new);
                    reading.open(&tag);
                }
                Ok(Token::String(more)) => {
                    let more = String::from_utf8_lossy(&more);
                    if compared {
                        reading.read(&more);
                    }
                    if let Some(own) = script.as_mut().or(style.as_mut()) {
                        own.push_str(&more);
                    }
                }
                Ok(Token::EndTag(tag)) => {
                    page.scripts.extend(script.take());
                    page.styles.extend(style.take());
                    reading.close(&tag.name);
                }
                Ok(_) => {}
                Err(never) => match never {},
            }
        }
        page.text = reading.text.finish();
        page.links.sort_unstable();
        page.links.dedup();
        page.links.shrink_to_fit();
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
        self.may_be_app |= *tag.name == b"div"[..] && (is("id", "app") || is("id", "root"));
        match &**tag.name {
            b"html" => self.language = get("lang").filter(|lang| !lang.is_empty()),
            b"base" => self.base = self.base.take().or(get("href")),
            b"a" | b"area" => {
                let link = get("href").unwrap_or_default();
                let page = link.split('#').next().unwrap_or_default();
                if !page.is_empty() && !page.starts_with('?') {
                    self.links.push(page.into());
                }
            }
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
                } else if has("alternate") {
                    self.alternates.extend(get("hreflang").zip(get("href")));
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

impl Reading {
    fn open(&mut self, tag: &StartTag<()>) {
        let name = &**tag.name;
        self.outside += usize::from(OUTSIDE.contains(&name) && !tag.self_closing);
        self.in_title = name == b"title";
        if matches!(name, b"h1" | b"h2") {
            self.heading = Some(String::new());
        }
    }

    fn close(&mut self, name: &[u8]) {
        self.outside = self.outside.saturating_sub(usize::from(OUTSIDE.contains(&name)));
        self.in_title = false;
        if matches!(name, b"h1" | b"h2") {
            self.heading.take().iter().for_each(|heading| self.text.heading(heading));
        }
    }

    fn read(&mut self, more: &str) {
        if self.in_title {
            return self.text.title(more);
        }
        if self.outside > 0 {
            return;
        }
        if let Some(heading) = &mut self.heading {
            heading.push_str(more);
        }
        self.text.words(more);
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
