//! Sitemaps and indexes of them, which are read as a whole: 50 MB at most, as their protocol says.

use std::io::Read;
use std::vec;

use ravel_check::Sitemap;

use crate::input::Input;
use crate::{Entry, Hit, SourceError};

/// The most that is read of a sitemap: what the protocol allows, in bytes.
const MAX_SITEMAP_BYTES: u64 = 52_428_800;

/// The pages of a sitemap, and the sitemaps that an index names.
pub(crate) fn entries(input: Input<'_>) -> Result<vec::IntoIter<Entry>, SourceError> {
    let mut bytes = Vec::new();
    input.take(MAX_SITEMAP_BYTES + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > MAX_SITEMAP_BYTES {
        let why = "it is larger than 52 428 800 bytes, which its protocol does not allow";
        return Err(SourceError::Sitemap(why.to_owned()));
    }
    let text = String::from_utf8(bytes).map_err(|_| SourceError::Encoding("it is not UTF-8"))?;
    let sitemap = Sitemap::parse(&text).map_err(SourceError::Sitemap)?;
    let pages = sitemap.pages().map(|page| Entry::Hit(Hit::of(page)));
    let others = sitemap.sitemaps().map(|url| Entry::Sitemap(url.to_owned()));
    Ok(pages.chain(others).collect::<Vec<_>>().into_iter())
}
