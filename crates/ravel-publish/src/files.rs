//! A site for a host that only serves files, and answers what is missing with `404.html`.

use std::collections::{BTreeMap, BTreeSet};

use maud::{DOCTYPE, PreEscaped, html};
use serde_json::Value;

use super::script_text;
use ravel::address::{Request, decode};
use ravel::edge::{Edge, Outcome};
use ravel::files::is_known_type;
use ravel::language::Line;
use ravel::program::{Effect, FileRole, RuleRef, Stage, TestKind};

/// What is put beside the files of a folder, and what such a host cannot do.
#[derive(Debug, Clone)]
pub struct PublishedFiles {
    pub(crate) pages: BTreeMap<String, Page>,
    pub(crate) limits: Vec<Limit>,
}

impl PublishedFiles {
    /// By their names in the folder; some take the place of a file there.
    pub fn pages(&self) -> &BTreeMap<String, Page> {
        &self.pages
    }

    /// What becomes of each rule and setting, in the order of the files they stand in.
    pub fn limits(&self) -> &[Limit] {
        &self.limits
    }
}

/// A page that is put there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Page {
    /// This text.
    Text(String),
    /// The same as another file of the folder.
    Copy(String),
}

/// How near a host that only serves files comes to what a rule says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Limit {
    pub(crate) line: Line,
    pub(crate) what: String,
    pub(crate) exactness: Exactness,
    pub(crate) how: String,
}

impl Limit {
    /// The rule or the setting.
    pub fn line(&self) -> Line {
        self.line
    }

    /// It, as it is written.
    pub fn what(&self) -> &str {
        &self.what
    }

    /// How near.
    pub fn exactness(&self) -> Exactness {
        self.exactness
    }

    /// What is done instead, or what is lacking.
    pub fn how(&self) -> &str {
        &self.how
    }
}

/// How near something comes to what is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Exactness {
    /// The same.
    Exact,
    /// The visitor ends where they should, in another way.
    Near,
    /// It cannot be done.
    Not,
}

impl Exactness {
    /// The word for it.
    ///
    /// ```
    /// assert_eq!(ravel_publish::Exactness::Exact.name(), "exactly");
    /// ```
    pub fn name(self) -> &'static str {
        match self {
            Exactness::Exact => "exactly",
            Exactness::Near => "nearly",
            Exactness::Not => "not",
        }
    }
}

/// The page that such hosts show for what is missing.
const MISSING: &str = "404.html";

/// What a host that only serves files needs beside the files of the folder; `lost` is the site's
/// own missing page, if it has one.
///
/// ```
/// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
/// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
/// let published = ravel_publish::files(&edge, &ravel_publish::table(&edge), None);
/// assert!(published.pages().contains_key("a/index.html") || !published.limits().is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn files(edge: &Edge, table: &Value, lost: Option<&str>) -> PublishedFiles {
    let names = edge.files().names().iter().map(|name| name.to_string()).collect();
    let mut out = Publisher { edge, names, pages: BTreeMap::new(), limits: Vec::new() };
    out.settings();
    for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing, Stage::Headers]
    {
        for rule in edge.program().rules(stage) {
            let (exactness, how) = out.rule(rule);
            out.limits.push(Limit { line: rule.line(), what: rule.to_string(), exactness, how });
        }
    }
    out.pages.insert(MISSING.to_owned(), Page::Text(missing_page(table, lost)));
    out.limits.sort_by_key(|limit| limit.line);
    PublishedFiles { pages: out.pages, limits: out.limits }
}

struct Publisher<'e> {
    edge: &'e Edge,
    pages: BTreeMap<String, Page>,
    limits: Vec<Limit>,
    /// The files of the site, and the pages that are made.
    names: BTreeSet<String>,
}

