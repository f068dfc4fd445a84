//! What is wrong with a site, or could be better, found before anybody visits it.
//!
//! ```text
//!   Edge ──Audit::new──▶ Audit ──rules, names, read──▶ findings ──report──▶ Report
//!                                  (space: every address)         (accepted ones left out)
//! ```
//!
//! Findings on rules are decided for all URLs; what could not be decided is a finding of
//! its own. Every finding shows a request that the edge itself was asked.

mod accept;
mod chain;
mod content;
mod entry_points;
mod fingerprints;
mod folder;
mod found;
mod headers;
mod lifetimes;
mod links;
mod meeting;
mod missing_folder;
mod needless;
mod pages;
mod reading;
mod referring;
mod sample;
mod scope;
mod shadowing;
mod sitemap;
mod suffix;
mod targets;

pub use accept::Report;
pub use content::{is_build_manifest, reads};
pub use entry_points::{EntryPoint, EntryPointEnd, EntryPoints};
pub use fingerprints::fingerprinted;
pub use sitemap::Sitemap;

use std::cell::{OnceCell, RefCell};
use std::rc::Rc;

use rustc_hash::FxHashMap;

use crate::space::{Member, Memo, Overlaps, RequestSet, Space};
use ravel::address::Request;
use ravel::edge::Edge;
use ravel::expect::{describe, journey};
use ravel::finding::{Finding, FindingPlace};
use ravel::language::Line;
use ravel::program::{RuleId, Stage};
use ravel::rules::{Code, Severity};

/// Endings of pages, of which the URL may have another or none.
const PAGE_ENDINGS: [&str; 7] = [".html", ".htm", ".php", ".asp", ".aspx", ".jsp", ".md"];

/// An address that no site has.
const UNKNOWN: &str = "/no-such/page-1";

