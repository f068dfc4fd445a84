//! Which page stands where: what leads on, what is shown under another name, what is left out.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use ravel::Outcome;
use ravel::address::decode;
use ravel::edge::{Edge, RouteEnd};
use ravel::files::is_known_type;
use ravel::program::{Effect, RuleId, RuleRef, Stage};

use super::MISSING;
use super::host::{FileHost, Shown};
use crate::urls::{SiteUrls, VisitEnd, looks_at_visitor, path_of};

/// The longest name of a file or a folder that file systems take, in bytes.
const MAX_NAME_BYTES: usize = 255;
/// The longest name with its folders, so that there is room for the folder it is put into.
const MAX_PATH_BYTES: usize = 900;

/// The files of a host, and for which rules some were made.
pub(super) struct Placement<'e> {
    urls: SiteUrls<'e>,
    host: FileHost,
    left_out: BTreeSet<String>,
    /// Files of the site that are not there, or not their own, by the rules that hide them.
    hidden: HashMap<RuleId, Vec<String>>,
    /// The page that was made for a rule, and stands where its one URL is.
    places: HashMap<RuleId, String>,
    /// Names that file systems do not take, by their rules.
    too_long: HashMap<RuleId, usize>,
}

/// A page that rules want at a place.
struct WantedPage {
    shown: Shown,
    rules: Vec<RuleId>,
    /// Rules want different pages there.
    disputed: bool,
}

impl<'e> Placement<'e> {
    pub(super) fn new(edge: &'e Edge) -> Placement<'e> {
        let mut host = FileHost::default();
        for name in edge.files().names() {
            host.put(name, Shown::Site);
        }
        let mut placement = Placement {
            urls: SiteUrls::new(edge),
            host,
            left_out: BTreeSet::new(),
            hidden: HashMap::new(),
            places: HashMap::new(),
            too_long: HashMap::new(),
        };
        placement.hide();
        placement.make();
        placement.give_folders_an_index();
        placement.host.put(MISSING, Shown::Missing);
        placement
    }

    pub(super) fn urls(&self) -> &SiteUrls<'e> {
        &self.urls
    }

    pub(super) fn host(&self) -> &FileHost {
        &self.host
    }

    pub(super) fn left_out(&self) -> &BTreeSet<String> {
        &self.left_out
    }

    /// The page that was made for a rule.
    pub(super) fn place(&self, rule: RuleId) -> Option<&str> {
        self.places.get(&rule).map(String::as_str)
    }

    /// The files of the site that a rule hides, and that are replaced or left out for it.
    pub(super) fn hidden(&self, rule: RuleId) -> &[String] {
        self.hidden.get(&rule).map_or(&[], Vec::as_slice)
    }

    /// How many bytes the name of a rule's page would have, where that is too many.
    pub(super) fn too_long(&self, rule: RuleId) -> Option<usize> {
        self.too_long.get(&rule).copied()
    }

    /// Whether no visitor of a rule's URLs meets `404.html`, so that it need not know the rule.
    pub(super) fn replaces(&self, rule: RuleRef<'_>) -> bool {
        let site = self.urls.edge().site();
        // Hosts tell cases apart, and their folder is below one base path.
        let elsewhere = site.aliases().iter().any(|alias| alias.base() != site.base());
        rule.one_path().is_some()
            && self.places.contains_key(&rule.id())
            && !site.ignore_case()
            && !elsewhere
    }

    /// Takes away the files of the site that an edge never shows under their own URLs.
    fn hide(&mut self) {
        let edge = self.urls.edge();
        let mut addresses: Vec<Vec<&str>> = vec![Vec::new(); edge.files().names().len()];
        for (address, file, gets) in edge.variant_table() {
            if gets == 0 {
                addresses[file as usize].push(address);
            }
        }
        let by_rules = self.shown_by_rules();
        for (number, name) in (0_u32..).zip(edge.files().names()) {
            let own = &addresses[number as usize];
            if own.is_empty() || by_rules.as_ref().is_none_or(|names| names.contains(&**name)) {
                continue;
            }
            let hidden = own.iter().all(|path| self.hiding_rule(path, number).is_some());
            let Some(rule) =
                hidden.then(|| self.hiding_rule(edge.own_address(number), number)).flatten()
            else {
                continue;
            };
            self.hidden.entry(rule.id()).or_default().push(name.to_string());
            match self.page_at(name, rule, edge.own_address(number)) {
                Some(shown) if name.ends_with(".html") => self.host.put(name, shown),
                _ => {
                    self.host.remove(name);
                    self.left_out.insert(name.to_string());
                }
            }
        }
    }

