//! The first rules of a site, asked of the same edge and checks as any rules.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use ravel::edit::Edit;
use ravel::finding::{Finding, FindingPlace};
use ravel::language::format;
use ravel::rules::Code;
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_check::{Audit, verify_all};
use url::Url;

use crate::base;
use crate::expectations::expectations;
use crate::forms::page_form;
use crate::moves::{Move, OldSite, SURE, moves};
use crate::security::{count, policy};
use crate::shapes::shapes;
use crate::statements::{Statement, comment, text_of};
use crate::survey::Survey;

/// So often what the checks say to write is written.
const MAX_ROUNDS: usize = 4;

/// The first rules of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Draft {
    rules: String,
}

/// Why there is no draft.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum DraftError {
    /// The URL is not one that a site can have.
    Url(String),
    /// No file is a page.
    NoPages,
    /// The build was made for another base path: this one, of the URL, fits so many references from
    /// the root of the host, and that one so many, of all.
    OtherBase {
        /// The URL as it was given.
        url: String,
        /// The URL with the base path of the build.
        fitting: String,
        /// References that fit the URL, that fit the other, and all.
        references: [usize; 3],
    },
    /// The rules that were made cannot be read, which is a mistake here.
    Rules(String),
}

impl fmt::Display for DraftError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DraftError::Url(why) => f.write_str(why),
            DraftError::NoPages => {
                f.write_str("there is no HTML page; name the folder that the build makes")
            }
            DraftError::OtherBase { url, fitting, references: [own, other, all] } => write!(
                f,
                "the build was made for another base path: of {all} references from `/`, {own} name a file \
                 below {url}, and {other} below {fitting}; draft it at {fitting}, or build it for {url}"
            ),
            DraftError::Rules(why) => write!(f, "the draft cannot be read: {why}"),
        }
    }
}

impl std::error::Error for DraftError {}

impl Draft {
    /// Drafts the rules of a site at a URL, from the names of its built files, in a folder as the
    /// rules name it, and their bytes.
    ///
    /// ```
    /// let page = |_: &str| Ok::<_, String>(b"<p>Hello".to_vec());
    /// let draft = ravel_draft::Draft::of("https://h.example/", "dist", &["index.html"], page)?;
    /// assert!(draft.rules().contains("expect / serves /index.html"));
    /// # Ok::<(), ravel_draft::DraftError>(())
    /// ```
    ///
    /// # Errors
    /// A URL that is not one of a site, no page, a build for another base path.
    pub fn of<N: AsRef<str>, E: fmt::Display>(
        url: &str,
        folder: &str,
        names: &[N],
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
    ) -> Result<Draft, DraftError> {
        Draft::after(url, folder, names, read, &OldSite::default())
    }

    /// The same, with redirects for the URLs of the site before that are missing now: by what pages
    /// say, or by the words of their paths. What is not sure is a comment.
    ///
    /// ```
    /// let text = "<p>The ferry leaves at noon from the old pier, and comes back at six.";
    /// let page = |_: &str| Ok::<_, String>(text.as_bytes().to_vec());
    /// let old = ravel_draft::OldSite::of_build("https://h.example/", &["times.html"], page);
    /// let new = &["index.html", "timetable.html"];
    /// let read = |name: &str| if name == "index.html" { Ok(Vec::new()) } else { page(name) };
    /// let draft = ravel_draft::Draft::after("https://h.example/", "dist", new, read, &old)?;
    /// assert!(draft.rules().contains("/times -> /timetable"));
    /// # Ok::<(), ravel_draft::DraftError>(())
    /// ```
    ///
    /// # Errors
    /// As [`Draft::of`].
    pub fn after<N: AsRef<str>, E: fmt::Display>(
        url: &str,
        folder: &str,
        names: &[N],
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
        old: &OldSite,
    ) -> Result<Draft, DraftError> {
        let url = site_url(url)?;
        let files: FileList = names.iter().map(AsRef::as_ref).collect();
        let survey = Survey::of(files.names().iter().map(|name| &**name), &read);
        if survey.pages.is_empty() {
            return Err(DraftError::NoPages);
        }
        let (own, best) = base::fits(&survey, url.path());
        if best.fits > own.fits * 2 && best.fits > 1 {
            let mut fitting = url.clone();
            fitting.set_path(&best.base);
            return Err(DraftError::OtherBase {
                url: url.to_string(),
                fitting: fitting.to_string(),
                references: [own.fits, best.fits, own.all],
            });
        }
        let drafting = Drafting { url: &url, survey: &survey, files: &files };
        let mut text = drafting.site(folder, &own);
        let statements = drafting.statements(&drafting.edge(&text)?);
        text = format!("{text}\n{}", text_of(&statements));
        text = drafting.with_advice(text, &read)?;
        text += &drafting.moves(&text, old)?;
        let edge = drafting.edge(&text)?;
        let expected = expectations(&edge);
        if !expected.is_empty() {
            text = format!("{}\n\n{}", text.trim_end(), text_of(&expected));
        }
        let text = format(&text).map_err(|problems| DraftError::Rules(format!("{problems:?}")))?;
        let edge = drafting.edge(&text)?;
        match verify_all(&edge).iter().find(|verdict| !verdict.holds()) {
            None => Ok(Draft { rules: text }),
            Some(verdict) => Err(DraftError::Rules(format!("`{}` does not hold", verdict.asked()))),
        }
    }

