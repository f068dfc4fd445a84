//! A site on a host that only serves files: where visitors end, held against a host of the test's
//! own and the script of the 404 page that is published.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use crate::sites::{Module, pick, readable, runner, site};
use proptest::prelude::*;
use ravel::edge::{Route, RouteEnd};
use ravel::program::Stage;
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_publish::{Page, PublishedFiles, Support, files};
use serde_json::json;

/// A host with the files that are published.
struct Host<'n> {
    files: BTreeMap<String, String>,
    /// Node with the script of its 404 page.
    script: &'n mut Module,
    base: String,
    origin: String,
}

/// What hosts look for first where a path does not end in a slash.
#[derive(Debug, Clone, Copy)]
enum Kind {
    ByName,
    PagesFirst,
    FoldersFirst,
}

#[derive(Debug, PartialEq)]
enum Shown {
    File(String),
    Folder,
}

/// Where a visitor ends: a file at a path, off the site, or `None` where something is missing.
type End = Option<(String, String)>;

impl Host<'_> {
    fn new<'n>(node: &'n mut Module, edge: &Edge, published: &PublishedFiles) -> Host<'n> {
        let kept =
            edge.files().names().iter().filter(|name| !published.left_out().contains(&***name));
        let mut files: BTreeMap<String, String> =
            kept.map(|name| (name.to_string(), format!("content of {name}"))).collect();
        for (name, page) in published.pages() {
            let text = match page {
                Page::Made(bytes) => String::from_utf8(bytes.clone()).unwrap(),
                Page::Copy(of) => format!("content of {of}"),
            };
            files.insert(name.clone(), text);
        }
        let script = files["404.html"].split_once("<script>\n{\n").unwrap().1;
        node.reload(script.split_once("{\n\n// On a host").unwrap().0).unwrap();
        let site = edge.site();
        let origin = format!("{}://{}", site.scheme(), site.host());
        Host { files, script: node, base: site.open_base().to_owned(), origin }
    }

    /// What is shown for a path below the base path: a file; an index, if the path ends in a slash;
    /// or a redirect to the path with one.
    fn find(&self, path: &str, kind: Kind) -> Option<Shown> {
        let path = percent_decoded(path);
        let name = path.trim_start_matches('/');
        let file = |name: String| self.files.contains_key(&name).then_some(Shown::File(name));
        if name.is_empty() || name.ends_with('/') {
            return file(format!("{name}index.html"));
        }
        let is_folder = self.files.keys().any(|file| file.starts_with(&format!("{name}/")));
        let folder = is_folder.then_some(Shown::Folder);
        let page = || file(format!("{name}.html"));
        file(name.to_owned()).or_else(|| match kind {
            Kind::ByName => folder,
            Kind::PagesFirst => page().or(folder),
            Kind::FoldersFirst => folder.or_else(page),
        })
    }

    /// Where a browser ends; an error where it never does.
    fn end(&mut self, edge: &Edge, path: &str, kind: Kind) -> Result<End, String> {
        let mut url = format!("{}{}{path}", self.origin, self.base);
        let mut left = Vec::new();
        for _ in 0..25 {
            url.truncate(url.find('#').unwrap_or(url.len()));
            let Some(target) = url.strip_prefix(&*self.origin).filter(|rest| rest.starts_with('/'))
            else {
                return Ok(away(edge, &url));
            };
            let Some(path) = target.strip_prefix(&*self.base).filter(|path| path.starts_with('/'))
            else {
                return Ok(away(edge, &url));
            };
            let (path, query) =
                path.split_once('?').map_or((path, ""), |(path, query)| (path, query));
            let here = path.to_owned();
            let found = self.find(&here, kind);
            if found == Some(Shown::Folder) {
                let query = if query.is_empty() { "".to_owned() } else { format!("?{query}") };
                url = format!("{}{}{here}/{query}", self.origin, self.base);
                continue;
            }
            let found = found.map(|found| match found {
                Shown::File(name) => name,
                Shown::Folder => unreachable!(),
            });
            let text = found.as_ref().map(|name| &self.files[name]);
            if let Some((_, rest)) = text.and_then(|text| text.split_once("content=\"0; url=")) {
                let to = rest.split('"').next().unwrap();
                let to = to.split('#').next().unwrap();
                let mark = if to.contains('?') { '&' } else { '?' };
                let carried =
                    if query.is_empty() { String::new() } else { format!("{mark}{query}") };
                let origin = if to.starts_with('/') { &*self.origin } else { "" };
                url = format!("{origin}{to}{carried}");
                continue;
            }
            if let Some(name) = found.filter(|name| name != "404.html") {
                let of = self.files[&name].strip_prefix("content of ").unwrap();
                return Ok(Some((bare(&here), of.to_owned())));
            }
            let asked = json!({ "method": "GET", "scheme": &self.origin[..self.origin.find(':').unwrap()],
                "host": edge.site().host().as_str(), "target": target, "headers": [] });
            let answer = self.script.decide(&asked);
            let location =
                answer["headers"].as_array().unwrap().iter().find(|pair| pair[0] == "location");
            match location {
                // Its script does not lead on twice from one URL.
                Some(_) if left.contains(&url) => return Ok(None),
                Some(pair) => {
                    left.push(url);
                    url = pair[1].as_str().unwrap().to_owned();
                }
                None if answer["outcome"] == "file" => {
                    // The script gets it from the host under the file's own name.
                    let name = answer["file"].as_str().unwrap();
                    if edge.missing_file() == Some(name) {
                        return Ok(Some((bare(&here), name.to_owned())));
                    }
                    let text = self.files.get(name).ok_or(format!("{name} has been left out"))?;
                    let of =
                        text.strip_prefix("content of ").ok_or(format!("{name} is replaced"))?;
                    return Ok(Some((bare(&here), of.to_owned())));
                }
                None => return Ok(None),
            }
        }
        Err(format!("{url} is never left"))
    }
}

