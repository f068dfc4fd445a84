//! What must hold of a draft: what the same edge answers now, for one URL of each kind.

use ravel::edge::Edge;
use ravel::{Outcome, Request};

use crate::statements::Statement;

/// Expectations for entry points, pages in each form, apps, missing pages and files that are kept.
pub(crate) fn expectations(edge: &Edge) -> Vec<Statement> {
    let site = edge.site();
    let mut groups = Vec::new();
    let ask = |url: &str| Request::get(url).ok();
    let mut entries = String::new();
    if let Some(page) = first_page(edge) {
        let to = site.url_of(&page);
        let below = format!("{}{page}", site.open_base());
        for host in site.hosts().filter(|host| !host.starts_with("*.")) {
            for scheme in ["https", "http"] {
                let url = format!("{scheme}://{host}{below}");
                let Some(request) = ask(&url) else { continue };
                let walk = edge.walk_unexplained(&request);
                if walk.hops() == 1 && walk.url() == to && walk.outcome() == Outcome::File {
                    entries += &format!("expect {url} goes to {to} in 1 hop\n");
                }
            }
        }
    }
    groups.push(("Each entry point leads to the canonical URL in one hop.", entries));
    groups.push(("A page in each form.", pages(edge)));
    let mut apps = String::new();
    for rule in edge.program().rules(ravel::program::Stage::Fallback) {
        let prefix = rule.pattern().path().literal_prefix();
        let url = site.url_of(&format!("{}/some/page", prefix.trim_end_matches('/')));
        let Some(request) = ask(&url) else { continue };
        let answer = edge.answer(&request);
        let is_shown = answer.rule() == Some(rule.id());
        if let (true, Outcome::File, Some(file)) = (is_shown, answer.outcome(), answer.file()) {
            apps += &format!("expect {} serves /{file}\n", path(edge, &url));
        }
    }
    groups.push(("A deep link of an app.", apps));
    let missing = site.url_of("/no-such-page.txt");
    let is_missing =
        ask(&missing).is_some_and(|one| edge.answer(&one).outcome() == Outcome::Missing);
    let text = is_missing.then(|| format!("expect {} is missing\n", path(edge, &missing)));
    groups.push(("What is not there is missing.", text.unwrap_or_default()));
    groups.push(("A file whose name changes with its content is kept.", assets(edge)));
    let filled = groups.into_iter().filter(|(_, text)| !text.is_empty());
    filled.map(|(evidence, text)| Statement::new(evidence, text)).collect()
}

/// The address of the home page, or else of another page that is served.
fn first_page(edge: &Edge) -> Option<String> {
    let names = edge.files().names().iter().filter(|name| name.ends_with(".html"));
    let own = names.filter_map(|name| Some(edge.own_address(edge.number_of(name)?)));
    let is_plain = |address: &&str| !address.contains([' ', '"', '#', '{', '}', '?', '%']);
    let is_served = |address: &&str| {
        Request::get(&edge.site().url_of(address))
            .is_ok_and(|request| edge.answer(&request).outcome() == Outcome::File)
    };
    std::iter::once("/").chain(own).filter(is_plain).find(is_served).map(str::to_owned)
}

/// A URL of the site as an expectation has it.
fn path(edge: &Edge, url: &str) -> String {
    let site = edge.site();
    let below = url.strip_prefix(site.url().trim_end_matches('/'));
    below.map_or(url.to_owned(), str::to_owned)
}

fn pages(edge: &Edge) -> String {
    let names = edge.files().names();
    let is_page = |name: &str| {
        name.ends_with(".html")
            && !name.rsplit('/').next().is_some_and(|last| last.starts_with("404"))
    };
    let find = |folder: bool| {
        let is_index = |name: &str| name == "index.html" || name.ends_with("/index.html");
        let mut fitting = names.iter().filter(|name| is_page(name) && is_index(name) == folder);
        // The shortest is the most likely to stay.
        let first = fitting.clone().find(|name| ***name == *"index.html");
        (
            first.cloned(),
            fitting
                .clone()
                .filter(|name| ***name != *"index.html")
                .min_by_key(|name| name.len())
                .cloned()
                .or(fitting.next().cloned()),
        )
    };
    let (home, folder) = find(true);
    let (_, single) = find(false);
    let mut text = String::new();
    let mut seen: Vec<String> = Vec::new();
    for name in [home, folder, single].into_iter().flatten() {
        let Some(file) = edge.number_of(&name) else { continue };
        let address = edge.own_address(file).to_owned();
        if seen.contains(&address) {
            continue;
        }
        let own = edge.url_of(file);
        let is_served = Request::get(&own).is_ok_and(|request| {
            let answer = edge.answer(&request);
            answer.outcome() == Outcome::File && answer.file() == Some(&*name)
        });
        if !is_served || address.contains([' ', '"', '#', '{', '}']) {
            continue;
        }
        text += &format!("expect {address} serves /{name}\n");
        let variant = format!("/{name}");
        let leads = Request::get(&edge.site().url_of(&variant)).is_ok_and(|request| {
            let walk = edge.walk_unexplained(&request);
            walk.hops() == 1 && walk.url() == own
        });
        if leads && address != "/" {
            text += &format!("expect {variant} goes to {address} in 1 hop\n");
        }
        seen.push(address);
    }
    text
}

fn assets(edge: &Edge) -> String {
    let kept = edge.files().names().iter().find(|name| {
        let url = edge.site().url_of(&format!("/{name}"));
        let plain =
            name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_./".contains(&byte));
        plain
            && Request::get(&url).is_ok_and(|request| {
                let answer = edge.answer(&request);
                answer.headers().iter().any(|header| {
                    header.name() == "cache-control" && header.value().contains("immutable")
                })
            })
    });
    kept.map_or(String::new(), |name| {
        format!("expect /{name}\n  has cache-control containing immutable\n")
    })
}
