//! How far a host comes to what each line says: visitors of every URL of its files, and of every
//! rule that is for one URL, end where they do on an edge, or the line says that they do not.

use std::collections::{BTreeSet, HashMap};

use ravel::program::{Effect, FileRole, RuleId, RuleRef, Stage, TestKind};

use super::host::{HostAnswer, HostKind, Shown, Visit};
use super::placement::{Placement, paths_at};
use super::{LineSupport, MISSING, Support};
use crate::urls::{VisitEnd, looks_at_visitor, path_of};

/// Each rule and setting, in the order in which they stand.
pub(super) fn lines(placement: &Placement<'_>) -> Vec<LineSupport> {
    let edge = placement.urls().edge();
    let mut found = Verdicts { placement, rules: HashMap::new(), pages: Verdict::default() };
    for stage in Stage::ALL {
        for rule in edge.program().rules(stage) {
            let said = found.of_rule(rule);
            found.rules.insert(rule.id(), Verdict::of(said));
        }
    }
    for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback] {
        for rule in edge.program().rules(stage) {
            if let Some(path) = rule.one_path() {
                found.ask(path);
            }
        }
    }
    let made = placement.host().files();
    let site = made.iter().filter(|(name, shown)| is_sites(placement, name, shown));
    // Not those that are there for the page alone that was made in them.
    let made_for = |folder: &str| {
        let index = format!("{folder}/index.html");
        made.get(&index).is_some_and(|shown| !is_sites(placement, &index, shown))
    };
    let folders = placement
        .host()
        .folders()
        .into_iter()
        .filter(|folder| !made_for(folder) || made.contains_key(&format!("{folder}.html")));
    let folders = folders.flat_map(|folder| {
        let path = path_of(folder);
        [format!("{path}/"), path]
    });
    let paths: BTreeSet<String> =
        site.flat_map(|(name, _)| paths_at(name)).chain(folders).collect();
    for path in paths {
        found.ask(&path);
        for (rule, url) in placement.urls().asking(&path) {
            found.ask_with_parameters(rule, &path, &url);
        }
    }
    let pages = found.pages.said();
    let pages = Some(pages).filter(|(support, _)| *support != Support::Full);
    let mut lines = settings(placement, pages);
    for rule in Stage::ALL.into_iter().flat_map(|stage| edge.program().rules(stage)) {
        let Some(verdict) = found.rules.remove(&rule.id()) else { continue };
        let (support, mut how) = verdict.said();
        how.push_str(&hidden_in_words(placement, rule.id()));
        lines.push(LineSupport { line: rule.line(), what: rule.to_string(), support, how });
    }
    lines.sort_by_key(LineSupport::line);
    lines
}

/// Whether a file stands where one of the site's does; a page that is made beside them answers with
/// and without a trailing slash, where the site has nothing.
fn is_sites(placement: &Placement<'_>, name: &str, shown: &Shown) -> bool {
    name != MISSING && (*shown == Shown::Site || placement.urls().edge().files().contains(name))
}

struct Verdicts<'p, 'e> {
    placement: &'p Placement<'e>,
    rules: HashMap<RuleId, Verdict>,
    /// Of the URLs that no rule decides.
    pages: Verdict,
}

/// How near each kind of host comes, and how.
struct Verdict([(Support, String); HostKind::ALL.len()]);

impl Default for Verdict {
    fn default() -> Verdict {
        Verdict::of((Support::Full, String::new()))
    }
}

impl Verdict {
    fn of(said: (Support, String)) -> Verdict {
        Verdict(HostKind::ALL.map(|_| said.clone()))
    }

    fn on(&self, kind: HostKind) -> Support {
        self.0[kind as usize].0
    }

    fn set(&mut self, kind: HostKind, support: Support, how: String) {
        self.0[kind as usize] = (support, how);
    }

    fn lower(&mut self, kind: HostKind, support: Support, how: String) {
        if support > self.on(kind) {
            self.set(kind, support, how);
        }
    }

    /// What is true of every host, and on which ones where they differ.
    fn said(&self) -> (Support, String) {
        let worst = HostKind::ALL.map(|kind| self.on(kind)).into_iter().max();
        let worst = worst.unwrap_or(Support::Full);
        let (bad, good): (Vec<_>, Vec<_>) =
            HostKind::ALL.into_iter().partition(|kind| self.on(*kind) == worst);
        let how = bad.first().map_or("", |kind| &*self.0[*kind as usize].1);
        let how = match (&*bad, &*good) {
            ([one], _) => format!("{how}, on hosts that {}", one.as_str()),
            (_, [one]) => format!("{how}, but not on hosts that {}", one.as_str()),
            _ => how.to_owned(),
        };
        (worst, how)
    }
}