fn percent_decoded(path: &str) -> String {
    String::from_utf8_lossy(&ravel::address::decode(path)).into_owned()
}

/// A path without what the variants of a page's URL differ in.
fn bare(path: &str) -> String {
    let path = &*percent_decoded(path);
    let path = path.strip_suffix("index.html").unwrap_or(path);
    path.strip_suffix(".html").unwrap_or(path).trim_end_matches('/').to_owned()
}

/// Where the edge lets a visitor end.
fn edge_end(edge: &Edge, route: &Route, asked: &str) -> End {
    let url = route.hops().last().map_or(asked, |hop| hop.to().as_str());
    let url = url.split('#').next().unwrap();
    let base =
        format!("{}://{}{}", edge.site().scheme(), edge.site().host(), edge.site().open_base());
    match route.end() {
        RouteEnd::Answer { outcome: Outcome::File, file: Some(file), .. } => {
            let path = url.strip_prefix(&*base).unwrap_or(url).split('?').next().unwrap();
            Some((bare(path), edge.files().names()[*file as usize].to_string()))
        }
        RouteEnd::Answer { outcome: Outcome::Elsewhere, .. } | RouteEnd::Away => {
            // What parameters a page that leads on carries is for a browser to say.
            Some((url.split('?').next().unwrap().to_owned(), String::new()))
        }
        RouteEnd::Answer { .. } => None,
        _ => Some(("loop".to_owned(), String::new())),
    }
}

fn away(edge: &Edge, url: &str) -> End {
    Request::get(url).ok().and_then(|request| edge_end(edge, &edge.route(&request), url))
}

