//! The URLs of a site on its canonical host, and which rules are asked there.

use std::collections::{HashMap, HashSet};

use ravel::Outcome;
use ravel::address::{Request, encode, is_path_byte};
use ravel::edge::{Edge, Route, RouteEnd};
use ravel::program::{RuleRef, Stage, Test, TestSubject};
use ravel::template::{Pattern, QueryTest};

/// The URLs of a site below its base path, each as its path and query.
pub(crate) struct SiteUrls<'e> {
    edge: &'e Edge,
    origin: String,
    /// The paths that name a file, as conditions see it.
    naming: HashSet<String>,
    /// Rules that ask for a parameter, by the one path they are for.
    asking: HashMap<String, Vec<RuleRef<'e>>>,
    /// Those that are for more paths.
    asking_anywhere: Vec<RuleRef<'e>>,
}

/// Where a visitor ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum VisitEnd {
    /// This file is shown at this path.
    File { path: String, name: String },
    /// Nothing is there; or nothing any more.
    Missing { gone: bool },
    /// Another service answers, or another site.
    Away(String),
    /// Nowhere.
    Loop,
}

/// The rules that are asked at a URL before a file is looked up.
#[derive(Default)]
pub(crate) struct AskedRules<'e> {
    /// Those that look at the visitor, whether or not they act.
    pub(crate) conditional: Vec<RuleRef<'e>>,
    /// The one behind them that acts for everybody else.
    pub(crate) decides: Option<RuleRef<'e>>,
}

impl<'e> SiteUrls<'e> {
    pub(crate) fn new(edge: &'e Edge) -> SiteUrls<'e> {
        let site = edge.site();
        let mut urls = SiteUrls {
            edge,
            origin: format!("{}://{}", site.scheme(), site.host()),
            naming: HashSet::new(),
            asking: HashMap::new(),
            asking_anywhere: Vec::new(),
        };
        // 2 is for what rules alone may name so.
        let naming = edge.variant_table().into_iter().filter(|(_, _, gets)| *gets < 2);
        urls.naming = naming.map(|(path, ..)| urls.folded(path)).collect();
        for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback] {
            for rule in edge.program().rules(stage) {
                let pattern = rule.pattern();
                if pattern.query().is_empty() {
                    continue;
                }
                match pattern.origin().is_none() && pattern.path().is_literal() {
                    true => {
                        let path = urls.folded(pattern.path().as_str());
                        urls.asking.entry(path).or_default().push(rule);
                    }
                    false => urls.asking_anywhere.push(rule),
                }
            }
        }
        urls
    }

