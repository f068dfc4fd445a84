//! The entry points: every host with both schemes, and where they end.

use super::{Audit, Code, Finding};
use ravel::address::{Address, Request, Scheme};
use ravel::language::Line;
use ravel::program::Role;

/// Where people end who come in by each host and scheme.
#[derive(Debug, Clone)]
pub struct EntryPoints {
    pub(crate) deep: Option<String>,
    pub(crate) points: Vec<EntryPoint>,
}

impl EntryPoints {
    /// The page besides the first that was asked for, as a path below the base path; none where the
    /// site has no other.
    pub fn deep(&self) -> Option<&str> {
        self.deep.as_deref()
    }

    /// One for each host and scheme, the canonical host first.
    pub fn points(&self) -> &[EntryPoint] {
        &self.points
    }
}

/// A host with a scheme.
#[derive(Debug, Clone)]
pub struct EntryPoint {
    pub(crate) origin: String,
    pub(crate) line: Line,
    pub(crate) first: EntryPointEnd,
    pub(crate) deep: Option<EntryPointEnd>,
}

impl EntryPoint {
    /// The origin, as `http://www.harbour.example`.
    pub fn origin(&self) -> &str {
        &self.origin
    }

    /// The line that names the host.
    pub fn line(&self) -> Line {
        self.line
    }

    /// Where the site's first page ends.
    pub fn first(&self) -> &EntryPointEnd {
        &self.first
    }

    /// Where a deep page ends.
    pub fn deep(&self) -> Option<&EntryPointEnd> {
        self.deep.as_ref()
    }
}

/// Where a way ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EntryPointEnd {
    pub(crate) asked: String,
    pub(crate) url: String,
    pub(crate) status: Option<u16>,
    pub(crate) hops: usize,
    pub(crate) back_to_plain: bool,
}

impl EntryPointEnd {
    /// What was asked.
    pub fn asked(&self) -> &str {
        &self.asked
    }

    /// The address where it ends.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The status there; none off the site.
    pub fn status(&self) -> Option<u16> {
        self.status
    }

    /// The number of redirects.
    pub fn hops(&self) -> usize {
        self.hops
    }

    /// Whether it goes from HTTPS to plain HTTP.
    pub fn back_to_plain(&self) -> bool {
        self.back_to_plain
    }
}

impl<'r> Audit<'r> {
    /// Asks every entry point.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let entry_points = ravel_check::Audit::new(&edge).entry_points();
    /// assert_eq!(entry_points.points()[0].origin(), "https://h.example");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn entry_points(&self) -> EntryPoints {
        let deep = self.deep_page();
        let site = self.edge().site();
        let mut points = Vec::new();
        let mut entrances: Vec<_> = self.space.entrances().collect();
        let hosts: Vec<_> = entrances.iter().map(|origin| origin.host.clone()).collect();
        let of_host = |host: &str| hosts.iter().position(|known| **known == *host);
        entrances.sort_by_key(|origin| (of_host(&origin.host), origin.scheme == Scheme::Http));
        for origin in entrances {
            let alias = site
                .aliases()
                .iter()
                .find(|alias| alias.host().as_str() == &*origin.host && origin.role == Role::Alias);
            let preview = site
                .previews()
                .iter()
                .find(|preview| preview.matches(&origin.host) && origin.role == Role::Preview);
            let line = alias
                .map(|alias| alias.line())
                .or(preview.map(|preview| preview.line()))
                .unwrap_or(site.line());
            let base = alias.map_or(site.base(), |alias| alias.base());
            let whole = format!("{}://{}", origin.scheme, origin.host);
            let end =
                |path: &str| self.end_of(&format!("{whole}{}{path}", &base[..base.len() - 1]));
            let Some(first) = end("/") else { continue };
            points.push(EntryPoint {
                origin: whole.clone(),
                line,
                first,
                deep: deep.as_deref().and_then(end),
            });
        }
        EntryPoints { deep, points }
    }

    fn end_of(&self, url: &str) -> Option<EntryPointEnd> {
        let walk = self.edge().walk_unexplained(&Request::get(url).ok()?);
        let asked = walk.answers().iter().map(|(asked, _)| asked.as_str());
        let schemes: Vec<Scheme> = asked
            .chain([walk.url()])
            .filter_map(|url| Address::parse(url).ok())
            .map(|url| url.scheme())
            .collect();
        let back_to_plain = schemes.windows(2).any(|pair| pair == [Scheme::Https, Scheme::Http]);
        let status = walk.status();
        Some(EntryPointEnd {
            asked: url.to_owned(),
            url: walk.url().to_owned(),
            status,
            hops: walk.hops(),
            back_to_plain,
        })
    }

    /// A page below the first, that is shown under its own address.
    fn deep_page(&self) -> Option<String> {
        let edge = self.edge();
        let names = (0_u32..).zip(edge.files().names());
        let mut pages: Vec<&str> = names
            .filter(|(_, name)| name.ends_with(".html"))
            .map(|(file, _)| edge.own_address(file))
            .filter(|address| *address != "/" && !address.contains("404"))
            .collect();
        pages.sort_by_key(|address| {
            (std::cmp::Reverse(address.matches('/').count()), address.len())
        });
        let shown = |address: &&&str| {
            self.request_below(address)
                .is_some_and(|request| edge.answer(&request).outcome() == ravel::Outcome::File)
        };
        pages.iter().find(shown).map(|address| (*address).to_owned())
    }

    /// Findings on the entry points.
    pub fn way_findings(&self, entry_points: &EntryPoints) -> Vec<Finding> {
        let site = self.edge().site();
        let mut out = Vec::new();
        for point in &entry_points.points {
            let plain = point.origin.starts_with("http:");
            let alone = site.is_preview(point.origin.split("://").nth(1).unwrap_or_default());
            let most = if site.hsts().is_some_and(|hsts| hsts.subdomains()) && plain && !alone {
                2
            } else {
                1
            };
            // A loop is a finding at its rule.
            let ends = std::iter::once(&point.first).chain(&point.deep);
            for end in ends.filter(|end| end.status != Some(508)) {
                let found = if end.back_to_plain {
                    Finding::on(
                        Code::EntryPointDowngrade,
                        point.line,
                        format!("{} redirects from HTTPS to plain HTTP", end.asked),
                    )
                    .with_note("browsers warn, and anybody on the network can read along")
                    .with_help("write `https` in the target")
                } else if end.hops > most {
                    let what = format!("{} takes {} hops to {}", end.asked, end.hops, end.url);
                    Finding::on(Code::EntryPointHops, point.line, what)
                        .with_note("each hop costs a round trip")
                        .with_help("remove `hops each`, or redirect to the last URL at once")
                } else if site.scheme() == Scheme::Https
                    && end.url.starts_with("http:")
                    && !alone
                    && end.status.is_some()
                {
                    Finding::on(
                        Code::EntryPointHttp,
                        point.line,
                        format!("{} ends on plain HTTP, at {}", end.asked, end.url),
                    )
                    .with_note("anybody on the network can read and change what is sent")
                    .with_help("write `http upgrade`, or leave the setting out")
                } else {
                    continue;
                };
                out.push(found.with_example(&*end.asked));
                break;
            }
        }
        out
    }
}
