//! What is found in built files, one finding for each cause.

use std::collections::hash_map::Entry;

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Audit, Code, Finding, FindingPlace};
use ravel::edit::Edit;
use ravel::language::Line;

/// What was found in files so far: one finding for each address, with the files that name it.
#[derive(Debug, Default)]
pub(super) struct Folder {
    found: Vec<FileFinding>,
    /// Which of them is about an address.
    by_address: FxHashMap<(Code, String), usize>,
    /// How often something was found, the same included.
    pub(super) total: usize,
    /// Targets of references on which nothing is found, as URLs and as they are written: of links,
    /// and of assets.
    pub(super) fine: [FxHashSet<String>; 2],
    /// Names that a build's manifest says it made.
    pub(super) built: FxHashSet<String>,
}

/// A finding on one address.
#[derive(Debug, Clone)]
struct FileFinding {
    finding: Finding,
    /// How often it was found.
    count: usize,
    /// Two more files that it was found in, the last, and how many there are in all.
    files: Vec<Box<str>>,
    file_count: usize,
    /// What else to change, if all of it can be.
    edits: Vec<Edit>,
    can_edit: bool,
}

/// So many files are named.
const NAMED: usize = 3;

/// So many pages that are linked with the ending of their files have one cause: how the site is
/// built.
const MIN_ENDINGS: usize = 5;

/// Findings that pages named with `.html` are: what such a build does, what redirects, and the note.
const ENDINGS: [(Code, &str, &str, &str); 2] = [
    (
        Code::LinkRedirects,
        "links pages",
        "links to",
        "each of them costs visitors one more round trip",
    ),
    (
        Code::CanonicalMismatch,
        "states the URLs of pages",
        "canonical links and sitemap entries of",
        "search engines are sent to other URLs than those that show the pages",
    ),
];

impl FileFinding {
    fn new(finding: Finding) -> FileFinding {
        let can_edit = !finding.edits().is_empty();
        let (files, edits) = (Vec::new(), Vec::new());
        FileFinding { finding, count: 1, files, file_count: 1, edits, can_edit }
    }

    /// Whether it names the file of a page, of which the URL has no ending.
    fn names_ending(&self) -> bool {
        let example = self.finding.example().map_or("", |example| example.url());
        let is_page = example.split(['?', '#']).next().is_some_and(|path| path.ends_with(".html"));
        is_page && self.finding.message().contains("redirects")
    }

    /// Takes in the same finding at another place.
    fn add(&mut self, finding: &Finding) {
        // What is to change of the one is to change of all.
        self.can_edit &= !finding.edits().is_empty();
        self.edits.extend_from_slice(finding.edits());
        self.count += 1;
        // Files come one after another.
        let (file, first) = (file_of(finding), file_of(&self.finding));
        let last = self.files.last().map_or(first, |file| &**file);
        if file != last {
            self.file_count += 1;
            if self.files.len() < NAMED {
                self.files.push(file.into());
            } else {
                self.files[NAMED - 1] = file.into();
            }
        }
    }

    /// The finding, with what is to change at all places.
    fn edited(self) -> Finding {
        match self.can_edit {
            true => self.finding.with_edits(self.edits),
            false => self.finding.without_edits(),
        }
    }

    /// The finding, with how often it is so.
    fn told(mut self) -> Finding {
        let files = std::mem::take(&mut self.files);
        let (file_count, count) = (self.file_count, self.count);
        let finding = self.edited();
        match (file_count, count) {
            (1, 1) => finding,
            (1, count) => finding.with_more(&format!(" (and {} more)", count - 1)),
            (all, _) => {
                let more = if all > NAMED { ", …" } else { "" };
                let others = files.iter().take(NAMED - 1).map(|file| &**file);
                let named: Vec<&str> = std::iter::once(file_of(&finding)).chain(others).collect();
                let told = format!(", in {all} files: {}{more}", named.join(", "));
                finding.with_more(&told)
            }
        }
    }
}

impl Folder {
    /// Adds a finding on an address.
    pub(super) fn add(&mut self, key: &str, finding: Finding) {
        self.total += 1;
        let next = self.found.len();
        let number = *self.by_address.entry((finding.code(), key.to_owned())).or_insert(next);
        if number == next {
            return self.found.push(FileFinding::new(finding));
        }
        self.found[number].add(&finding);
    }
}

/// The built file that a finding is in.
fn file_of(finding: &Finding) -> &str {
    match finding.place() {
        FindingPlace::File { name, .. } => name,
        _ => "",
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
        self.told(self.folder.found.clone())
    }

    /// The same, of which no more is found.
    pub(super) fn take_content(&mut self) -> Vec<Finding> {
        let found = std::mem::take(&mut self.folder.found);
        self.folder.by_address.clear();
        self.told(found)
    }

    /// Findings as they are told: one for each cause.
    fn told(&self, found: Vec<FileFinding>) -> Vec<Finding> {
        let mut findings = Vec::new();
        let mut one_cause: Vec<Code> = Vec::new();
        for (code, does, what, note) in ENDINGS {
            let of_code = found.iter().filter(|found| found.finding.code() == code);
            let endings: Vec<&FileFinding> = of_code.filter(|found| found.names_ending()).collect();
            if endings.len() < MIN_ENDINGS {
                continue;
            }
            let count: usize = endings.iter().map(|found| found.count).sum();
            let message = format!(
                "this build {does} with `.html`: {count} {what} {} pages redirect",
                endings.len()
            );
            let site = self.edge().site();
            let exact = match site.pages_line() {
                Some(line) => Edit::OnLine { line, from: "tidy".into(), to: "exact".into() },
                None => Edit::Below { line: site.line(), text: "  pages exact".into() },
            };
            let finding = Finding::at(code, endings[0].finding.place().clone(), message)
                .with_note(note)
                .with_help("write `pages exact` below `site`, or build them without `.html`");
            findings.push(finding.with_edits([exact]));
            one_cause.push(code);
        }
        let is_told =
            |found: &FileFinding| one_cause.contains(&found.finding.code()) && found.names_ending();
        findings.extend(found.into_iter().filter(|found| !is_told(found)).map(FileFinding::told));
        findings
    }

    /// The same finding on rows of one statement is one: that of the first.
    pub(super) fn one_a_statement(&self, findings: &mut Vec<Finding>, code: Code, help: &str) {
        let rules = self.edge().rules();
        let mut first: FxHashMap<Line, FileFinding> = FxHashMap::default();
        findings.retain(|finding| {
            let FindingPlace::Line(line) = finding.place() else { return true };
            if finding.code() != code {
                return true;
            }
            match first.entry(rules.statement_of(*line)) {
                Entry::Occupied(mut known) => known.get_mut().add(finding),
                Entry::Vacant(free) => drop(free.insert(FileFinding::new(finding.clone()))),
            }
            false
        });
        findings.extend(first.into_values().map(|found| match found.count - 1 {
            0 => found.edited(),
            more => {
                let finding = found.edited().with_more(&format!(" (and {more} more alike)"));
                let all = format!("{}, {help}", finding.help().unwrap_or_default());
                finding.with_help(all)
            }
        }));
    }
}