    /// The rule that takes every visitor of a URL of a file, and never leads back to it.
    fn hiding_rule(&self, path: &str, file: u32) -> Option<RuleRef<'e>> {
        let request = self.urls.request(path)?;
        let route = self.urls.edge().route(&request);
        let leads_back =
            matches!(route.end(), RouteEnd::Answer { file: Some(shown), .. } if *shown == file);
        // What leads nowhere is a mistake in the rules, and no reason to lose a page.
        let hides = !leads_back && !route.never_ends();
        self.urls.asked(&request, &route).decides.filter(|_| hides)
    }

    /// The files that rules may show under other URLs, from where `404.html` takes them; none where
    /// that is not known.
    fn shown_by_rules(&self) -> Option<BTreeSet<String>> {
        let edge = self.urls.edge();
        let mut names: BTreeSet<String> =
            edge.missing_file().into_iter().map(str::to_owned).collect();
        for rule in edge.program().all_rules() {
            if let Some(target) = rule.shows() {
                let path = target.literal_path()?;
                names.extend(edge.file_of(path).map(str::to_owned));
            }
        }
        Some(names)
    }

    /// What replaces a rule at a URL that every visitor gets alike.
    fn page_for(&self, rule: RuleRef<'_>, path: &str) -> Option<Shown> {
        let edge = self.urls.edge();
        let request = self.urls.request(path)?;
        let route = edge.route(&request);
        let acts = route.decided_by() == Some(rule.id()) && !route.never_ends();
        if !acts || !self.urls.asked(&request, &route).conditional.is_empty() {
            return None;
        }
        // A page answers whatever parameters come.
        if !self.urls.asking(path).is_empty() {
            return None;
        }
        let answer = edge.answer(&request);
        match rule.rule().effect() {
            Effect::Redirect(redirect) => {
                let to = answer.location()?.to_owned();
                // With other parameters it may be this page again.
                let target = self.urls.below(&to).and_then(|to| to.split('?').next());
                if target.is_some_and(|target| name_at(target) == name_at(path)) {
                    return None;
                }
                Some(Shown::Stub { to, drop_query: redirect.drop_query() })
            }
            Effect::File(_) if answer.outcome() == Outcome::File => {
                Some(Shown::Copy(answer.file()?.to_owned()))
            }
            Effect::File(_)
            | Effect::Gone
            | Effect::Elsewhere(_)
            | Effect::NotFoundPage(_)
            | Effect::Headers(_) => None,
        }
    }

    /// Makes pages for the rules that are for one URL.
    fn make(&mut self) {
        let edge = self.urls.edge();
        let mut wanted: BTreeMap<String, WantedPage> = BTreeMap::new();
        let mut order = Vec::new();
        for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback] {
            for rule in edge.program().rules(stage) {
                let Some((name, shown)) = self.wanted(rule) else { continue };
                if is_too_long(&name) {
                    let longest = name.split('/').map(str::len).max().unwrap_or_default();
                    let bytes = if longest > MAX_NAME_BYTES { longest } else { name.len() };
                    self.too_long.insert(rule.id(), bytes);
                    continue;
                }
                let page = wanted.entry(name.clone()).or_insert_with(|| {
                    order.push(name);
                    WantedPage { shown: shown.clone(), rules: Vec::new(), disputed: false }
                });
                page.disputed |= page.shown != shown;
                page.rules.push(rule.id());
            }
        }
        let mut taken = TakenNames::of(&self.host);
        for name in order {
            let Some(page) = wanted.remove(&name).filter(|page| !page.disputed) else { continue };
            if taken.take(&name) {
                self.host.put(&name, page.shown);
                self.places.extend(page.rules.into_iter().map(|rule| (rule, name.clone())));
            }
        }
    }

    /// Many hosts send `/docs` to `/docs/` if there is such a folder, `docs.html` or not. The folder
    /// then leads to the page, where an edge shows it with the slash, too.
    fn give_folders_an_index(&mut self) {
        let indexes = self.host.files().iter().filter_map(|(name, shown)| {
            let folder =
                name.strip_suffix(".html").filter(|folder| self.host.has_folder(folder))?;
            let index = format!("{folder}/index.html");
            let is_free = *name != MISSING && !self.host.files().contains_key(&index);
            let to = is_free.then(|| self.page_beside(folder, name, shown)).flatten()?;
            Some((index, Shown::Stub { to, drop_query: false }))
        });
        let indexes: Vec<_> = indexes.collect();
        for (index, shown) in indexes {
            self.host.put(&index, shown);
        }
    }

    /// Where the index of a folder leads: to the page beside it, or where an edge leads every visitor.
    fn page_beside(&self, folder: &str, page: &str, shown: &Shown) -> Option<String> {
        let path = path_of(folder);
        let with_slash = format!("{path}/");
        let ends = [&path, &with_slash].map(|path| {
            let request = self.urls.request(path)?;
            let route = self.urls.edge().route(&request);
            let is_for_all = self.urls.asked(&request, &route).conditional.is_empty();
            is_for_all.then(|| (self.urls.end(&request, &route), route))
        });
        let [Some(_), Some((end, route))] = &ends else { return None };
        let shows = match shown {
            Shown::Site => Some(page),
            Shown::Copy(of) => Some(&**of),
            Shown::Stub { .. } | Shown::Missing => None,
        };
        match end {
            VisitEnd::File { name, .. } if shows == Some(name) => {
                Some(format!("{}{}", self.urls.origin_and_base(), path_of(page)))
            }
            VisitEnd::File { .. } | VisitEnd::Away(_) => {
                let last = route.hops().last()?.to().as_str();
                let below = self.urls.below(last).and_then(|to| to.split('?').next());
                below.is_none_or(|to| *to != path && *to != with_slash).then(|| last.to_owned())
            }
            VisitEnd::Missing { .. } | VisitEnd::Loop => None,
        }
    }

    /// The file that a rule wants to stand at its one URL.
    fn wanted(&self, rule: RuleRef<'_>) -> Option<(String, Shown)> {
        let pattern = rule.pattern();
        let path = match rule.one_path() {
            Some(path) => path,
            None if rule.stage() == Stage::Fallback
                && pattern.origin().is_none()
                && !rule.tests().iter().any(looks_at_visitor) =>
            {
                pattern.path().literal_prefix()
            }
            None => return None,
        };
        let name = name_at(path)?;
        self.page_at(&name, rule, path).map(|shown| (name, shown))
    }

    /// What replaces a rule in a file, where all URLs of the file want the same.
    fn page_at(&self, name: &str, rule: RuleRef<'_>, path: &str) -> Option<Shown> {
        let shown = self.page_for(rule, path)?;
        let is_alone = paths_at(name).iter().filter(|other| *other != path).all(|other| {
            let Some(request) = self.urls.request(other) else { return true };
            let asked = self.urls.asked(&request, &self.urls.edge().route(&request));
            let decides = asked.decides.filter(|rule| rule.stage() != Stage::Fallback);
            asked.conditional.is_empty()
                && decides.is_none_or(|rule| self.page_for(rule, other).as_ref() == Some(&shown))
        });
        is_alone.then_some(shown)
    }
}

