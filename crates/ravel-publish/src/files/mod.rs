//! A site for a host that only serves files, and answers unknown URLs with `404.html`.
//!
//! ```text
//!   Edge ──▶ Placement ──▶ FileHost ──walked──▶ Support of each line
//!            what is there    what such a host      beside what the edge
//!            where          shows for a path      answers there
//! ```

mod host;
mod packed;
mod page;
mod placement;
mod support;

use std::collections::{BTreeMap, BTreeSet};

use ravel::edge::Edge;
use ravel::language::Line;
use ravel::program::Stage;

use crate::table::table_of;
use host::Shown;
use placement::Placement;

/// What is put beside the files of a folder, and what such a host cannot do.
#[derive(Debug, Clone)]
pub struct PublishedFiles {
    pages: BTreeMap<String, Page>,
    left_out: BTreeSet<String>,
    lines: Vec<LineSupport>,
}

impl PublishedFiles {
    /// By their names in the folder; some take the place of a file there.
    pub fn pages(&self) -> &BTreeMap<String, Page> {
        &self.pages
    }

    /// Files of the folder that rules hide, and that such a host would show.
    pub fn left_out(&self) -> &BTreeSet<String> {
        &self.left_out
    }

    /// What becomes of each rule and setting, in the order of the files they stand in.
    pub fn lines(&self) -> &[LineSupport] {
        &self.lines
    }
}

/// A page that is put there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Page {
    /// These bytes: a page in UTF-8, or the 404 page in its own encoding.
    Made(Vec<u8>),
    /// The same as another file of the folder.
    Copy(String),
}

/// How near a host that only serves files comes to what a rule or a setting says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineSupport {
    pub(crate) line: Line,
    pub(crate) what: String,
    pub(crate) support: Support,
    pub(crate) how: String,
}

impl LineSupport {
    /// The rule or the setting.
    pub fn line(&self) -> Line {
        self.line
    }

    /// It, as it is written.
    pub fn what(&self) -> &str {
        &self.what
    }

    /// How near.
    pub fn support(&self) -> Support {
        self.support
    }

    /// What is done instead, or what is lacking.
    pub fn how(&self) -> &str {
        &self.how
    }
}

/// How far a host does what a line says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Support {
    /// Every URL gets the same answer.
    Full,
    /// Visitors of every URL end where they should, in another way.
    Partial,
    /// Visitors of some URL end elsewhere.
    None,
}

impl Support {
    /// The word for it.
    ///
    /// ```
    /// assert_eq!(ravel_publish::Support::Full.as_str(), "fully");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            Support::Full => "fully",
            Support::Partial => "partially",
            Support::None => "not",
        }
    }
}

/// The page that such hosts show for unknown URLs.
const MISSING: &str = "404.html";

/// What a host that only serves files needs beside the files of the folder; `lost` is the site's
/// own missing page, if it has one.
///
/// The time grows with the number of rules and of files.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
/// let published = ravel_publish::files(&edge, None);
/// assert!(published.pages().contains_key("a/index.html"));
/// assert_eq!(published.lines()[1].how(), "a/index.html leads on, instead of a 302");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn files(edge: &Edge, lost: Option<&[u8]>) -> PublishedFiles {
    let placement = Placement::new(edge);
    let lines = support::lines(&placement);
    let table = table_of(edge, |rule| !placement.replaces(rule) && rule.stage() != Stage::Headers);
    let origin = placement.urls().origin();
    let page = |shown: &Shown| match shown {
        Shown::Site => None,
        Shown::Copy(of) => Some(Page::Copy(of.clone())),
        Shown::Stub { to, drop_query } => {
            Some(Page::Made(page::stub(to, origin, *drop_query).into_bytes()))
        }
        Shown::Missing => Some(Page::Made(page::missing(&table, lost))),
    };
    let made = placement.host().files();
    PublishedFiles {
        pages: made.iter().filter_map(|(name, shown)| Some((name.clone(), page(shown)?))).collect(),
        left_out: placement.left_out().clone(),
        lines,
    }
}
