//! What is found in built files, one finding for each cause.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use rustc_hash::FxHashSet;

use super::{Audit, Code, Finding};

/// What was found in files so far: one finding for each address, with the number of files that name
/// it.
#[derive(Debug, Default)]
pub(super) struct Folder {
    found: BTreeMap<(Code, String), (Finding, usize)>,
    /// How often something was found, the same included.
    pub(super) total: usize,
    /// Targets of references on which nothing is found, and whether they are for assets.
    pub(super) fine: FxHashSet<(bool, String)>,
    /// Names that a build's manifest says it made.
    pub(super) built: FxHashSet<String>,
}

/// So many pages that are linked with the ending of their files have one cause: how the site is
/// built.
const MIN_ENDINGS: usize = 5;

/// Whether a link names the file of a page, of which the URL has no ending.
fn names_ending(finding: &Finding) -> bool {
    let asked = finding.example().map_or("", |example| example.url()).split(['?', '#']).next();
    asked.is_some_and(|path| path.ends_with(".html"))
}

impl Folder {
    pub(super) fn add(&mut self, key: &str, finding: Finding) {
        match self.found.entry((finding.code(), key.to_owned())) {
            // What is to change of the one is to change of all.
            Entry::Occupied(mut known) => {
                let (first, count) = known.get_mut();
                let edits = finding.edits().to_vec();
                *first = std::mem::replace(first, finding).with_edits(edits);
                *count += 1;
            }
            Entry::Vacant(free) => drop(free.insert((finding, 1))),
        }
        self.total += 1;
    }
}

impl Audit<'_> {
    /// Findings on what was read so far.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let mut audit = ravel_check::Audit::new(&edge);
    /// audit.read("index.html", b"<a href=/b/1>x</a>");
    /// assert!(audit.content().is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn content(&self) -> Vec<Finding> {
        let with_count = |(finding, count): &(Finding, usize)| match *count > 1 {
            true => finding.clone().with_more(&format!(" (and {} more)", count - 1)),
            false => finding.clone(),
        };
        let is_ending = |((code, _), (finding, _)): &(&(Code, String), &(Finding, usize))| {
            *code == Code::LinkRedirects && names_ending(finding)
        };
        let endings: Vec<_> = self.folder.found.iter().filter(is_ending).collect();
        if endings.len() < MIN_ENDINGS {
            return self.folder.found.values().map(with_count).collect();
        }
        let links: usize = endings.iter().map(|(_, (_, count))| count).sum();
        let (first, _) = endings[0].1;
        let what = format!(
            "this build links pages with `.html`: {links} links to {} pages redirect",
            endings.len()
        );
        let one = Finding::at(Code::LinkRedirects, first.place().clone(), what)
            .with_note("each of them costs visitors one more round trip")
            .with_help("write `pages exact` below `site`, or build links without `.html`");
        let others = self.folder.found.iter().filter(|entry| !is_ending(entry));
        std::iter::once(one).chain(others.map(|(_, found)| with_count(found))).collect()
    }
}