/// Where a visitor of a path ends on both, and whether a line says that they differ.
fn compare(
    edge: &Edge,
    published: &PublishedFiles,
    host: &mut Host,
    path: &str,
) -> Result<(), String> {
    let asked = format!("{}{}{path}", host.origin, host.base);
    let Ok(request) = Request::get(&asked) else { return Ok(()) };
    let route = edge.route(&request);
    let wanted = edge_end(edge, &route, &asked);
    let by = |id: Option<_>| id.map(|id| edge.program().rule(id).to_string());
    let mut acting: BTreeSet<String> =
        route.hops().iter().filter_map(|hop| by(hop.rule())).collect();
    if let RouteEnd::Answer { by: rule, .. } = route.end() {
        acting.extend(by(*rule));
    }
    // A rewrite to what is not there acts, and leaves the URL to a fallback, or to nothing.
    let last = route.hops().last().map_or(&*asked, |hop| hop.to().as_str());
    let rewrites = Request::get(last).map(|request| edge.rules_for(Stage::Rewrite, &request));
    acting.extend(rewrites.unwrap_or_default().iter().map(ToString::to_string));
    let is_refused = published
        .lines()
        .iter()
        .any(|line| line.support() == Support::None && acting.contains(line.what()));
    let pages_differ = (acting.is_empty() || wanted.is_none())
        && published.lines().iter().any(|line| {
            line.support() == Support::None
                && ["the URLs of pages", "404.html"].contains(&line.what())
        });
    for kind in [Kind::ByName, Kind::PagesFirst, Kind::FoldersFirst] {
        let found = host.end(edge, path, kind);
        // A page that is made answers with and without its trailing slash, where nothing is but
        // perhaps an app.
        let is_fallback = acting.iter().all(|rule| rule.starts_with("fallback"));
        let twin = (wanted.is_none() || (is_fallback && route.hops().is_empty()))
            && is_made(host, edge, published, path.split('?').next().unwrap(), kind);
        if found.as_ref() != Ok(&wanted) && !is_refused && !pages_differ && !twin {
            return Err(format!(
                "{path} ({kind:?}) ends at {found:?}, and on an edge at {wanted:?} by {acting:?}"
            ));
        }
    }
    Ok(())
}

/// Whether what is shown for a path, with a trailing slash if the host wants one, is a page that the
/// site does not have.
fn is_made(host: &Host, edge: &Edge, published: &PublishedFiles, path: &str, kind: Kind) -> bool {
    match host.find(path, kind) {
        Some(Shown::File(name)) => {
            published.pages().contains_key(&name) && !edge.files().contains(&name)
        }
        Some(Shown::Folder) => is_made(host, edge, published, &format!("{path}/"), kind),
        None => false,
    }
}

/// Paths that the files and the rules of a site speak of.
fn paths(edge: &Edge) -> BTreeSet<String> {
    let mut paths: BTreeSet<String> = edge.variant_paths().map(str::to_owned).collect();
    for rule in Stage::ALL.into_iter().flat_map(|stage| edge.program().rules(stage)) {
        let pattern = rule.pattern();
        for capture in ["a", "b", "zz", ""] {
            let path = pattern.path_with(|name| match pattern.form_of(name) {
                Some(ravel::template::Expression::Segments) => format!("/{capture}"),
                _ => capture.to_owned(),
            });
            if path.starts_with('/') && !path.contains("//") {
                paths.insert(path.clone());
                paths.insert(format!("{path}?k=v&m"));
            }
        }
    }
    paths
}

const FOLDER: [&str; 10] = [
    "index.html",
    "a/index.html",
    "a/b.html",
    "b.html",
    "a/x.js",
    "c/index.html",
    "d.html",
    "d/e.html",
    "caf\u{e9}.html",
    "old.pdf",
];

/// A rule of few pieces, most without conditions, that meets files and other rules.
fn file_rule() -> impl Strategy<Value = String> {
    let literal = || {
        pick(&[
            "/",
            "/a",
            "/a/",
            "/a/b",
            "/a/b.html",
            "/b",
            "/b/",
            "/b.html",
            "/c",
            "/c/",
            "/d",
            "/d/",
            "/d/old",
            "/b/old",
            "/x",
            "/x/",
            "/x.html",
            "/x/y",
            "/a/x.js",
            "/old.pdf",
            "/caf%C3%A9",
            "/index.html",
            "/a/index.html",
            "/X",
        ])
    };
    let pattern = pick(&[
        "/{s}",
        "/a/{s}",
        "/a{/r*}",
        "{/r*}",
        "/x{/r*}",
        "/{s}.html",
        "/a?k={q}",
        "/{s}?k=v",
        "/b?m",
    ]);
    let from = prop_oneof![3 => literal(), 1 => pattern];
    let to = prop_oneof![5 => literal(), 1 => pick(&["https://away.example/z", "/b?own=1#part", "/gone"])];
    let kind =
        pick(&["redirect", "redirect", "redirect", "rewrite", "fallback", "gone", "elsewhere"]);
    let when = prop_oneof![
        6 => Just(""),
        1 => pick(&["  when cookie c", "  when not cookie c", "  when header x-h", "  when no file", "  when preview", "  when language is de"]),
    ];
    (kind, from, to, when).prop_map(|(kind, from, to, when)| match kind {
        "gone" | "elsewhere" => format!("{kind} {from}\n{when}\n"),
        "redirect" => format!("redirect {from} -> {to}\n{when}\n"),
        kind => format!(
            "{kind} {from} -> {}\n{when}\n",
            if to.contains([':', '?']) { "/b" } else { to }
        ),
    })
}

