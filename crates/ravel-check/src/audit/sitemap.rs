//! Sitemaps, and indexes of them (sitemaps.org, protocol 0.9).

use std::ops::Range;

use quick_xml::events::Event;

/// What a sitemap lists: pages, or, as an index, other sitemaps.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sitemap {
    /// URLs of pages, each with the bytes where it is written.
    pub(super) pages: Vec<(String, Range<usize>)>,
    sitemaps: Vec<String>,
}

impl Sitemap {
    /// Reads a sitemap or an index.
    ///
    /// ```
    /// let text = "<urlset><url><loc>https://h.example/?a&amp;b</loc></url></urlset>";
    /// let sitemap = ravel_check::Sitemap::parse(text)?;
    /// assert!(sitemap.pages().eq(["https://h.example/?a&b"]));
    /// # Ok::<(), String>(())
    /// ```
    ///
    /// # Errors
    /// What is not XML, or another document; one that ends early.
    pub fn parse(text: &str) -> Result<Sitemap, String> {
        let mut reader = quick_xml::Reader::from_str(text);
        let mut sitemap = Sitemap::default();
        let mut within: Vec<String> = Vec::new();
        let (mut url, mut from) = (String::new(), 0);
        let mut has_root = false;
        loop {
            let at = reader.buffer_position() as usize;
            match reader.read_event().map_err(|error| error.to_string())? {
                Event::Start(tag) => {
                    within.push(tag.local_name().as_ref().to_owned());
                    has_root |= is_root(&within[0])?;
                    (url, from) = (String::new(), reader.buffer_position() as usize);
                }
                Event::Empty(tag) if within.is_empty() => {
                    has_root |= is_root(tag.local_name().as_ref())?;
                }
                Event::Text(text) => url.push_str(&text),
                Event::CData(text) => url.push_str(&text),
                Event::GeneralRef(name) => {
                    let known = quick_xml::escape::resolve_xml_entity(&name).map(str::to_owned);
                    let number = name.resolve_char_ref().ok().flatten().map(String::from);
                    url.push_str(&known.or(number).unwrap_or_default());
                }
                Event::End(_) => {
                    if let [_, entry, loc] = within.as_slice()
                        && loc == "loc"
                    {
                        let url = url.trim().to_owned();
                        match entry.as_str() {
                            "url" => sitemap.pages.push((url, from..at)),
                            "sitemap" => sitemap.sitemaps.push(url),
                            _ => {}
                        }
                    }
                    within.pop();
                }
                Event::Eof => match within.last() {
                    Some(open) => return Err(format!("it ends inside of `<{open}>`")),
                    None if !has_root => return Err("it has no element".to_owned()),
                    None => return Ok(sitemap),
                },
                _ => {}
            }
        }
    }

    /// The URLs of pages, as they are written.
    pub fn pages(&self) -> impl ExactSizeIterator<Item = &str> {
        self.pages.iter().map(|(url, _)| url.as_str())
    }

    /// The URLs of other sitemaps, of an index.
    pub fn sitemaps(&self) -> impl ExactSizeIterator<Item = &str> {
        self.sitemaps.iter().map(String::as_str)
    }
}

/// Whether an element is the root of a sitemap or of an index.
fn is_root(name: &str) -> Result<bool, String> {
    match name {
        "urlset" | "sitemapindex" => Ok(true),
        _ => Err(format!("it is `<{name}>`, not `<urlset>` or `<sitemapindex>`")),
    }
}