/// A site that is looked over.
#[derive(Debug)]
pub struct Audit<'r> {
    space: Space<'r>,
    /// The rules that take the address of a file, with how many and the first.
    hidden: OnceCell<Vec<(RuleId, usize, u32)>>,
    /// Spellings of files that lead to an address which a rule takes.
    moved: OnceCell<Vec<(&'r str, RuleId)>>,
    /// Whether some redirect's target has a query.
    queries_in_targets: OnceCell<bool>,
    /// A file of each name, as somebody could mean it.
    by_name: OnceCell<FxHashMap<String, u32>>,
    /// What each rule of the first stage could act on, after those before it.
    reached: Memo<RequestSet<'r>>,
    /// Whether a rule leads to one address, from where all comes to an end.
    ends: RefCell<FxHashMap<RuleId, bool>>,
    /// The redirects that each leads to.
    meetings: RefCell<FxHashMap<RuleId, Rc<[meeting::Meeting<'r>]>>>,
    folder: found::Folder,
}

/// What a rule still gets.
#[derive(Debug, Clone)]
pub struct Shadowing {
    pub(crate) line: Line,
    pub(crate) example: Request,
    pub(crate) taken_by: Vec<Line>,
}

impl Shadowing {
    /// The rule.
    pub fn line(&self) -> Line {
        self.line
    }

    /// A request with a shortest address that it still gets.
    pub fn example(&self) -> &Request {
        &self.example
    }

    /// The earlier lines that take a part of what it matches.
    pub fn taken_by(&self) -> &[Line] {
        &self.taken_by
    }
}

impl<'r> Audit<'r> {
    /// An audit of an edge's rules and files.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a{/x*} -> /b{/x*}\nredirect /a/c -> /d\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html", "d.html"]));
    /// let findings = ravel_check::Audit::new(&edge).rules();
    /// assert_eq!(findings[0].code().name(), "unreachable-rule");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(edge: &'r Edge) -> Audit<'r> {
        Audit {
            space: Space::new(edge),
            hidden: OnceCell::new(),
            moved: OnceCell::new(),
            queries_in_targets: OnceCell::new(),
            by_name: OnceCell::new(),
            reached: Memo::default(),
            ends: RefCell::default(),
            meetings: RefCell::default(),
            folder: found::Folder::default(),
        }
    }

    /// Everything: rules, names, what the files refer to (`read` gives their bytes, to several
    /// threads at a time), and the entry points, with `also` from
    /// elsewhere; without what is accepted.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let bytes = |_: &str| Ok::<_, std::io::Error>(b"<a href=/nowhere>x</a>".to_vec());
    /// let (report, _) = ravel_check::Audit::new(&edge).all(bytes, Vec::new());
    /// assert!(report.findings().iter().any(|finding| finding.code().name() == "broken-link"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn all<E: std::fmt::Display>(
        &mut self,
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
        also: Vec<Finding>,
    ) -> (Report, EntryPoints) {
        let mut findings = also;
        findings.extend(self.rules());
        self.read_all(read);
        findings.extend(self.take_content());
        // A manifest among the files tells which names are a build's.
        findings.extend(self.names());
        let ways = self.entry_points();
        findings.extend(self.way_findings(&ways));
        (self.report(findings), ways)
    }

    /// Findings on the rules.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// assert!(ravel_check::Audit::new(&edge).rules().is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rules(&self) -> Vec<Finding> {
        let mut out = Vec::new();
        let idle = self.never_acting(&mut out);
        self.crowded(&mut out);
        self.redirects(&idle, &mut out);
        self.needless(&mut out);
        self.shown_files(&mut out);
        self.header_rules(&mut out);
        self.promises(&mut out);
        out
    }

    /// Findings on the names of the files.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "404.html"]));
    /// assert!(ravel_check::Audit::new(&edge).names().is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn names(&self) -> Vec<Finding> {
        let mut out = Vec::new();
        self.folder_names(&mut out);
        self.kept_files(&mut out);
        out
    }

    /// What every rule but `headers` still gets, where it gets anything and that is decided.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/b -> /c\nredirect /a/{x} -> /d\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
    /// let shadowings = ravel_check::Audit::new(&edge).shadowings();
    /// assert_eq!(shadowings[1].taken_by()[0].number(), 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn shadowings(&self) -> Vec<Shadowing> {
        let mut remainders = Vec::new();
        for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing] {
            for (number, rule) in (0..).zip(self.space.rules(stage)) {
                if let shadowing::RuleRemainder::Something(example, taken_by) =
                    self.left(stage, number, rule)
                {
                    remainders.push(Shadowing { line: rule.line(), example, taken_by });
                }
            }
        }
        remainders.sort_by_key(|remainder| remainder.line);
        remainders
    }

    fn edge(&self) -> &'r Edge {
        self.space.edge()
    }

    fn overlaps(&self, stage: Stage) -> &Overlaps {
        self.space.overlaps(stage)
    }

    /// A line as people name it.
    fn name(&self, line: Line) -> String {
        self.edge().rules().line_name(line)
    }

    /// The line of a rule.
    fn line(&self, rule: RuleId) -> Line {
        self.edge().program().rule(rule).line()
    }

    /// The line of a rule as people name it.
    fn name_of(&self, rule: RuleId) -> String {
        self.name(self.line(rule))
    }

    /// An address as a rules file would write it: without the canonical origin.
    fn short<'u>(&self, url: &'u str) -> &'u str {
        let site = self.edge().site();
        let rest = url.strip_prefix(site.scheme().as_str());
        let rest =
            rest.and_then(|rest| rest.strip_prefix("://")?.strip_prefix(site.host().as_str()));
        rest.filter(|rest| rest.starts_with('/')).unwrap_or(url)
    }

    /// What a request gets, in words.
    fn gets(&self, request: &Request) -> String {
        let walk = self.edge().walk_unexplained(request);
        let text = match walk.hops() {
            0 => describe(walk.first().answer()),
            _ => journey(&walk),
        };
        match walk.first().answer().line() {
            Some(line) => format!("{text}, by {}", self.name(line)),
            None => text,
        }
    }

    fn space_member(&self, set: &RequestSet<'r>) -> Option<Box<Request>> {
        match set.shortest(&self.space) {
            Member::Shortest(request) => Some(request),
            Member::None | Member::Undecided => None,
        }
    }

    fn addresses_below(&self, text: &str) -> impl Iterator<Item = &'r str> {
        self.space.addresses_below(text)
    }

    /// The address of a file that somebody who wrote this URL most likely meant: of the same name,
    /// in another folder, in another case, or a page with another ending. One that is only spelled
    /// alike is another page.
    fn nearest_page(&self, url: &str) -> Option<String> {
        let edge = self.edge();
        let by_name = self.by_name.get_or_init(|| {
            let mut by_name = FxHashMap::default();
            for file in 0..edge.files().names().len() as u32 {
                if let Some(name) = name_of(edge.own_address(file)) {
                    by_name.entry(name).or_insert(file);
                }
            }
            by_name
        });
        let wanted = name_of(self.short(url.split(['?', '#']).next()?))?;
        let found = edge.own_address(*by_name.get(&wanted)?);
        let base = &edge.site().base();
        Some(format!("{}{found}", &base[..base.len() - 1]))
    }

    /// What to write instead of an address where nothing is.
    fn or_nearest(&self, url: &str, otherwise: &str) -> String {
        self.nearest_page(url)
            .map_or(otherwise.to_owned(), |page| format!("did you mean `{page}`?"))
    }

    /// A request for an address below the base path, at the canonical origin.
    fn request_below(&self, address: &str) -> Option<Request> {
        Request::get(&format!("{}{address}", self.edge().site().url().trim_end_matches('/'))).ok()
    }

    fn names_a_file(&self, path: &str) -> bool {
        self.edge().file_of(path).is_some()
    }

    fn not_decided(&self, line: Line, what: String) -> Finding {
        Finding::on(Code::Undecided, line, format!("undecided: {what}"))
            .with_note("checking every URL would take too long")
            .with_help(
                "narrow what its captures match with `where`, or ask single URLs with `ravel explain`",
            )
    }
}

/// The name of what a path leads to, without its case and the ending of a page.
fn name_of(path: &str) -> Option<String> {
    let last = path.trim_end_matches('/').rsplit('/').next()?.to_ascii_lowercase();
    let page = PAGE_ENDINGS.iter().find_map(|ending| last.strip_suffix(ending));
    let name = page.unwrap_or(&last).to_owned();
    (!name.is_empty()).then_some(name)
}