impl<'e> Verdicts<'_, 'e> {
    /// What can be said of a rule before any URL is asked.
    fn of_rule(&self, rule: RuleRef<'_>) -> (Support, String) {
        let place = self.placement.place(rule.id());
        match rule.rule().effect() {
            Effect::Gone => (Support::Partial, "404 instead of 410".to_owned()),
            Effect::Elsewhere(_) => {
                (Support::None, "no other service answers on this host".to_owned())
            }
            Effect::Headers(_) => (Support::None, "no headers are set".to_owned()),
            Effect::Redirect(redirect) => match place {
                Some(place) => {
                    let how = format!("{place} leads on, instead of a {}", redirect.status());
                    (Support::Partial, how)
                }
                None => {
                    let instead = format!("instead of a {}", redirect.status());
                    self.by_script(rule, "404.html leads on", &instead)
                }
            },
            Effect::NotFoundPage(_) => {
                self.by_script(rule, "404.html shows that page", "instead of itself")
            }
            Effect::File(file) => match (place, file.role()) {
                (Some(place), _) if rule.one_path().is_some() => {
                    (Support::Full, format!("the file is put at {place}, too"))
                }
                (_, FileRole::Rewrite) => {
                    self.by_script(rule, "404.html shows the file", "with 404")
                }
                (_, FileRole::Fallback { .. }) => {
                    self.by_script(rule, "404.html shows the app", "with 404")
                }
            },
        }
    }

    /// What only a script in `404.html` can do, as far as it can see what the rule asks.
    fn by_script(&self, rule: RuleRef<'_>, does: &str, instead: &str) -> (Support, String) {
        let unseen = |kind: &TestKind| match kind {
            TestKind::Header(..) | TestKind::Method(_) => true,
            // Of headers, a script sees cookies and languages.
            TestKind::Cookie(..)
            | TestKind::Language(_)
            | TestKind::Capture(..)
            | TestKind::Host(_)
            | TestKind::Scheme(_)
            | TestKind::Role(_)
            | TestKind::FileExists
            | TestKind::ContentType(_) => false,
        };
        if let Some(test) = rule.tests().iter().find(|test| unseen(test.kind())) {
            let condition = test.written(self.placement.urls().edge().site().languages());
            return (Support::None, format!("a script cannot see `{condition}`"));
        }
        let why = match self.placement.too_long(rule.id()) {
            Some(bytes) => format!("; a file name of {bytes} bytes is too long for file systems"),
            None => String::new(),
        };
        (Support::Partial, format!("{does}, {instead}{why}"))
    }

    /// Visits a URL on the host and on the edge.
    fn ask(&mut self, path: &str) {
        let (placement, urls) = (self.placement, self.placement.urls());
        let Some(request) = urls.request(path) else { return };
        let route = urls.edge().route(&request);
        let asked = urls.asked(&request, &route);
        let end = urls.end(&request, &route);
        let here = EdgeAnswer { end, direct: route.hops().is_empty() };
        for kind in HostKind::ALL {
            let visit = placement.host().visit(urls, path, kind);
            if placement.host().find(path, kind) != HostAnswer::Nothing {
                for rule in &asked.conditional {
                    self.refuse(*rule, path, kind, &visit);
                }
            }
            let support = here.support(&visit);
            match asked.decides.map(|rule| rule.id()).or(route.decided_by()) {
                Some(rule) => {
                    let how = match urls.edge().program().rule(rule).one_path() {
                        Some(one) if one == path => in_words(&visit.end),
                        _ => format!("{path} {}", in_words(&visit.end)),
                    };
                    self.lower(rule, kind, support, how);
                }
                None => self.ask_pages(path, kind, support, &visit),
            }
        }
        // A rule that is for this URL alone, and has nothing to say there.
        if urls.edge().site().ignore_case() {
            return;
        }
        for rule in urls.edge().rules_for(Stage::Redirect, &request) {
            let is_idle = rule.one_path() == Some(path)
                && route.decided_by() != Some(rule.id())
                && asked.conditional.is_empty();
            if is_idle && let Some(said) = self.rules.get_mut(&rule.id()) {
                *said = Verdict::of((Support::Full, "it decides nothing".to_owned()));
            }
        }
    }

    /// The line of the setting that says under which URLs pages are.
    fn ask_pages(&mut self, path: &str, kind: HostKind, support: Support, visit: &Visit) {
        let is_by_script = self.placement.host().find(path, kind) == HostAnswer::Nothing;
        if support <= self.pages.on(kind) || !(is_by_script || support == Support::None) {
            return;
        }
        let how = match &visit.end {
            VisitEnd::File { name, .. } if is_by_script => {
                format!("404.html shows {name} for {path}, where the host does not")
            }
            end => format!("{path} {}", in_words(end)),
        };
        self.pages.set(kind, support, how);
    }

    /// Visits a URL with the parameters that a rule asks for.
    fn ask_with_parameters(&mut self, rule: RuleRef<'e>, path: &str, url: &str) {
        let (placement, urls) = (self.placement, self.placement.urls());
        let Some(request) = urls.request(url) else { return };
        let route = urls.edge().route(&request);
        let asked = urls.asked(&request, &route);
        let is_conditional = asked.conditional.iter().any(|other| other.id() == rule.id());
        let decides = asked.decides.is_some_and(|other| other.id() == rule.id());
        let here = EdgeAnswer { end: urls.end(&request, &route), direct: route.hops().is_empty() };
        for kind in HostKind::ALL {
            if placement.host().find(path, kind) == HostAnswer::Nothing {
                continue;
            }
            let visit = placement.host().visit(urls, path, kind);
            if is_conditional || (decides && here.support(&visit) == Support::None) {
                let how = format!("{url} {}", in_words(&visit.end));
                self.lower(rule.id(), kind, Support::None, how);
            }
        }
    }

    fn lower(&mut self, rule: RuleId, kind: HostKind, support: Support, how: String) {
        if let Some(verdict) = self.rules.get_mut(&rule) {
            verdict.lower(kind, support, how);
        }
    }

    /// A rule whose conditions the host does not look at.
    fn refuse(&mut self, rule: RuleRef<'_>, path: &str, kind: HostKind, visit: &Visit) {
        let languages = self.placement.urls().edge().site().languages();
        let test = rule.tests().iter().find(|test| looks_at_visitor(test));
        let condition = test.map(|test| test.written(languages)).unwrap_or_default();
        let how = format!("{path} {} whatever `{condition}` says", in_words(&visit.end));
        self.lower(rule.id(), kind, Support::None, how);
    }
}

