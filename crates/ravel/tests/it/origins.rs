//! Hosts, schemes and base paths: what is redirected to the canonical origin, and what is refused,
//! against a list of the site's entry points.

use http::Method;
use proptest::prelude::*;
use ravel::address::Scheme;
use ravel::{Edge, FileList, Outcome, Request, Rules};

#[derive(Debug, Clone, Copy, PartialEq)]
enum Role {
    Canonical,
    Alias,
    Preview,
}

#[derive(Debug, Clone)]
struct Site {
    scheme: &'static str,
    base: &'static str,
    /// Whether plain HTTP is answered, not sent on.
    allows_http: bool,
}

impl Site {
    fn rules(&self) -> String {
        let http = if self.allows_http { "  http allow\n" } else { "" };
        format!(
            "site {}://h.example{}\n  alias www.h.example, https://old.example/blog/\n  preview *.p.example\n{http}",
            self.scheme, self.base
        )
    }

    /// What a host is, and its base path.
    fn entry_point(&self, host: &str) -> Option<(Role, &'static str)> {
        match host {
            "h.example" => Some((Role::Canonical, self.base)),
            "www.h.example" => Some((Role::Alias, self.base)),
            "old.example" => Some((Role::Alias, "/blog/")),
            _ if host.ends_with(".p.example") => Some((Role::Preview, self.base)),
            _ => None,
        }
    }

    /// The status, and where a redirect leads.
    fn gets(&self, method: &Method, scheme: &str, host: &str, path: &str) -> (u16, Option<String>) {
        let Some((role, base)) = self.entry_point(host) else { return (421, None) };
        let below = match path.strip_prefix(base.trim_end_matches('/')) {
            Some(rest) if rest.starts_with('/') => rest,
            Some("") => "/",
            _ => return (404, None),
        };
        let safe = method == Method::GET || method == Method::HEAD;
        let upgrades = self.scheme == "https" && !self.allows_http;
        let home = match role {
            Role::Preview => (scheme, host),
            Role::Canonical | Role::Alias if upgrades => ("https", "h.example"),
            Role::Canonical | Role::Alias => (scheme, "h.example"),
        };
        let there = format!("{}{below}", self.base.trim_end_matches('/'));
        if home != (scheme, host) || there != path {
            return (if safe { 301 } else { 308 }, Some(format!("{}://{}{there}", home.0, home.1)));
        }
        match below {
            _ if !safe => (405, None),
            "/" | "/page" => (200, None),
            _ => (404, None),
        }
    }
}

fn site() -> impl Strategy<Value = Site> {
    (
        prop::sample::select(vec!["http", "https"]),
        prop::sample::select(vec!["/", "/docs/", "/a/b/"]),
        any::<bool>(),
    )
        .prop_map(|(scheme, base, allows)| Site {
            scheme,
            base,
            // Of a site on plain HTTP there is nothing to upgrade to.
            allows_http: allows && scheme == "https",
        })
}

proptest! {
    #![proptest_config(ravel_testing::config(3_000))]

    #[test]
    fn entry_points_lead_to_the_canonical_origin(
        site in site(),
        method in prop::sample::select(vec![Method::GET, Method::HEAD, Method::POST]),
        scheme in prop::sample::select(vec![Scheme::Http, Scheme::Https]),
        host in prop::sample::select(vec![
            "h.example", "www.h.example", "old.example", "x.p.example", "p.example", "y.x.p.example", "other.example",
        ]),
        path in "(/|/docs|/docs/|/docs/page|/docsy/|/a/b|/a/b/page|/a|/blog|/blog/page|/blog/|/page|/none)",
    ) {
        let rules = site.rules();
        let rules = Rules::parse(&rules).unwrap_or_else(|problems| panic!("{rules}\n{problems}"));
        let edge = Edge::new(&rules, FileList::from_iter(["index.html", "page.html"]));
        let answer = edge.answer(&Request::from_parts(method.clone(), scheme, host, &path)).clone();
        // `*.` stands for one label.
        let host = if host == "y.x.p.example" { "none" } else { host };
        let (status, location) = site.gets(&method, scheme.as_str(), host, &path);
        prop_assert_eq!(answer.status(), Some(status), "{} {}://{}{} of {:?}", method, scheme, host, path, site);
        prop_assert_eq!(answer.location(), location.as_deref(), "{:?}", site);
        let outside = site.entry_point(host).is_some() && answer.outcome() == Outcome::Outside;
        prop_assert!(!outside || status == 404);
    }
}
