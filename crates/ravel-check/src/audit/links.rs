//! References followed through the rules, as a visitor's browser would.

use std::ops::Range;

use url::Url;

use super::content::{self, Kind, Reference};
use super::fingerprints::of_manifest;
use super::{Audit, Code, Finding, FindingPlace, UNKNOWN};
use ravel::address::Request;
use ravel::edge::{Outcome, RouteEnd};
use ravel::edit::Edit;
use ravel::files::content_type;
use ravel::program::Stage;

/// A file that references are read from.
struct ReferringFile<'f> {
    name: &'f str,
    text: &'f str,
}

impl ReferringFile<'_> {
    /// Another URL in place of a reference that stands there as it is, once.
    fn instead(&self, reference: &Reference, url: &str) -> Option<Edit> {
        let at = self.text.get(reference.range.clone())?;
        let (from, more) = (at.find(&reference.url)?, at.matches(&reference.url).count() > 1);
        let is_plain = !url.contains(['&', '"', '\'', '<', '>', ' ', '(', ')', ',']);
        let start = reference.range.start + from;
        let range = start..start + reference.url.len();
        let name = self.name.into();
        (is_plain && !more).then(|| Edit::InFile { name, range, text: url.to_owned() })
    }

    fn at(&self, range: &Range<usize>) -> FindingPlace {
        let before = &self.text.as_bytes()[..range.start.min(self.text.len())];
        let line = 1 + memchr::memchr_iter(b'\n', before).count() as u32;
        FindingPlace::File { name: self.name.into(), at: Some((line, range.clone())) }
    }
}

