//! The statement `site` and what pages ask for: languages, refreshes, headers.

use std::collections::{BTreeMap, BTreeSet};

use ravel::{Edge, FileList, Outcome, Request, Rules};
use url::Url;

use crate::DraftError;
use crate::base::BaseFit;
use crate::forms::page_form;
use crate::security::{count, policy};
use crate::statements::{Statement, comment, sentence};
use crate::survey::Survey;

/// What a draft is made of.
pub(crate) struct Drafting<'d, 'n> {
    pub(crate) url: &'d Url,
    pub(crate) survey: &'d Survey<'n>,
    pub(crate) files: &'d FileList,
}

impl Drafting<'_, '_> {
    pub(crate) fn edge(&self, text: &str) -> Result<Edge, DraftError> {
        let rules =
            Rules::parse(text).map_err(|problems| DraftError::Rules(problems.to_string()))?;
        Ok(Edge::new(&rules, self.files.clone()))
    }

    /// The statement `site`, with its settings.
    pub(crate) fn site(&self, folder: &str, fit: &BaseFit) -> String {
        let pages = self.survey.pages.len();
        let mut text = comment(
            &format!(
                "Drafted from {} and {}.",
                count(pages, "page", "pages"),
                count(self.files.names().len() - pages, "other file", "other files")
            ),
            "",
        );
        if let Some(first) = self.survey.unread.first() {
            let files = count(self.survey.unread.len(), "file", "files");
            text += &comment(&format!("{files} could not be read, as {first}."), "");
        }
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
        let says = |(pages, in_sitemap): &(usize, bool)| match (pages, in_sitemap) {
            (0, _) => "The sitemap states".to_owned(),
            (pages, false) => count(*pages, "page states", "pages state"),
            (pages, true) => format!("{} and the sitemap state", count(*pages, "page", "pages")),
        };
        let is_name = host.contains('.')
            && !host.ends_with(']')
            && host.parse::<std::net::Ipv4Addr>().is_err();
        if is_name {
            let why = match stated.get(&other) {
                Some(stated) => format!("{} it as their own host.", says(stated)),
                None => "People type it; take it out where the domain has no such host.".to_owned(),
            };
            text += &format!("{}  alias {other}\n", comment(&why, "  "));
        }
        for (name, by) in stated.iter().filter(|(name, _)| **name != host && **name != other) {
            let question = "as their own host: an alias, or a mistake of the build?";
            text += &comment(&format!("{} {name} {question}", says(by)), "  ");
        }
        let form = page_form(self.survey, self.url.as_str(), self.files);
        let links = match self.survey.sitemap.is_empty() {
            true => "links to pages",
            false => "links to pages and URLs in sitemaps",
        };
        let how = if form.name == "tidy" { "by tidy URLs, without endings" } else { "so" };
        let evidence =
            format!("{} of {} {links} are answered at once {how}.", form.direct, form.all);
        if form.all > 0 {
            text += &comment(&evidence, "  ");
        }
        if form.name != "tidy" {
            text += &format!("  pages {}\n", form.name);
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

    /// The hosts that pages state as their own, with how many do, and whether a sitemap does.
    fn stated_hosts(&self) -> BTreeMap<String, (usize, bool)> {
        let host = |url: &String| Some(Url::parse(url).ok()?.host_str()?.to_owned());
        let mut hosts: BTreeMap<String, (usize, bool)> =
            self.survey.sitemap.iter().filter_map(host).map(|host| (host, (0, true))).collect();
        for page in self.survey.pages.values() {
            let stated: BTreeSet<String> = page.own.iter().filter_map(host).collect();
            for host in stated {
                hosts.entry(host).or_default().0 += 1;
            }
        }
        hosts
    }

    /// The languages that have a folder of their own, with an index: it says so itself, or others
    /// do.
    fn languages(&self) -> Vec<String> {
        let alternates = self.alternates();
        let folders = self.survey.pages.iter().filter_map(|(name, page)| {
            let folder = name.strip_suffix("/index.html").filter(|folder| !folder.contains('/'))?;
            let itself = page.language.iter();
            let by_others = alternates.iter().filter(|(_, to)| *to == folder).map(|(tag, _)| *tag);
            let mut tags = itself.chain(by_others);
            tags.any(|tag| tag.eq_ignore_ascii_case(folder)).then(|| folder.to_owned())
        });
        let mut folders: Vec<String> = folders.collect();
        let default = alternates.iter().find(|(tag, _)| *tag == "x-default").map(|(_, to)| *to);
        // English comes next where it is there: most who want none of the others read it.
        folders.sort_by_key(|folder| {
            (Some(&**folder) != default, !folder.starts_with("en"), folder.clone())
        });
        folders
    }

    /// What pages say of others' languages, each with the folder right below the site's URL.
    fn alternates(&self) -> BTreeSet<(&String, &str)> {
        let base = self.url.path();
        let all = self.survey.pages.values().flat_map(|page| &page.alternates);
        let folders = all.filter_map(|(tag, url)| {
            let from_host = url
                .split_once("://")
                .map_or(&**url, |(_, rest)| rest.find('/').map_or("", |at| &rest[at..]));
            let below = from_host.strip_prefix(base)?;
            Some((tag, below.split('/').next()?))
        });
        folders.collect()
    }

    /// Redirects that the pages make themselves, to languages, and headers.
    pub(crate) fn statements(&self, edge: &Edge) -> Vec<Statement> {
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
}
