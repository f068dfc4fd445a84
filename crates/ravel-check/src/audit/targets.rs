//! What a redirect leads to, and what it hides.

use super::shadowing::RuleRemainder;
use super::suffix::is_public_suffix;
use super::{Audit, Code, Finding};
use ravel::address::{Request, Scheme};
use ravel::edge::{Route, RouteEnd};
use ravel::edit::Edit;
use ravel::finding::FindingPlace;
use ravel::program::{Redirect, RuleId, RuleRef, Stage, TextSet};
use ravel::template::Target;

impl<'r> Audit<'r> {
    /// A redirect whose target is redirected again.
    pub(super) fn leads_on(
        &self,
        rule: RuleRef<'_>,
        redirect: &Redirect,
        routes: &[(Request, Route)],
        out: &mut Vec<Finding>,
    ) {
        let permanent = redirect.is_permanent();
        for (request, route) in routes {
            let Some(next) = route.hops().get(1) else { continue };
            let last = &route.hops()[route.hops().len() - 1].to();
            let by = next.rule().map_or("the canonical URL".to_owned(), |by| self.name_of(by));
            let temporary = permanent.then(|| self.to_temporary(rule, request, route)).flatten();
            if let Some(finding) = temporary {
                out.push(finding);
                return;
            }
            if next.rule().is_none()
                && redirect.target().origin().is_some_and(|origin| origin.scheme() == Scheme::Http)
            {
                continue;
            }
            let own = |host: &str| {
                self.edge().site().aliases().iter().any(|alias| alias.host().as_str() == host)
            };
            if own(route.hops()[0].to().host()) {
                // Said as `redirect-to-alias`.
                return;
            }
            let what = format!(
                "{} redirects to {}, which {by} redirects to {}",
                self.short(request.url()),
                self.short(route.hops()[0].to().as_str()),
                self.short(last.as_str())
            );
            out.push(
                Finding::on(Code::RedirectChain, rule.line(), what)
                    .with_note(format!(
                        "{} hops with `hops each`; joined into one otherwise",
                        route.hops().len()
                    ))
                    .with_help(match redirect.target().path().is_literal() {
                        true => format!("redirect to {} at once", self.short(last.as_str())),
                        false => "redirect to the last URL at once".to_owned(),
                    })
                    .with_edits(self.at_once(rule, redirect, last.as_str()))
                    .with_request(request)
                    .with_lines(next.rule().map(|by| self.line(by))),
            );
            return;
        }
    }

    /// The target of a redirect, which all that it takes come to at once.
    fn at_once(&self, rule: RuleRef<'_>, redirect: &Redirect, last: &str) -> Option<Edit> {
        let base = self.edge().site().open_base();
        let to = self.short(last).strip_prefix(base).filter(|to| to.starts_with('/'))?;
        let target = redirect.target();
        let is_plain = target.path().is_literal() && target.query().is_none() && !to.contains('?');
        let from = format!("-> {target}");
        let to = format!("-> {to}");
        is_plain.then(|| Edit::OnLine { line: rule.line(), from, to })
    }

    /// A permanent redirect to a URL that some rule redirects temporarily.
    fn to_temporary(&self, rule: RuleRef<'_>, request: &Request, route: &Route) -> Option<Finding> {
        let by =
            route.hops()[1..].iter().filter(|hop| !hop.permanent()).find_map(|hop| hop.rule())?;
        let name = self.name_of(by);
        let what = format!("`{rule}` is permanent, but {name} redirects its target temporarily");
        let first = self.short(route.hops()[0].to().as_str());
        Some(
            Finding::on(Code::PermanentToTemporary, rule.line(), what)
                .with_note(format!(
                    "with `hops each`, browsers remember the redirect to {first} for good"
                ))
                .with_help(format!("make {name} permanent, or this rule temporary"))
                .with_request(request)
                .with_lines([self.line(by)]),
        )
    }

    /// A redirect that ends in 404.
    pub(super) fn ends(
        &self,
        rule: RuleRef<'r>,
        routes: &[(Request, Route)],
        out: &mut Vec<Finding>,
    ) {
        let missing: Vec<&(Request, Route)> =
            routes.iter().filter(|(_, route)| route.ends_missing()).collect();
        let Some((request, route)) = missing.first() else { return };
        let Some(redirect) = rule.rule().redirect() else { return };
        let fixed = redirect.target().expressions().next().is_none();
        if !fixed && !self.is_listed(rule) && self.image_has_a_page(rule) {
            return;
        }
        let last = route.hops().last().map_or("", |hop| hop.to().as_str());
        let count = missing.len();
        let what = match fixed || count == 1 {
            true => format!(
                "{} redirects to {}, which is missing",
                self.short(request.url()),
                self.short(last)
            ),
            false => {
                let urls: Vec<&str> =
                    missing.iter().take(3).map(|(request, _)| self.short(request.url())).collect();
                format!(
                    "{} and others redirect to missing URLs, the first to {}",
                    urls.join(", "),
                    self.short(last)
                )
            }
        };
        // In a page, `//host/` would be a host; in rules it is a path.
        let host = redirect.target().to_string();
        let host = host.strip_prefix("//").filter(|rest| rest.contains('.'));
        let help = match host {
            Some(host) => format!("write `https://{host}`, if that host is meant"),
            None => self.or_nearest(last, "redirect to an existing page"),
        };
        out.push(
            Finding::on(Code::RedirectToMissing, rule.line(), what)
                .with_note("404 after a redirect")
                .with_help(help)
                .with_request(request),
        );
    }