    /// The text of the rules file.
    pub fn rules(&self) -> &str {
        &self.rules
    }
}

fn site_url(text: &str) -> Result<Url, DraftError> {
    let rules = Rules::parse(&format!("site {text}\n"));
    let why = |problems: &dyn fmt::Display| {
        DraftError::Url(format!("`{text}` is not the URL of a site: {problems}"))
    };
    let rules = rules.map_err(|problems| why(&problems))?;
    Url::parse(&rules.site().url()).map_err(|error| why(&error))
}

struct Drafting<'d, 'n> {
    url: &'d Url,
    survey: &'d Survey<'n>,
    files: &'d FileList,
}

impl Drafting<'_, '_> {
    fn edge(&self, text: &str) -> Result<Edge, DraftError> {
        let rules =
            Rules::parse(text).map_err(|problems| DraftError::Rules(problems.to_string()))?;
        Ok(Edge::new(&rules, self.files.clone()))
    }

    /// The statement `site`, with its settings.
    fn site(&self, folder: &str, fit: &base::BaseFit) -> String {
        let pages = self.survey.pages.len();
        let mut text = comment(
            &format!(
                "Drafted from {} and {}.",
                count(pages, "page", "pages"),
                count(self.files.names().len() - pages, "other file", "other files")
            ),
            "",
        );
        if fit.fits > 0 {
            let below = format!(
                "{} of {} references from `/` name a file below this base path.",
                fit.fits, fit.all
            );
            text += &comment(&below, "");
        }
        text += &format!("site {}\n  files {folder}\n", self.url);
        let host = self.url.host_str().unwrap_or_default();
        let other = host.strip_prefix("www.").map_or_else(|| format!("www.{host}"), str::to_owned);
        let stated = self.stated_hosts();
        let is_name = host.contains('.')
            && !host.ends_with(']')
            && host.parse::<std::net::Ipv4Addr>().is_err();
        if is_name {
            let why = match stated.get(&other) {
                Some(times) => {
                    format!("{} state it as their own host.", count(*times, "page", "pages"))
                }
                None => "People type it; take it out where the domain has no such host.".to_owned(),
            };
            text += &format!("{}  alias {other}\n", comment(&why, "  "));
        }
        for (name, times) in stated.iter().filter(|(name, _)| **name != host && **name != other) {
            let pages = count(*times, "page states", "pages state");
            text += &comment(
                &format!("{pages} {name} as their own host: an alias, or a mistake of the build?"),
                "  ",
            );
        }
        let form = page_form(self.survey, self.url.as_str(), self.files);
        if form.name != "tidy" {
            let why =
                format!("{} of {} links to pages are answered at once so.", form.direct, form.all);
            text += &format!("{}  pages {}\n", comment(&why, "  "), form.name);
        } else if form.all > 0 {
            text += &comment(
                &format!(
                    "{} of {} links to pages are answered at once by tidy URLs, without endings.",
                    form.direct, form.all
                ),
                "  ",
            );
        }
        if let Some(page) = ["404.html", "404/index.html", "not-found.html"]
            .into_iter()
            .find(|name| self.survey.pages.contains_key(name))
        {
            text += &format!("  # The build has a 404 page.\n  missing /{page}\n");
        }
        let languages = self.languages();
        if languages.len() > 1 && !self.survey.pages.contains_key("index.html") {
            text += &format!(
                "  # Folders of pages in these languages.\n  languages {}\n",
                languages.join(", ")
            );
        }
        text
    }

    /// The hosts that pages state as their own, with how many do.
    fn stated_hosts(&self) -> BTreeMap<String, usize> {
        let mut hosts: BTreeMap<String, usize> = BTreeMap::new();
        for page in self.survey.pages.values() {
            let stated: BTreeSet<String> = page
                .own
                .iter()
                .filter_map(|url| Some(Url::parse(url).ok()?.host_str()?.to_owned()))
                .collect();
            for host in stated {
                *hosts.entry(host).or_default() += 1;
            }
        }
        hosts
    }