impl Publisher<'_> {
    /// Settings that speak of hosts and headers.
    fn settings(&mut self) {
        let site = self.edge.site();
        let shown = (0..)
            .zip(self.edge.files().names())
            .map(|(number, name)| (&**name, self.edge.own_address(number)));
        let bare = |address: &str| !address.ends_with('/') && !address.ends_with(".html");
        let mut pages = shown
            .filter(|(name, _)| name.ends_with(".html") && Some(*name) != self.edge.missing_file());
        if let Some((name, address)) = pages.find(|(_, address)| bare(address)) {
            let how = format!("404.html shows {name} for {address}, where the host does not");
            let what = "pages without `.html` in their address".to_owned();
            self.limits.push(Limit { line: site.line(), what, exactness: Exactness::Near, how });
        }
        let mut not = |line, what: String, how: &str| {
            self.limits.push(Limit { line, what, exactness: Exactness::Not, how: how.to_owned() });
        };
        for alias in site.aliases() {
            not(
                alias.line(),
                format!("alias {}", alias.host()),
                "which hosts lead where is for the host's own settings",
            );
        }
        for preview in site.previews() {
            not(
                preview.line(),
                format!("preview {preview}"),
                "no `x-robots-tag` keeps them out of search engines",
            );
        }
        if let Some(hsts) = site.hsts() {
            not(hsts.line(), "hsts".to_owned(), "no header fields are set");
        }
    }

    fn rule(&mut self, rule: RuleRef<'_>) -> (Exactness, String) {
        match rule.rule().effect() {
            Effect::Redirect(redirect) => {
                self.redirect(rule, redirect.status(), redirect.drop_query())
            }
            Effect::Gone => (Exactness::Not, "404 instead of 410".to_owned()),
            Effect::Elsewhere(_) => {
                (Exactness::Not, "no other service answers on this host".to_owned())
            }
            Effect::Headers(_) => (Exactness::Not, "no header fields are set".to_owned()),
            Effect::NotFoundPage(_) => {
                self.by_script(rule, "404.html shows that page instead of itself")
            }
            Effect::File(file) => {
                let only_there =
                    file.role() == FileRole::Rewrite || rule.pattern().path().is_literal();
                match self.shown_at(rule) {
                    Some(place) if only_there => {
                        (Exactness::Exact, format!("the file is put at {place}, too"))
                    }
                    _ => self.by_script(
                        rule,
                        match file.role() {
                            FileRole::Rewrite => "404.html shows the file, with 404",
                            FileRole::Fallback { .. } => "404.html shows the app, with 404",
                        },
                    ),
                }
            }
        }
    }

    /// What only a script in the missing page can do, as far as it can see what the rule asks.
    fn by_script(&self, rule: RuleRef<'_>, how: &str) -> (Exactness, String) {
        let seen = |kind: &TestKind| !matches!(kind, TestKind::Header(..) | TestKind::Method(_));
        match rule.tests().iter().find(|test| !seen(test.kind())) {
            Some(test) => {
                let condition = test.written(self.edge.site().languages());
                (Exactness::Not, format!("a script cannot see `{condition}`"))
            }
            None => (Exactness::Near, how.to_owned()),
        }
    }

    fn redirect(
        &mut self,
        rule: RuleRef<'_>,
        status: u16,
        drop_query: bool,
    ) -> (Exactness, String) {
        let by_script = self.by_script(
            rule,
            &format!("404.html leads on where no file stands, instead of a {status}"),
        );
        let Some(path) = rule.one_path() else { return by_script };
        let site = self.edge.site();
        let url = format!("{}://{}{}{path}", site.scheme(), site.host(), site.open_base());
        let Ok(request) = Request::get(&url) else { return by_script };
        let answer = self.edge.answer(&request);
        let Some(to) = answer.location().filter(|_| answer.rule() == Some(rule.id())) else {
            return by_script;
        };
        match file_at(path) {
            Some(name) if self.shows(to).any(|shown| shown == name) => {
                let how = format!("the host itself shows {name} here, instead of a {status}");
                (Exactness::Near, how)
            }
            Some(name) if self.is_free(&name) => {
                let page = stub(to, &format!("{}://{}", site.scheme(), site.host()), drop_query);
                // A page with and without its final slash is one file, and the first rule's.
                self.put(&name, Page::Text(page));
                (Exactness::Near, format!("{name} leads on, instead of a {status}"))
            }
            _ => by_script,
        }
    }

    /// Puts the file that a rule shows where its address is, if that is one place.
    fn shown_at(&mut self, rule: RuleRef<'_>) -> Option<String> {
        let path = match rule.stage() {
            Stage::Rewrite => rule.one_path()?,
            Stage::Fallback if rule.pattern().origin().is_none() && rule.is_unconditional() => {
                rule.pattern().path().literal_prefix()
            }
            Stage::Redirect | Stage::Fallback | Stage::Missing | Stage::Headers => return None,
        };
        let site = self.edge.site();
        let url = format!("{}://{}{}{path}", site.scheme(), site.host(), site.open_base());
        let request = Request::get(&url).ok()?;
        let answer = self.edge.answer(&request);
        let file = answer
            .file()
            .filter(|_| answer.outcome() == Outcome::File && answer.rule() == Some(rule.id()))?;
        let name = file_at(path).filter(|name| self.is_free(name))?;
        if name != file {
            self.put(&name, Page::Copy(file.to_owned()));
        }
        Some(name)
    }

    /// Puts a page where none is put yet.
    fn put(&mut self, name: &str, page: Page) {
        self.names.insert(name.to_owned());
        self.pages.entry(name.to_owned()).or_insert(page);
    }

    /// The files that hosts show for a URL of the site: as it stands, for a folder, or without its
    /// ending.
    fn shows(&self, url: &str) -> impl Iterator<Item = String> {
        let site = self.edge.site();
        let origin = format!("{}://{}{}", site.scheme(), site.host(), site.open_base());
        let path = url.split(['?', '#']).next().unwrap_or(url).strip_prefix(&*origin);
        let path = path.map(|path| String::from_utf8_lossy(&decode(path)).into_owned());
        path.into_iter().flat_map(|path| {
            let name = path.trim_start_matches('/');
            match name.is_empty() || name.ends_with('/') {
                true => vec![format!("{name}index.html")],
                false => {
                    vec![name.to_owned(), format!("{name}.html"), format!("{name}/index.html")]
                }
            }
        })
    }

    /// Whether a page can be put there: no file stands where a folder is needed, and no folder
    /// where the file is.
    fn is_free(&self, name: &str) -> bool {
        let above = name.match_indices('/').map(|(at, _)| &name[..at]);
        let below = format!("{name}/");
        // A host that knows pages without their ending would show the folder in place of the page.
        let page = name.strip_suffix("/index.html").map(|folder| format!("{folder}.html"));
        !above.into_iter().any(|folder| self.names.contains(folder))
            && !page.is_some_and(|page| self.names.contains(&page))
            && self.names.range(below.clone()..).next().is_none_or(|next| !next.starts_with(&below))
    }
}