    /// Whether some address that a rule can lead to is a page, or is left to another rule or site.
    fn image_has_a_page(&self, rule: RuleRef<'r>) -> bool {
        let Some(image) = self.space.image(rule.rule()) else { return true };
        let Some(redirect) = rule.rule().redirect() else { return true };
        if redirect
            .target()
            .origin()
            .is_some_and(|origin| !self.edge().site().has_host(origin.host().host().as_str()))
        {
            return true;
        }
        let template = redirect.target().path_as_pattern(rule.pattern());
        let fold = self.edge().site().ignore_case();
        if self
            .addresses_below(template.literal_prefix())
            .any(|address| template.matches(address, fold, &mut Default::default()))
        {
            return true;
        }
        [Stage::Redirect, Stage::Rewrite, Stage::Fallback].into_iter().any(|stage| {
            let met = self.overlaps(stage).with_target(redirect.target());
            met.into_iter().any(|number| {
                self.space_member(
                    &image.and(&self.space.matching(self.space.rule(stage, number).rule())),
                )
                .is_some()
            })
        })
    }

    /// `/fares` redirected and `/fares/` missing, or the other way round.
    pub(super) fn other_slash_form(
        &self,
        rule: RuleRef<'_>,
        routes: &[(Request, Route)],
        out: &mut Vec<Finding>,
    ) {
        let path = rule.pattern().path().as_str();
        let last = path.rsplit('/').find(|segment| !segment.is_empty()).unwrap_or_default();
        if rule.one_path().is_none() || path == "/" || last.contains('.') || routes.is_empty() {
            return;
        }
        let other = match path.strip_suffix('/') {
            Some(shorter) => shorter.to_owned(),
            None => format!("{path}/"),
        };
        let Some(request) = self.request_below(&other) else { return };
        let route = self.edge().route(&request);
        if route.ends_missing() && route.hops().is_empty() {
            let what = format!("{path} redirects, and {other} is missing");
            let pattern = rule.pattern().to_string();
            let text = rule.to_string().replacen(&pattern, &pattern.replacen(path, &other, 1), 1);
            // A second line for what is wrong already would be wrong, too.
            let is_right =
                |(_, route): &(Request, Route)| route.hops().len() == 1 && !route.ends_missing();
            let place = FindingPlace::Line(rule.line());
            let is_fine =
                routes.iter().all(is_right) && !out.iter().any(|finding| *finding.place() == place);
            let edit = is_fine.then(|| Edit::AtEnd { text: format!("{text}\n") });
            let help = match is_fine {
                true => format!("add a line for `{other}`"),
                false => format!("redirect `{other}` to where this line is to lead, too"),
            };
            out.push(
                Finding::on(Code::MissingSlashVariant, rule.line(), what)
                    .with_note(format!(
                        "visitors who type the URL {} get 404",
                        if other.ends_with('/') {
                            "with a trailing slash"
                        } else {
                            "without the trailing slash"
                        }
                    ))
                    .with_help(help)
                    .with_edits(edit)
                    .with_request(&request),
            );
        }
    }

    /// What can be said of a target as it is written.
    pub(super) fn written_target(
        &self,
        rule: RuleRef<'_>,
        redirect: &Redirect,
        out: &mut Vec<Finding>,
    ) {
        let Some(origin) = redirect.target().origin() else { return };
        let site = self.edge().site();
        let host = origin.host().host().as_str();
        let target = redirect.target().to_string();
        let is_listed = origin.host().capture().is_some_and(|name| {
            rule.tests()
                .of_capture(name)
                .any(|(set, negated)| matches!(set, TextSet::OneOf(_)) && !negated)
        });
        if origin.host().capture().is_some() && !is_listed && is_public_suffix(host) {
            out.push(
                Finding::on(
                    Code::OpenRedirect,
                    rule.line(),
                    format!("`{target}` redirects to any name under {host}, where anybody can register one"),
                )
                .with_note("a link to this site can lead to an attacker's")
                .with_help("put the captured label before a domain of your own, or list its values with `where … is one of`"),
            );
        }
        if site.aliases().iter().any(|alias| alias.host().as_str() == host)
            && origin.host().capture().is_none()
        {
            let scheme = format!("{}://", site.scheme());
            let meant = target.replacen(host, site.host().as_str(), 1);
            let meant = meant.replacen("http://", &scheme, 1);
            out.push(
                Finding::on(
                    Code::RedirectToAlias,
                    rule.line(),
                    format!("`{target}` is on {host}, an alias that redirects to {}", site.host()),
                )
                .with_note("one more hop with `hops each`")
                .with_help(format!("write `{meant}`"))
                .with_edits([Edit::OnLine {
                    line: rule.line(),
                    from: target,
                    to: meant,
                }]),
            );
        } else if origin.scheme() == Scheme::Http && (!site.has_host(host) || site.upgrades()) {
            out.push(
                Finding::on(Code::RedirectToHttp, rule.line(), format!("`{target}` is plain HTTP"))
                    .with_note("anybody on the network can read and change what is sent")
                    .with_help(format!("write `https{}` if that host has HTTPS", &target[4..])),
            );
        }
    }