    /// The languages that have a folder of their own, with an index, which says so itself.
    fn languages(&self) -> Vec<String> {
        let folders = self.survey.pages.iter().filter_map(|(name, page)| {
            let folder = name.strip_suffix("/index.html").filter(|folder| !folder.contains('/'))?;
            let language = page.language.as_deref()?;
            language.eq_ignore_ascii_case(folder).then(|| folder.to_owned())
        });
        let mut folders: Vec<String> = folders.collect();
        // English comes first where it is there: most who want none of the others read it.
        folders.sort_by_key(|folder| (!folder.starts_with("en"), folder.clone()));
        folders
    }

    /// Redirects that the pages make themselves, to languages, and headers.
    fn statements(&self, edge: &Edge) -> Vec<Statement> {
        let mut statements = Vec::new();
        let languages = self.languages();
        if languages.len() > 1 && !self.survey.pages.contains_key("index.html") {
            let mut text: String = languages[1..]
                .iter()
                .map(|tag| format!("redirect / -> /{tag}/\n  when language is {tag}\n"))
                .collect();
            text += &format!("redirect / -> /{}/\n", languages[0]);
            statements
                .push(Statement::new("There is no page at `/`, and one for each language.", text));
        }
        statements.extend(self.refreshes(edge));
        let policy = policy(self.survey, self.url.host_str().unwrap_or_default());
        let text = format!(
            "headers {{/any*}} on all type text/html\n  set content-security-policy: {}\n",
            policy.value
        );
        let mut security = Statement::new("The tightest policy for what the pages load.", text);
        security.evidence.extend(policy.evidence.into_iter().map(sentence));
        statements.push(security);
        statements.push(Statement::new(
            "Types are what the server says, and other sites learn no paths.",
            "headers {/any*} on all\n  set x-content-type-options: nosniff\n  set referrer-policy: strict-origin-when-cross-origin\n",
        ));
        statements
    }

    /// Redirects of pages that only lead on, to where the visitor ends.
    fn refreshes(&self, edge: &Edge) -> Option<Statement> {
        let mut leads: BTreeMap<String, Url> = BTreeMap::new();
        for (name, page) in &self.survey.pages {
            let (Some(to), Some(file)) = (&page.refresh, edge.number_of(name)) else { continue };
            // The 404 page is shown at other URLs.
            let missing = edge.site().missing();
            if missing.is_some_and(|(path, _)| edge.file_of(path) == Some(name)) {
                continue;
            }
            let target = Url::parse(&edge.url_of(file)).ok().and_then(|own| own.join(to).ok());
            leads.extend(target.map(|target| (edge.own_address(file).to_owned(), target)));
        }
        let site = edge.site().url();
        let below = |url: &Url| {
            let rest = url.as_str().strip_prefix(site.trim_end_matches('/'))?;
            rest.starts_with('/').then(|| rest.to_owned())
        };
        let mut statement = Statement::new(
            "Pages that only lead on, by `meta refresh`, lead on at once.",
            String::new(),
        );
        for (from, first) in &leads {
            let mut target = first.clone();
            let mut hops = 0;
            let to = loop {
                let Some(path) = below(&target) else { break Some(target.to_string()) };
                let Ok(request) = Request::get(target.as_str()) else { break None };
                let walk = edge.walk_unexplained(&request);
                let Ok(end) = Url::parse(walk.url()) else { break None };
                match below(&end).and_then(|end| leads.get(&end)) {
                    Some(next) => target = next.clone(),
                    None if walk.outcome() == Outcome::File => break below(&end).or(Some(path)),
                    None => break None,
                }
                hops += 1;
                if hops > leads.len() {
                    break None;
                }
            };
            let is_plain = |text: &str| !text.contains(['{', '}', ' ', '"']);
            match to.filter(|to| to != from && is_plain(to) && is_plain(from)) {
                Some(to) => {
                    statement.text += &format!(
                        "redirect {from} -> {to}\n  accept shadowed-file \"the page itself only leads \
                     there\"\n"
                    )
                }
                None => {
                    statement.evidence.push(format!("{from} leads on to {first}, and to no page."))
                }
            }
        }
        (!statement.text.is_empty()).then_some(statement)
    }

    /// What a statement rests on that a finding asks for.
    fn evidence(&self, finding: &Finding) -> String {
        match (finding.code(), finding.place()) {
            (Code::AppWithoutFallback, FindingPlace::File { name, .. }) => {
                let router = match self.survey.has_router {
                    true => "are the app's own? Narrow the pattern if not all of them.",
                    false => "it reads is not seen: take this out if it has no router.",
                };
                format!(
                    "`{name}` is a single-page app: its scripts fill an empty element. Which paths \
                     below {router}"
                )
            }
            _ => sentence(finding.message().to_owned()),
        }
    }