/// The file that plain file servers show as a page at an address; none where they would not.
fn file_at(path: &str) -> Option<String> {
    let decoded = decode(path);
    let text = std::str::from_utf8(&decoded).ok()?.strip_prefix('/')?;
    let odd = path.contains("%2F")
        || text.contains("//")
        || text.chars().any(|c| c.is_control() || c == '\\');
    if odd || text.split('/').any(|segment| segment.starts_with('.')) {
        return None;
    }
    match text.rsplit('/').next().unwrap_or_default() {
        "" => Some(format!("{text}index.html")),
        last if last.ends_with(".html") || last.ends_with(".htm") => Some(text.to_owned()),
        // Another ending than that of a page would be sent as another type.
        last if last.contains('.') || is_known_type(text) => None,
        _ => Some(format!("{text}/index.html")),
    }
}

/// A page that leads on at once, for people and for machines.
fn stub(to: &str, origin: &str, drop_query: bool) -> String {
    let here = to.strip_prefix(origin).filter(|rest| rest.starts_with('/')).unwrap_or(to);
    let script = format!("{}({}, {drop_query});", LEAD_ON.trim_end(), script_text(here));
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="robots" content="noindex";
                link rel="canonical" href=(to);
                script { (PreEscaped(script)) }
                meta http-equiv="refresh" content=(format!("0; url={here}"));
                title { "This page has moved" }
                style { (PreEscaped(STUB_STYLE)) }
            }
            body {
                main {
                    h1 { "This page has moved" }
                    p { "It is now at " a href=(here) { (to) } "." }
                }
            }
        }
    };
    format!("{}\n", page.into_string())
}