    pub(super) fn unused_captures(
        &self,
        rule: RuleRef<'_>,
        redirect: &Redirect,
        out: &mut Vec<Finding>,
    ) {
        let used = |name: &str| {
            redirect.target().expressions().any(|(_, used)| used == name)
                || rule.tests().of_capture(name).next().is_some()
        };
        let unused: Vec<String> = rule
            .pattern()
            .captures()
            .filter(|(_, name)| !used(name))
            .map(|(form, name)| form.written(name))
            .collect();
        if !unused.is_empty() {
            let what = format!("`{}` is captured and not used", unused.join("`, `"));
            out.push(
                Finding::on(Code::UnusedCapture, rule.line(), what)
                    .with_note("URLs that differ only there redirect to the same place")
                    .with_help("use it in the target, or accept this where it is meant"),
            );
        }
    }

    /// The rules of the first stage that take the address of a file: how many, and the first.
    pub(super) fn hidden_files(&self) -> &[(RuleId, usize, u32)] {
        self.hidden.get_or_init(|| {
            let edge = self.edge();
            let mut hidden: Vec<(RuleId, usize, u32)> = Vec::new();
            for file in 0..edge.files().names().len() as u32 {
                let Ok(request) = Request::get(&edge.url_of(file)) else { continue };
                let route = edge.route(&request);
                let elsewhere_or_gone = route.hops().is_empty()
                    && !matches!(
                        route.end(),
                        RouteEnd::Answer { outcome: ravel::Outcome::File, .. }
                    );
                let by = match route.hops().first() {
                    Some(hop) => hop.rule(),
                    None if elsewhere_or_gone => route.decided_by(),
                    None => None,
                };
                let Some(by) = by else { continue };
                // Visitors with other headers get the file; so do those of other URLs.
                if edge.program().rule(by).tests().request_headers() != 0
                    || self.is_shown_elsewhere(file)
                {
                    continue;
                }
                match hidden.iter_mut().find(|(known, ..)| *known == by) {
                    Some((_, count, _)) => *count += 1,
                    None => hidden.push((by, 1, file)),
                }
            }
            hidden
        })
    }

    /// Whether a file is shown under another URL than its own: by a rule, or as the 404 page.
    pub(super) fn is_shown_elsewhere(&self, file: u32) -> bool {
        let edge = self.edge();
        if edge.missing_file() == Some(&*edge.files().names()[file as usize]) {
            return true;
        }
        let table = edge.variant_table().into_iter();
        let addresses: Vec<&str> =
            table.filter(|(_, other, _)| *other == file).map(|(address, ..)| address).collect();
        let fold = edge.site().ignore_case();
        let is_made = |path: &Target, rule: &RuleRef<'r>| {
            let made = |address: &&str| path.captures_for(address, rule.pattern(), fold).is_some();
            addresses.iter().any(made)
        };
        [Stage::Rewrite, Stage::Fallback, Stage::Missing].into_iter().any(|stage| {
            let names_it = |rule: &RuleRef<'r>| {
                rule.shows().is_some_and(|path| match path.literal_path() {
                    Some(path) => edge.file_number(path) == Some(file),
                    None => is_made(path, rule),
                })
            };
            let acts = |number: u32, rule: RuleRef<'r>| {
                !matches!(self.left(stage, number, rule), RuleRemainder::Nothing(..))
            };
            (0..)
                .zip(self.space.rules(stage))
                .any(|(number, rule)| names_it(&rule) && acts(number, rule))
        })
    }

    pub(super) fn hides(&self, rule: RuleRef<'_>, count: usize, first: u32) -> Finding {
        let name = &self.edge().files().names()[first as usize];
        let files = match count {
            1 => format!("the file {name}"),
            _ => format!("{count} files, the first is {name}"),
        };
        Finding::on(Code::ShadowedFile, rule.line(), format!("`{rule}` shadows {files}"))
            .with_note("no visitor can get what is there")
            .with_help("remove the file, narrow the pattern, or add `when no file`")
            .with_example(self.edge().url_of(first))
    }
}
