//! Links of made pages against following each with a URL parser and the edge; and where each entry
//! point ends against walking there.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use ravel::edge::WalkEnd;
use ravel::finding::FindingPlace;
use ravel::rules::Code;
use ravel::{Edge, FileList, Request, Rules};
use ravel_check::Audit;
use url::Url;

const SITE: &str =
    "site https://h.example/\n  files dist\n  missing /404.html\n  alias www.h.example\n";
const PAGES: [&str; 6] =
    ["index.html", "404.html", "a.html", "b/index.html", "b/c.html", "app/index.html"];

const RULES: [&str; 6] = [
    "redirect /old{/x*} -> /b{/x*}\n",
    "redirect /away -> https://other.example/\n",
    "redirect /lost -> /nowhere\n",
    "gone /gone\n",
    "fallback /app{/x*} -> /app/\n",
    "elsewhere /api{/x*}\n",
];

const LINKS: [&str; 20] = [
    "/a",
    "a",
    "../a",
    "./b/",
    "/b/c?x=1#top",
    "c",
    "#here",
    "",
    "/none",
    "none",
    "/old/c",
    "/old/none",
    "/away",
    "/lost",
    "/gone",
    "/app/seat",
    "/api/seats",
    "https://h.example/none/",
    "https://www.h.example/a",
    "https://other.example/none",
];

/// What a link on a page means to a browser.
fn target(page: &str, link: &str) -> Url {
    let stem = page.strip_suffix("index.html").unwrap_or_else(|| page.trim_end_matches(".html"));
    let base = Url::parse(&format!("https://h.example/{stem}")).unwrap();
    let mut target = base.join(link).unwrap();
    target.set_fragment(None);
    target
}

/// Whether a URL leads to something, as a browser follows it.
fn leads_somewhere(edge: &Edge, target: &Url) -> bool {
    if target.host_str().is_some_and(|host| !edge.site().has_host(host)) {
        return true;
    }
    let walk = edge.walk(&Request::get(target.as_str()).unwrap());
    match walk.end() {
        WalkEnd::Away => true,
        WalkEnd::Answer => !matches!(walk.last().1.answer().status(), Some(404 | 410)),
        _ => false,
    }
}

proptest! {
    #![proptest_config(ravel_testing::config(400))]

    /// The links that are said to be broken are those that lead to nothing.
    #[test]
    fn broken_links_are_those_that_lead_to_nothing(
        rules in prop::sample::subsequence(RULES.to_vec(), 0..=RULES.len()),
        links in prop::collection::vec((prop::sample::select(vec!["index.html", "a.html", "b/index.html", "b/c.html"]), prop::sample::select(LINKS.to_vec())), 0..8),
    ) {
        let rules = Rules::parse(&format!("{SITE}{}", rules.concat())).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(PAGES));
        let mut bodies: BTreeMap<&str, String> = BTreeMap::new();
        for (page, link) in &links {
            bodies.entry(page).or_default().push_str(&format!("<p><a href=\"{link}\">there</a>\n"));
        }
        let read = |name: &str| {
            let body = bodies.get(name).map_or("", String::as_str);
            Ok::<_, String>(format!("<!doctype html><title>{name}</title>\n<h1>h</h1>\n{body}").into_bytes())
        };
        let (report, _) = Audit::new(&edge).all(read, Vec::new());
        let found: Vec<Url> = report
            .findings()
            .iter()
            .filter(|finding| finding.code() == Code::BrokenLink)
            .map(|finding| match &finding.place() {
                FindingPlace::File { name, .. } => target(name, finding.message().split('`').nth(1).unwrap_or_default()),
                place => panic!("a link is in no file: {place:?}"),
            })
            .collect();
        // What several pages link to is said once.
        let said: BTreeSet<Url> = found.iter().cloned().collect();
        prop_assert_eq!(said.len(), found.len());
        let meant = links.iter().map(|(page, link)| target(page, link));
        let broken: BTreeSet<Url> = meant.filter(|url| !leads_somewhere(&edge, url)).collect();
        prop_assert_eq!(said, broken);
    }

    /// Where an entry point is said to end is where a walk ends.
    #[test]
    fn entry_points_end_where_walks_do(
        settings in prop::sample::subsequence(vec![
            "  alias www.h.example\n", "  alias old.example, https://far.example/blog/\n", "  preview *.p.example\n",
            "  preview q.example\n", "  http allow\n", "  hsts 30d subdomains\n",
        ], 0..=6),
        base in prop::sample::select(vec!["", "docs/"]),
        rules in prop::sample::subsequence(vec![
            "redirect / -> /b/\n", "redirect https://h.example/a -> https://other.example/\n", "gone /a\n",
        ], 0..=3),
    ) {
        let text = format!("site https://h.example/{base}\n{}{}", settings.concat(), rules.concat());
        // Two settings may contradict each other.
        let Ok(rules) = Rules::parse(&text) else { return Ok(()) };
        let edge = Edge::new(&rules, FileList::from_iter(PAGES));
        let ways = Audit::new(&edge).entry_points();
        prop_assert!(ways.points().len() >= 2);
        let origins: BTreeSet<&str> = ways.points().iter().map(|point| point.origin()).collect();
        prop_assert_eq!(origins.len(), ways.points().len(), "each once");
        for point in ways.points() {
            for end in std::iter::once(&point.first()).chain(&point.deep()) {
                prop_assert!(end.asked().starts_with(point.origin()));
                let walk = edge.walk(&Request::get(end.asked()).unwrap());
                prop_assert_eq!(walk.hops(), end.hops(), "{}\n{}", end.asked(), text);
                prop_assert_eq!(walk.url(), end.url(), "{}\n{}", end.asked(), text);
                let status = if walk.end() == WalkEnd::Away { None } else { walk.last().1.answer().status() };
                prop_assert_eq!(status, end.status(), "{}\n{}", end.asked(), text);
                let plain = walk.answers().iter().map(|(url, _)| url.as_str()).chain([walk.url()]).collect::<Vec<_>>();
                let back = plain.windows(2).any(|pair| pair[0].starts_with("https:") && pair[1].starts_with("http:"));
                prop_assert_eq!(back, end.back_to_plain(), "{}\n{}", end.asked(), text);
            }
        }
    }
}