const STUB_STYLE: &str = "body{font:1.1rem/1.6 system-ui,sans-serif;margin:0;color:#26221c;background:#fffdf8}main{max-width:38rem;margin:18vh auto;padding:0 1.5rem}\
     h1{font-size:1.6rem}a{color:#0b6157;overflow-wrap:anywhere}";

/// Leads on, with the parameters and the fragment that the visitor came with, as the edge does.
const LEAD_ON: &str = r##"((to, drop) => {
  const key = (part) => decodeURIComponent(part.split("=")[0].replaceAll("+", " ").replace(/%(?![0-9a-f]{2})/gi, "%25"));
  const parts = (query) => query.split("&").filter((part) => part !== "");
  const [rest, hash] = to.split("#");
  const [path, own] = rest.split("?");
  const safe = (part) => { try { return key(part); } catch { return part; } };
  const kept = new Set(parts(own ?? "").map(safe));
  const carried = drop ? [] : parts(location.search.slice(1)).filter((part) => !kept.has(safe(part)));
  const query = [...(own === undefined ? [] : [own]), ...carried].join("&");
  location.replace(path + (query === "" ? "" : "?" + query) + (hash === undefined ? location.hash : "#" + hash));
})
"##;

/// The site's own missing page with a script before all else that takes what rules say of addresses
/// without a file.
fn missing_page(table: &Value, lost: Option<&str>) -> String {
    let reader = super::module(table).replace("\nexport ", "\n");
    // Browsers look for the encoding at the very beginning.
    let script =
        format!("<meta charset=\"utf-8\">\n<script>\n{{\n{reader}{{\n{TAKE}}}\n}}\n</script>\n");
    let page = lost.unwrap_or(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>There is no such page</title>\n</head>\n\
         <body>\n<h1>There is no such page</h1>\n<p><a href=\"/\">The first page</a></p>\n</body>\n</html>\n",
    );
    let at = head_end(page);
    format!("{}{script}{}", &page[..at], &page[at..])
}

/// Where the content of a page's head begins, or the page's own text where there is no head.
fn head_end(page: &str) -> usize {
    let lower = page.to_ascii_lowercase();
    let after = |tag: &str| {
        let start = lower
            .match_indices(tag)
            .map(|(at, _)| at)
            .find(|at| lower[at + tag.len()..].starts_with([' ', '>', '\n', '\t', '\r']))?;
        Some(start + lower[start..].find('>')? + 1)
    };
    after("<head").or_else(|| after("<html")).or_else(|| after("<!doctype")).unwrap_or(0)
}

const TAKE: &str = r##"
// On a host that is none of the site's, such as localhost, the canonical one is meant.
const known = hasHost(location.hostname);
const home = new URL(site());
const asked = known ? location : home;
const answer = decide({
  method: "GET",
  scheme: asked.protocol.slice(0, -1),
  host: asked.host,
  target: location.pathname + location.search,
  headers: [["accept-language", (navigator.languages ?? []).join(", ")], ["cookie", document.cookie]],
});
// The page for what is missing is not shown while something else is on its way.
const veil = (value) => { document.documentElement.style.visibility = value; };
const show = async (name) => {
  const response = await fetch(table.base + "/" + name.split("/").map(encodeURIComponent).join("/"));
  if (!response.ok) return veil("");
  const text = await response.text();
  document.open();
  document.write(text);
  document.close();
};
const lost = table.lost === null ? null : anyFile(table.lost);
const to = answer.headers.find(([name]) => name === "location")?.[1];
if (to !== undefined) {
  const here = !known && to.startsWith(home.origin + "/") ? location.origin + to.slice(home.origin.length) : to;
  veil("hidden");
  location.replace(here + (here.includes("#") ? "" : location.hash));
} else if (answer.file !== null && (answer.outcome === "file" || answer.file !== (lost === null ? null : table.files[lost][0]))) {
  veil("hidden");
  show(answer.file).catch(() => veil(""));
}
"##;