    pub(crate) fn edge(&self) -> &'e Edge {
        self.edge
    }

    /// The canonical scheme and host.
    pub(crate) fn origin(&self) -> &str {
        &self.origin
    }

    /// The canonical origin with the base path.
    pub(crate) fn origin_and_base(&self) -> String {
        format!("{}{}", self.origin, self.edge.site().open_base())
    }

    fn folded(&self, path: &str) -> String {
        match self.edge.site().ignore_case() {
            true => path.to_ascii_lowercase(),
            false => path.to_owned(),
        }
    }

    pub(crate) fn request(&self, url: &str) -> Option<Request> {
        self.request_at(&format!("{}{url}", self.edge.site().open_base()))
    }

    /// A request for a path and query with the base path.
    pub(crate) fn request_at(&self, url: &str) -> Option<Request> {
        Request::get(&format!("{}{url}", self.origin)).ok()
    }

    /// The path and query of a URL below the base path of the canonical host.
    pub(crate) fn below<'u>(&self, url: &'u str) -> Option<&'u str> {
        let url = url.split('#').next().unwrap_or(url);
        let rest = url.strip_prefix(&*self.origin)?;
        rest.strip_prefix(self.edge.site().open_base()).filter(|rest| rest.starts_with('/'))
    }

    /// Where a visitor of the edge ends.
    pub(crate) fn end(&self, request: &Request, route: &Route) -> VisitEnd {
        let last = route.hops().last().map(|hop| hop.to());
        let url = last.map_or(request.url(), |to| to.as_str());
        match route.end() {
            RouteEnd::Answer { outcome: Outcome::File, file: Some(file), .. } => {
                let path = self.below(url).unwrap_or(url).split('?').next().unwrap_or_default();
                let name = self.edge.files().names()[*file as usize].to_string();
                VisitEnd::File { path: path.to_owned(), name }
            }
            RouteEnd::Answer { outcome: Outcome::Elsewhere, .. } | RouteEnd::Away => {
                VisitEnd::Away(url.to_owned())
            }
            RouteEnd::Answer { outcome, .. } => {
                VisitEnd::Missing { gone: *outcome == Outcome::Gone }
            }
            _ => VisitEnd::Loop,
        }
    }

    /// Where a visitor ends who is sent to another host of the site, or off it.
    pub(crate) fn end_at(&self, url: &str) -> VisitEnd {
        match Request::get(url) {
            Ok(request) => self.end(&request, &self.edge.route(&request)),
            Err(_) => VisitEnd::Loop,
        }
    }

    /// The rules that are asked at a URL.
    pub(crate) fn asked(&self, request: &Request, route: &Route) -> AskedRules<'e> {
        let mut asked = AskedRules::default();
        for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback] {
            // A file that is there comes before a fallback.
            if stage == Stage::Fallback && self.shows_file(route) {
                break;
            }
            for rule in self.edge.rules_for(stage, request) {
                if !self.can_apply(rule, request) {
                    continue;
                }
                if rule.tests().iter().any(looks_at_visitor) {
                    asked.conditional.push(rule);
                } else if route.decided_by() == Some(rule.id())
                    || (stage == Stage::Rewrite && self.finds_no_file(route))
                {
                    asked.decides = Some(rule);
                    return asked;
                }
            }
        }
        asked
    }

    /// Whether the first answer is a file, or leads to one, by no rule.
    fn shows_file(&self, route: &Route) -> bool {
        route.decided_by().is_none() && !(route.hops().is_empty() && route.ends_missing())
    }

    /// Whether a rewrite, where one acts, names no file: what is left then is a fallback, or nothing.
    fn finds_no_file(&self, route: &Route) -> bool {
        let stage = route.decided_by().map(|rule| self.edge.program().rule(rule).stage());
        let is_left = matches!(stage, None | Some(Stage::Fallback | Stage::Missing));
        route.hops().is_empty() && is_left && (stage.is_some() || route.ends_missing())
    }

    /// Whether the tests pass that look at the URL alone.
    fn can_apply(&self, rule: RuleRef<'_>, request: &Request) -> bool {
        let fold = self.edge.site().ignore_case();
        let pattern = rule.pattern();
        let Some(captures) = self.edge.captures_of(pattern, request) else { return false };
        let captured = rule.tests().captures().all(|(name, set, negated)| {
            let slot = pattern.names().position(|captured| captured == name);
            let value = slot.and_then(|slot| captures.get(slot));
            value.is_some_and(|value| set.contains(&value.decoded(), fold) != negated)
        });
        let path = self.below(request.url()).and_then(|url| url.split('?').next());
        let exists = path.is_some_and(|path| self.naming.contains(&self.folded(path)));
        let is_of_file = |test: &&Test| test.kind().subject() == TestSubject::File;
        captured && rule.tests().iter().filter(is_of_file).all(|test| exists != test.negated())
    }

    /// The rules that ask for a parameter at a path, each with a URL that has it.
    pub(crate) fn asking(&self, path: &str) -> Vec<(RuleRef<'e>, String)> {
        let here = self.asking.get(&self.folded(path)).into_iter().flatten();
        let anywhere = self.asking_anywhere.iter();
        here.chain(anywhere)
            .map(|rule| (*rule, format!("{path}?{}", query_of(rule.pattern()))))
            .filter(|(rule, url)| {
                let request = self.request(url);
                request.is_some_and(|request| {
                    self.edge.captures_of(rule.pattern(), &request).is_some()
                })
            })
            .collect()
    }
}

/// A query that a pattern asks for.
fn query_of(pattern: &Pattern) -> String {
    let parts = pattern.query().iter().map(|part| {
        let (mut key, mut value) = (String::new(), String::new());
        encode(part.key().as_bytes(), is_path_byte, &mut key);
        match part.test() {
            QueryTest::Present => key,
            QueryTest::Text(text) => {
                encode(text.as_bytes(), |byte| byte.is_ascii_alphanumeric(), &mut value);
                format!("{key}={value}")
            }
            QueryTest::Capture(_) => format!("{key}=1"),
        }
    });
    parts.collect::<Vec<_>>().join("&")
}

/// Whether a test looks at more than the URL's path and query.
pub(crate) fn looks_at_visitor(test: &Test) -> bool {
    match test.kind().subject() {
        TestSubject::Captures | TestSubject::File | TestSubject::Answer => false,
        TestSubject::Origin | TestSubject::Method | TestSubject::Headers => true,
    }
}

/// The path of a file by its name.
pub(crate) fn path_of(name: &str) -> String {
    let mut path = String::from("/");
    encode(name.as_bytes(), |byte| byte == b'/' || is_path_byte(byte), &mut path);
    path
}