/// Every URL of a site and of its rules ends where it does on an edge, or its line says that it
/// does not.
#[test]
#[ignore = "needs Node"]
fn visitors_end_where_the_lines_say() {
    let strategy = (site(), prop::collection::vec(file_rule(), 1..7));
    let mut compared = 0;
    let counted = RefCell::new(&mut compared);
    let node = RefCell::new(Module::start());
    let result = runner(120).run(&strategy, |(site, rules)| {
        let rules = readable(&site, &rules);
        let edge = Edge::new(&rules, FileList::from_iter(FOLDER));
        let published = files(&edge, None);
        let node = &mut *node.borrow_mut();
        let mut host = Host::new(node, &edge, &published);
        for path in paths(&edge) {
            **counted.borrow_mut() += 1;
            if let Err(why) = compare(&edge, &published, &mut host, &path) {
                let lines: Vec<String> = published
                    .lines()
                    .iter()
                    .map(|line| {
                        format!("{} {}: {}", line.what(), line.support().as_str(), line.how())
                    })
                    .collect();
                prop_assert!(
                    false,
                    "{}\n{}\nmade {:?} left out {:?}",
                    why,
                    lines.join("\n"),
                    published.pages().keys().collect::<Vec<_>>(),
                    published.left_out()
                );
            }
        }
        Ok(())
    });
    result.unwrap_or_else(|error| panic!("{error}"));
    assert!(compared > 2_000, "{compared}");
}

#[test]
#[ignore = "needs Node"]
fn pages_that_lead_on_never_take_the_place_of_what_they_lead_to() {
    let folder =
        ["index.html", "about.html", "ports/index.html", "old.html", "404.html", "a/b.html"];
    let cases = [
        "redirect /index.html -> /",
        "redirect /about.html -> /about",
        "redirect /about/ -> /about",
        "redirect /about/index.html -> /about",
        "redirect /ports -> /ports/",
        "redirect /ports/index.html -> /ports/",
        "redirect /ports.html -> /ports/",
        "redirect /ports/ -> /ports.html",
        "redirect /old.html -> /about",
        "redirect /old -> /about",
        "redirect /old/ -> /old.html",
        "redirect / -> /index.html",
        "redirect / -> /about",
        "redirect /a -> /a/b",
        "redirect /a/b/ -> /a/b",
        "redirect /a/b.html -> /a/b/\nredirect /a/b/ -> /a/b",
        "redirect /new -> /about.html\nredirect /new.html -> /about",
        "redirect /x -> /y\nredirect /y -> /z\nredirect /z -> /about",
        "redirect /about -> /about/#top",
        "redirect /%61bout.html -> /about?x=1",
    ];
    let mut node = Module::start();
    for case in cases {
        let rules =
            Rules::parse(&format!("site https://h.example/\n  missing /404.html\n{case}\n"))
                .unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(folder));
        let published = files(&edge, None);
        let mut host = Host::new(&mut node, &edge, &published);
        let said = case.split([' ', '\n']).filter(|word| word.starts_with('/'));
        for path in said.chain(["/", "/index.html", "/about.html", "/ports/", "/a/b.html"]) {
            compare(&edge, &published, &mut host, path.split(['?', '#']).next().unwrap())
                .unwrap_or_else(|why| panic!("{case}: {why}"));
        }
    }
}
