//! References followed through the rules, as a visitor's browser would.

use url::Url;

use super::content::{Kind, Reference};
use super::referring::ReferringFile;
use super::{Audit, Code, Finding, UNKNOWN};
use ravel::address::Request;
use ravel::edge::{Outcome, RouteEnd};
use ravel::files::content_type;
use ravel::program::Stage;

impl<'r> Audit<'r> {
    pub(super) fn follow(
        &mut self,
        from: &ReferringFile<'_>,
        own: &str,
        base: Option<&Url>,
        reference: &Reference,
    ) {
        let Some(base) = base else { return };
        let kind = usize::from(reference.kind.is_asset());
        let is_stated = matches!(reference.kind, Kind::Canonical | Kind::SitemapEntry);
        // Most references of a site are to pages that many others refer to, written alike.
        let written = reference.url.split('#').next().unwrap_or_default();
        let is_path = written.starts_with('/')
            && !written.starts_with("//")
            && own.starts_with(&base[..url::Position::BeforePath]);
        if is_path && !is_stated && self.folder.fine[kind].contains(written) {
            return;
        }
        let Ok(url) = base.join(&reference.url) else { return };
        if !matches!(url.scheme(), "http" | "https")
            || reference.url.starts_with('#')
            || reference.url.is_empty()
        {
            return;
        }
        let edge = self.edge();
        let site = edge.site();
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
        let target = &url[..url::Position::AfterQuery];
        if !is_stated && self.folder.fine[kind].contains(target) {
            return;
        }
        if site.has_host(url.host_str().unwrap_or_default())
            && let Ok(request) = Request::get(url.as_str())
        {
            let before = self.folder.total;
            self.follow_on_site(from, own, reference, &url, &request);
            if !is_stated && self.folder.total == before {
                let fine = &mut self.folder.fine[kind];
                fine.insert(target.to_owned());
                if is_path {
                    fine.insert(written.to_owned());
                }
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
        let without_fragment = request.url().split('#').next().unwrap_or_default();
        let asked = self.short(without_fragment).to_owned();
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
            let key = if outside { "" } else { &*asked };
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
    pub(super) fn deeper(
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
    pub(super) fn shown_deeper(&self, name: &str) -> Vec<(String, Option<ravel::language::Line>)> {
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

    /// Whether a file is shown where nothing else is, at any URL.
    pub(super) fn is_missing_page(&self, name: &str) -> bool {
        let missing = self.edge().site().missing();
        missing.is_some_and(|(path, _)| self.edge().file_of(path) == Some(name))
    }

    pub(super) fn is_fallback_page(&self, name: &str) -> bool {
        let mut shown = self.space.rules(Stage::Fallback).filter_map(|rule| rule.rule().shows());
        shown.any(|path| {
            !path.path().is_literal() || self.edge().file_of(path.path().as_str()) == Some(name)
        })
    }
}

pub(super) fn base_of(own: &str, stated: Option<&str>) -> Option<Url> {
    let own = Url::parse(own).ok()?;
    match stated {
        Some(stated) => own.join(stated).ok(),
        None => Some(own),
    }
}

pub(super) fn is_relative(url: &str) -> bool {
    !url.starts_with(['/', '#']) && !url.is_empty() && Url::parse(url).is_err()
}