/// The names of files and folders, without their case, which not all file systems tell apart.
struct TakenNames(BTreeSet<String>);

impl TakenNames {
    fn of(host: &FileHost) -> TakenNames {
        TakenNames(host.files().keys().map(|name| name.to_lowercase()).collect())
    }

    /// Takes a name, where no file stands, and none where a folder is needed; and never for a
    /// folder beside a page of the same name, of which hosts show one or the other.
    fn take(&mut self, name: &str) -> bool {
        let name = name.to_lowercase();
        let is_file_above = name.match_indices('/').any(|(at, _)| self.0.contains(&name[..at]));
        let below = format!("{name}/");
        let is_folder = self.0.range(below.clone()..).next().is_some_and(|n| n.starts_with(&below));
        let twin = match name.strip_suffix("/index.html") {
            Some(folder) => Some(format!("{folder}.html")),
            None => name.strip_suffix(".html").map(|page| format!("{page}/index.html")),
        };
        let is_free = !is_file_above
            && !is_folder
            && !twin.is_some_and(|twin| self.0.contains(&twin))
            && !self.0.contains(&name);
        if is_free {
            self.0.insert(name);
        }
        is_free
    }
}

fn is_too_long(name: &str) -> bool {
    name.len() > MAX_PATH_BYTES || name.split('/').any(|part| part.len() > MAX_NAME_BYTES)
}

/// The file that plain file servers show as a page at a path; none where they would not.
fn name_at(path: &str) -> Option<String> {
    let decoded = decode(path);
    let text = std::str::from_utf8(&decoded).ok()?.strip_prefix('/')?;
    let odd = path.contains("%2F")
        || text.contains("//")
        || text.chars().any(|c| c.is_control() || c == '\\');
    if odd || text.split('/').any(|segment| segment.starts_with('.')) {
        return None;
    }
    let name = match text.rsplit('/').next().unwrap_or_default() {
        "" => format!("{text}index.html"),
        last if last.ends_with(".html") || last.ends_with(".htm") => text.to_owned(),
        // Another ending than that of a page would be sent as another type.
        last if last.contains('.') || is_known_type(text) => return None,
        _ => format!("{text}/index.html"),
    };
    Some(name)
}

/// The paths under which hosts show a file.
pub(super) fn paths_at(name: &str) -> Vec<String> {
    let path = path_of(name);
    match (path.strip_suffix("/index.html"), path.strip_suffix(".html")) {
        (Some(folder), _) => {
            let bare = (!folder.is_empty()).then(|| folder.to_owned());
            bare.into_iter().chain([format!("{folder}/"), path.clone()]).collect()
        }
        (None, Some(page)) => vec![path.clone(), page.to_owned()],
        (None, None) => vec![path],
    }
}