/// What the edge makes of a URL.
struct EdgeAnswer {
    end: VisitEnd,
    direct: bool,
}

impl EdgeAnswer {
    fn support(&self, visit: &Visit) -> Support {
        let direct = self.direct && visit.direct;
        match (&self.end, &visit.end) {
            (VisitEnd::File { path, name }, VisitEnd::File { path: other, name: shown }) => {
                match name == shown && bare(path) == bare(other) {
                    true if direct && path == other => Support::Full,
                    true => Support::Partial,
                    false => Support::None,
                }
            }
            (VisitEnd::Missing { gone: false }, VisitEnd::Missing { .. }) if direct => {
                Support::Full
            }
            (VisitEnd::Missing { .. }, VisitEnd::Missing { .. }) => Support::Partial,
            (VisitEnd::Away(url), VisitEnd::Away(other)) if url == other => Support::Partial,
            _ => Support::None,
        }
    }
}

/// A path without what the variants of a page's URL differ in.
fn bare(path: &str) -> &str {
    let path = path.strip_suffix("index.html").unwrap_or(path);
    let path = path.strip_suffix(".html").unwrap_or(path);
    path.strip_suffix('/').unwrap_or(path)
}

/// Where visitors end, behind the URL they asked for.
fn in_words(end: &VisitEnd) -> String {
    match end {
        VisitEnd::File { path, name } => format!("shows {name} at {path}"),
        VisitEnd::Missing { .. } => "is missing".to_owned(),
        VisitEnd::Away(url) => format!("leads to {url}"),
        VisitEnd::Loop => "leads nowhere".to_owned(),
    }
}

/// What became of the files that a rule hides.
fn hidden_in_words(placement: &Placement<'_>, rule: RuleId) -> String {
    let [first, more @ ..] = placement.hidden(rule) else { return String::new() };
    let verb = if placement.left_out().contains(first) { "is left out" } else { "is replaced" };
    match more.len() {
        0 => format!("; {first} {verb}"),
        others => format!("; {first} {verb}, with {others} more"),
    }
}

/// Settings that speak of hosts, headers, and pages.
fn settings(placement: &Placement<'_>, pages: Option<(Support, String)>) -> Vec<LineSupport> {
    let edge = placement.urls().edge();
    let site = edge.site();
    let mut lines = Vec::new();
    let mut put = |line, what: String, support, how: String| {
        lines.push(LineSupport { line, what, support, how });
    };
    if let Some((support, how)) = pages {
        put(site.line(), "the URLs of pages".to_owned(), support, how);
    }
    for alias in site.aliases() {
        let what = format!("alias {}", alias.host());
        let how = "which hosts lead where is for the host's own settings".to_owned();
        put(alias.line(), what, Support::None, how);
    }
    for preview in site.previews() {
        let how = "no `x-robots-tag` keeps them out of search engines".to_owned();
        put(preview.line(), format!("preview {preview}"), Support::None, how);
    }
    if let Some((path, line)) = site.missing() {
        let how = match edge.missing_file() {
            Some(name) => format!("404.html has the text of {name}"),
            None => "there is no such file; 404.html has a text of its own".to_owned(),
        };
        put(*line, format!("missing {path}"), Support::Full, how);
    }
    if edge.files().contains(MISSING) && edge.missing_file() != Some(MISSING) {
        let how = "the folder's own 404.html is replaced".to_owned();
        put(site.line(), MISSING.to_owned(), Support::None, how);
    }
    if let Some(hsts) = site.hsts() {
        put(hsts.line(), "hsts".to_owned(), Support::None, "no headers are set".to_owned());
    }
    lines
}