    /// The rules with all that the checks say to write, each with why.
    fn with_advice<E: fmt::Display>(
        &self,
        mut text: String,
        read: &(impl Fn(&str) -> Result<Vec<u8>, E> + Sync),
    ) -> Result<String, DraftError> {
        for _ in 0..MAX_ROUNDS {
            let edge = self.edge(&text)?;
            let (report, _) = Audit::new(&edge).all(read, Vec::new());
            let mut advice: Vec<(&Finding, &str)> = report
                .findings()
                .iter()
                .filter(|finding| is_advice(finding))
                .flat_map(|finding| finding.edits().iter().map(move |edit| (finding, edit)))
                .filter_map(|(finding, edit)| match edit {
                    Edit::AtEnd { text } => Some((finding, text.as_str())),
                    _ => None,
                })
                .collect();
            // What is deeper comes first, or nothing would be left for it; an index file speaks for
            // its folder.
            advice.sort_by_key(|(finding, _)| place_order(finding));
            let before = text.len();
            for (finding, more) in advice {
                let head = more.split(" -> ").next().unwrap_or(more);
                if !text.contains(&format!("\n{head}")) {
                    text += &format!("\n{}{more}", comment(&self.evidence(finding), ""));
                }
            }
            if text.len() == before {
                break;
            }
        }
        Ok(text)
    }
}

impl Drafting<'_, '_> {
    /// Redirects for old URLs that are missing.
    fn moves(&self, text: &str, old: &OldSite) -> Result<String, DraftError> {
        if old.is_empty() {
            return Ok(String::new());
        }
        let edge = self.edge(text)?;
        let (moves, lost) = moves(old, self.survey, &edge);
        let urls: Vec<&str> =
            moves.iter().map(|one| &*one.from).chain(lost.iter().map(String::as_str)).collect();
        let is_plain = |one: &&Move| !one.from.contains(['{', '}', ' ', '"', '#', '?']);
        let (sure, unsure): (Vec<&Move>, Vec<&Move>) =
            moves.iter().partition(|one| one.score >= SURE && is_plain(one));
        let (shapes, rows) = shapes(sure, &urls, &edge);
        let mut statements = Vec::new();
        for (shape, group) in &shapes {
            let least = group.iter().map(|one| one.score).fold(1.0, f64::min);
            let evidence = format!(
                "{} old URLs of this shape have such a page, alike by {least:.2} at least, as {}.",
                group.len(),
                group[0].from
            );
            statements.push(Statement::new(evidence, shape.statement()));
        }
        if !rows.is_empty() {
            let lines: String = rows
                .iter()
                .map(|one| {
                    format!("  {} -> {}  # {}, {:.2}\n", one.from, one.to, one.why, one.score)
                })
                .collect();
            let what = "Old URLs, and the page that each has gone to.";
            statements.push(Statement::new(what, format!("redirect permanent\n{lines}")));
        }
        let mut text = String::new();
        if !statements.is_empty() {
            text = format!("\n{}", text_of(&statements));
        }
        if !unsure.is_empty() {
            text += "\n# Not sure enough for a rule: take away the `#` where it is right.\n";
            for one in unsure {
                text += &format!(
                    "# redirect {} -> {} permanent  # {}, {:.2}\n",
                    one.from, one.to, one.why, one.score
                );
            }
        }
        if !lost.is_empty() {
            let first: Vec<&str> = lost.iter().take(5).map(String::as_str).collect();
            let more = if lost.len() > 5 { ", …" } else { "" };
            let what = format!(
                "{} no page that is like {}: {}{more}",
                count(lost.len(), "old URL has", "old URLs have"),
                if lost.len() == 1 { "it" } else { "them" },
                first.join(", ")
            );
            text += &format!("\n{}", comment(&what, ""));
        }
        Ok(text)
    }
}

/// Deeper folders first, and of one folder its index file.
fn place_order(finding: &Finding) -> (Reverse<usize>, bool, String) {
    let FindingPlace::File { name, .. } = finding.place() else {
        return (Reverse(0), false, String::new());
    };
    let is_index = name.rsplit('/').next() == Some("index.html");
    (Reverse(name.matches('/').count()), !is_index, name.to_string())
}

/// Whether a finding says what to write at the end of the rules, about what the build is.
fn is_advice(finding: &Finding) -> bool {
    matches!(finding.code(), Code::AppWithoutFallback | Code::AssetNotCached)
        && !finding.edits().is_empty()
        && finding.edits().iter().all(|edit| matches!(edit, Edit::AtEnd { .. }))
}

fn sentence(mut text: String) -> String {
    if let Some(first) = text.get(..1).map(str::to_ascii_uppercase) {
        text.replace_range(..1, &first);
    }
    if !text.ends_with(['.', '?']) {
        text.push('.');
    }
    text
}