impl<'r> Audit<'r> {
    /// Reads a built file and follows what it refers to. Files for which [`super::reads`] is false
    /// need not be read.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let mut audit = ravel_check::Audit::new(&edge);
    /// audit.read("index.html", b"<a href=/nowhere>x</a>");
    /// assert_eq!(audit.content()[0].code().name(), "broken-link");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn read(&mut self, name: &str, bytes: &[u8]) {
        let edge = self.edge();
        let Some(file) = edge.number_of(name) else { return };
        let text = String::from_utf8_lossy(bytes);
        if content::is_build_manifest(name) {
            self.folder.built.extend(of_manifest(name, &text));
        }
        let content = match content::read(name, &text) {
            Ok(content) => content,
            Err(why) => return self.unreadable(name, &why),
        };
        let from = ReferringFile { name, text: &text };
        let own = edge.url_of(file);
        let hidden =
            Request::get(&own).is_ok_and(|request| !edge.route(&request).hops().is_empty());
        let mut at_fault = Vec::new();
        if !hidden {
            let base = base_of(&own, content.base.as_deref());
            for (number, reference) in content.references.iter().enumerate() {
                let before = self.folder.total;
                self.follow(&from, &own, base.as_ref(), reference);
                if self.folder.total > before {
                    at_fault.push(number);
                }
            }
        }
        for (shown_at, line) in self.shown_deeper(name) {
            let base = base_of(&shown_at, content.base.as_deref());
            let relative =
                |reference: &Reference| reference.kind.is_loaded() && is_relative(&reference.url);
            let others = content
                .references
                .iter()
                .enumerate()
                .filter(|(number, _)| !at_fault.contains(number));
            for reference in
                others.map(|(_, reference)| reference).filter(|reference| relative(reference))
            {
                let at_home = base_of(&own, content.base.as_deref())
                    .and_then(|base| base.join(&reference.url).ok());
                let there = base.as_ref().and_then(|base| base.join(&reference.url).ok());
                if at_home != there {
                    self.deeper(&from, reference, &shown_at, there, line);
                }
            }
        }
        let shell = content.app_shell && !self.is_fallback_page(name);
        if shell {
            let what = format!("{name} looks like a single-page app, and no fallback serves it");
            let address = edge.own_address(file);
            let folder = address.rsplit_once('/').map_or("", |(folder, _)| folder);
            let (path, accept) = match folder {
                "" => ("", "  accept catch-all-fallback \"the app answers every URL\"\n"),
                _ => (folder, ""),
            };
            let text = format!("fallback {path}{{/step*}} -> {address}\n{accept}");
            let finding = Finding::in_file(Code::AppWithoutFallback, name, what)
                .with_edits([Edit::AtEnd { text }])
                .with_note("a URL of the app that is opened directly, or reloaded, is 404")
                .with_help(match folder {
                    "" => format!(
                        "write `fallback {{/step*}} -> {address}`, and below it `accept \
                         catch-all-fallback \"the app answers every URL\"`"
                    ),
                    _ => format!("write `fallback {folder}{{/step*}} -> {address}`"),
                });
            self.folder.add(name, finding);
        }
    }

    /// Says that a file could not be read.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let mut audit = ravel_check::Audit::new(&edge);
    /// audit.unreadable("index.html", "permission denied");
    /// assert_eq!(audit.content()[0].code().name(), "unreadable-file");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn unreadable(&mut self, name: &str, why: &str) {
        let finding =
            Finding::in_file(Code::UnreadableFile, name, format!("cannot read {name}: {why}"))
                .with_note("its links were not checked")
                .with_help("fix the file");
        self.folder.add(name, finding);
    }

    fn follow(
        &mut self,
        from: &ReferringFile<'_>,
        own: &str,
        base: Option<&Url>,
        reference: &Reference,
    ) {
        let Some(url) = base.and_then(|base| base.join(&reference.url).ok()) else { return };
        if !matches!(url.scheme(), "http" | "https")
            || reference.url.starts_with('#')
            || reference.url.is_empty()
        {
            return;
        }
        let edge = self.edge();
        let site = edge.site();
        let host = url.host_str().unwrap_or_default().to_owned();
        let finding = |code, what: String| Finding::at(code, from.at(&reference.range), what);
        if reference.kind.is_loaded()
            && url.scheme() == "http"
            && site.scheme() == ravel::address::Scheme::Https
        {
            let what = format!("`{}` is loaded over plain HTTP", reference.url);
            let finding = finding(Code::MixedContent, what)
                .with_note("browsers block it on an HTTPS page, or warn")
                .with_help(format!(
                    "write `https{}`, or serve a copy of your own",
                    &url.as_str()[4..]
                ))
                .with_edits(from.instead(reference, &format!("https{}", &url.as_str()[4..])));
            return self.folder.add(url.as_str(), finding);
        }
        // Most references of a site are to pages that many others refer to.
        let target = (reference.kind.is_asset(), url[..url::Position::AfterQuery].to_owned());
        let is_stated = matches!(reference.kind, Kind::Canonical | Kind::SitemapEntry);
        if !is_stated && self.folder.fine.contains(&target) {
            return;
        }
        if site.has_host(&host)
            && let Ok(request) = Request::get(url.as_str())
        {
            let before = self.folder.total;
            self.follow_on_site(from, own, reference, &url, &request);
            if !is_stated && self.folder.total == before {
                self.folder.fine.insert(target);
            }
        }
    }

    /// What a reference to the site itself gets.
    fn follow_on_site(
        &mut self,
        from: &ReferringFile<'_>,
        own: &str,
        reference: &Reference,
        url: &Url,
        request: &Request,
    ) {
        let edge = self.edge();
        let finding = |code, what: String| Finding::at(code, from.at(&reference.range), what);
        let route = edge.route(request);
        let asked = self.short(request.url()).to_owned();
        let last = route.hops().last().map(|hop| hop.to().without_fragment().to_owned());
        if matches!(reference.kind, Kind::Canonical | Kind::SitemapEntry) {
            return self.stated_address(from, own, reference, request.url(), last);
        }
        let missing = match route.end() {
            RouteEnd::Answer { outcome: Outcome::Missing | Outcome::Outside, .. } => Some("404"),
            RouteEnd::Answer { outcome: Outcome::Gone, .. } => Some("410"),
            RouteEnd::Loop => Some("a redirect loop"),
            RouteEnd::TooLong => Some("redirects to a URL that is too long"),
            _ => None,
        };
        if let Some(gets) = missing {
            let outside = matches!(route.end(), RouteEnd::Answer { outcome: Outcome::Outside, .. })
                && reference.url.starts_with('/');
            let found = match outside {
                true => self.outside(from, reference),
                false => finding(Code::BrokenLink, format!("`{}` is a broken link", reference.url))
                    .with_note(gets)
                    .with_help(self.or_nearest(request.url(), "correct or remove it")),
            };
            // A build that does not know the base path is one mistake, however many references it
            // makes.
            let key = if outside { "" } else { &asked };
            return self.folder.add(key, found.with_example(request.url()));
        }
        if let RouteEnd::Answer { file: Some(file), .. } = route.end()
            && reference.kind.is_asset()
            && content_type(&edge.files().names()[*file as usize]).starts_with("text/html")
        {
            let name = &edge.files().names()[*file as usize];
            let what = format!("`{}` gets the HTML page {name}", reference.url);
            let found = finding(Code::AssetGetsHtml, what)
                .with_note("browsers refuse HTML for a script, a style or an image")
                .with_help("build the file, or correct its name");
            return self.folder.add(&asked, found.with_example(request.url()));
        }
        if let Some(last) = last {
            let written = match url.fragment() {
                Some(fragment) => format!("{}#{fragment}", self.short(&last)),
                None => self.short(&last).to_owned(),
            };
            let found = finding(Code::LinkRedirects, format!("`{}` redirects", reference.url))
                .with_note("one more round trip")
                .with_help(format!("write `{written}`"))
                .with_edits(from.instead(reference, &written));
            self.folder.add(&asked, found.with_example(request.url()));
        }
    }

    /// A reference that leads out of the base path.
    fn outside(&self, from: &ReferringFile<'_>, reference: &Reference) -> Finding {
        let site = self.edge().site();
        let below = format!("{}{}", site.open_base(), reference.url);
        let what = format!("`{}` is outside the base path {}", reference.url, site.base());
        Finding::at(Code::LinkOutsideBase, from.at(&reference.range), what)
            .with_note(match reference.kind.is_loaded() {
                true => "404, and a blank page where it is a script or a style",
                false => "404",
            })
            .with_help(format!("build the site for the base path, so that it is `{below}`"))
    }

    /// A canonical link, or a sitemap's entry.
    fn stated_address(
        &mut self,
        from: &ReferringFile<'_>,
        own: &str,
        reference: &Reference,
        stated: &str,
        last: Option<String>,
    ) {
        let edge = self.edge();
        let finding =
            |what: String| Finding::at(Code::CanonicalMismatch, from.at(&reference.range), what);
        let route = Request::get(stated).map(|request| edge.route(&request));
        let shown = route.as_ref().is_ok_and(|route| {
            matches!(route.end(), RouteEnd::Answer { outcome: Outcome::File, .. })
        });
        let found = match reference.kind {
            Kind::Canonical if stated != own && last.as_deref() == Some(own) => finding(format!(
                "the canonical link is {stated}, which redirects to the canonical URL"
            ))
            .with_note("search engines follow a redirect")
            .with_help(format!("write `{own}`"))
            .with_edits(from.instead(reference, own)),
            Kind::Canonical if stated != own && !shown => {
                finding(format!("the canonical link is {stated}, which is missing"))
                    .with_note("search engines may drop the page")
                    .with_help(format!("write `{own}`"))
                    .with_edits(from.instead(reference, own))
            }
            Kind::SitemapEntry if !shown => {
                finding(format!("the sitemap lists {stated}, which is missing"))
                    .with_note("search engines get 404")
                    .with_help(self.or_nearest(stated, "remove it"))
            }
            Kind::SitemapEntry => match last {
                Some(last) => finding(format!("the sitemap lists {stated}, which redirects"))
                    .with_note("search engines follow a redirect")
                    .with_help(format!("write `{last}`"))
                    .with_edits(from.instead(reference, &last)),
                None => return,
            },
            _ => return,
        };
        self.folder.add(stated, found.with_example(stated));
    }

    /// A relative reference of a page that is also shown at addresses with more segments.
    fn deeper(
        &mut self,
        from: &ReferringFile<'_>,
        reference: &Reference,
        shown_at: &str,
        there: Option<Url>,
        line: Option<ravel::language::Line>,
    ) {
        let Some(request) = there.and_then(|there| Request::get(there.as_str()).ok()) else {
            return;
        };
        let edge = self.edge();
        let route = edge.route(&request);
        let gets = match route.end() {
            RouteEnd::Answer { file: Some(file), outcome: Outcome::File, .. } => {
                let name = &edge.files().names()[*file as usize];
                if !content_type(name).starts_with("text/html") {
                    return;
                }
                format!("the page {name}")
            }
            _ => "404".to_owned(),
        };
        let code = if gets == "404" { Code::BrokenLink } else { Code::AssetGetsHtml };
        let what = format!(
            "`{}` is relative: on {} it is {}, which gets {gets}",
            reference.url,
            self.short(shown_at),
            self.short(request.url())
        );
        let found = Finding::at(code, from.at(&reference.range), what)
            .with_note("the page appears without its scripts or styles")
            .with_help("begin it with the base path, or write `<base href>`")
            .with_example(request.url())
            .with_lines(line);
        self.folder.add(&format!("{} {}", from.name, reference.url), found);
    }

    /// Deeper addresses at which rules show a file, with their lines.
    fn shown_deeper(&self, name: &str) -> Vec<(String, Option<ravel::language::Line>)> {
        let edge = self.edge();
        let mut shown = Vec::new();
        for stage in [Stage::Fallback, Stage::Missing] {
            for rule in self.space.rules(stage) {
                let Some(path) = rule.rule().shows() else { continue };
                if path.path().is_literal() && edge.file_of(path.path().as_str()) == Some(name) {
                    let deep = self.sample_with(rule.pattern(), &|_| UNKNOWN.to_owned());
                    let asked = deep.filter(|request| edge.answer(request).file() == Some(name));
                    shown
                        .extend(asked.map(|request| (request.url().to_owned(), Some(rule.line()))));
                }
            }
        }
        if let Some((path, line)) = edge.site().missing()
            && edge.file_of(path) == Some(name)
            && let Some(request) = self.request_below(UNKNOWN)
        {
            shown.push((request.url().to_owned(), Some(*line)));
        }
        shown
    }

    fn is_fallback_page(&self, name: &str) -> bool {
        let mut shown = self.space.rules(Stage::Fallback).filter_map(|rule| rule.rule().shows());
        shown.any(|path| {
            !path.path().is_literal() || self.edge().file_of(path.path().as_str()) == Some(name)
        })
    }
}

fn base_of(own: &str, stated: Option<&str>) -> Option<Url> {
    let own = Url::parse(own).ok()?;
    match stated {
        Some(stated) => own.join(stated).ok(),
        None => Some(own),
    }
}

fn is_relative(url: &str) -> bool {
    !url.starts_with(['/', '#']) && !url.is_empty() && Url::parse(url).is_err()
}
