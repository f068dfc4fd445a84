//! Differences of where a site is: its hosts, its base paths, and whether plain HTTP is answered.

use ravel::Outcome;
use ravel::address::{Address, Scheme};
use ravel::edge::{Edge, Walk};
use ravel::language::Line;
use ravel::program::{RuleId, Site};

use super::kind::{canonical_hops, page_name};

/// The pattern of all paths.
pub(super) const ANY_PATH: &str = "{/any*}";

/// Requests of one scheme, to one host: all of them are answered otherwise for that alone.
#[derive(Debug, Clone)]
pub(super) struct Moved {
    pub(super) scheme: Scheme,
    /// The setting that states the host on each side.
    pub(super) hosts: [Option<Line>; 2],
    /// The setting that is the reason.
    pub(super) lines: [Option<Line>; 2],
    /// All of its paths, as a pattern.
    pub(super) pattern: String,
}

/// Whether a request is answered otherwise for no other reason than where its site is: one side is not
/// there, or both do the same there at other URLs.
pub(super) fn moved(edges: [&Edge; 2], asked: &Address, walks: [&Walk<'_>; 2]) -> Option<Moved> {
    if is_at_same_places(edges.map(Edge::site)) {
        return None;
    }
    let is_away = walks.map(|walk| {
        let answer = walk.first().answer();
        answer.status() == Some(421) || answer.outcome() == Outcome::Outside
    });
    if is_away == [true, true] || (is_away == [false, false] && !act_alike(edges, walks)) {
        return None;
    }
    let places = edges.map(|edge| place(edge.site(), asked));
    let side = usize::from(is_away[0]);
    let (host, base, _) = places[side].as_ref()?;
    let pattern = format!("{}://{host}{}{ANY_PATH}", asked.scheme(), base.trim_end_matches('/'));
    let hosts = places.map(|place| place.map(|(.., line)| line));
    let sites = edges.map(Edge::site);
    // Where both answer, it is for where the canonical URL is.
    let lines = match is_away == [false, false] && sites[0].url() != sites[1].url() {
        true => sites.map(|site| Some(site.line())),
        false => hosts,
    };
    Some(Moved { scheme: asked.scheme(), hosts, lines, pattern })
}

/// The host, the base path and the line of the setting that an address is of.
fn place<'s>(site: &'s Site, asked: &Address) -> Option<(String, &'s str, Line)> {
    let host = asked.host();
    let aliases = || site.aliases().iter().filter(|alias| alias.host().as_str() == host);
    let is_below = |base: &str| asked.path().starts_with(base);
    let alias = aliases().find(|alias| is_below(alias.base())).or_else(|| aliases().next());
    if let Some(alias) = alias {
        return Some((host.to_owned(), alias.base(), alias.line()));
    }
    if site.host().as_str() == host {
        return Some((host.to_owned(), site.base(), site.line()));
    }
    let preview = site.previews().iter().find(|preview| preview.matches(host))?;
    Some((preview.to_string(), site.base(), preview.line()))
}

fn is_at_same_places(sites: [&Site; 2]) -> bool {
    let [old, new] = sites.map(Site::url);
    old == new && have_same_hosts(sites)
}

/// Whether the settings are the same that answers to some hosts hang on, or over plain HTTP.
pub(super) fn have_same_hosts(sites: [&Site; 2]) -> bool {
    let [old, new] = sites.map(|site| {
        let aliases = site.aliases().iter();
        let aliases = aliases.map(|alias| format!("{}{}", alias.host(), alias.base()));
        (site.http(), site.hosts().chain(aliases).collect::<Vec<String>>())
    });
    old == new
}

/// Whether both ways, behind redirects to the canonical URL, are by the same rules to the same files.
fn act_alike(edges: [&Edge; 2], walks: [&Walk<'_>; 2]) -> bool {
    let [old, new] = walks.map(|walk| &walk.answers()[canonical_hops(walk)..]);
    let rule = |side: usize, id: RuleId| edges[side].program().rule(id);
    old.len() == new.len()
        && old.iter().zip(new).all(|((_, old), (_, new))| {
            let (old, new) = (old.answer(), new.answer());
            let are_rules_same = match (old.rule(), new.rule()) {
                (Some(a), Some(b)) => rule(0, a).to_string() == rule(1, b).to_string(),
                (None, None) => true,
                _ => false,
            };
            are_rules_same
                && (old.status(), old.outcome()) == (new.status(), new.outcome())
                && old.file().map(page_name) == new.file().map(page_name)
        })
}

/// Whether the settings are the same that say which URLs pages have.
pub(super) fn have_same_page_urls(sites: [&Site; 2]) -> bool {
    let [old, new] =
        sites.map(|site| (site.pages(), site.ignore_case(), site.index(), site.base()));
    old == new
}
