//! Random pairs of sites: their differences are held against asking every request of a small world
//! on both.
//!
//! `RAVEL_WORLDS=10000` asks so many pairs; with `RAVEL_SEED=7`, others. `RAVEL_PART=1/2` asks the
//! second half of them.

mod universe;

use std::cell::RefCell;
use std::collections::BTreeMap;

use http::HeaderMap;
use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use ravel::edge::{Explanation, Walk};
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_check::{Comparison, DifferenceKind, compare};
use universe::{FILES, headers, paths, rule};

/// One edition of a site.
#[derive(Debug, Clone)]
struct Edition {
    base: &'static str,
    settings: String,
    rules: Vec<String>,
    files: Vec<&'static str>,
}

impl Edition {
    fn text(&self) -> String {
        let site = format!(
            "site https://h.example{}\n  languages en, de\n  missing /404.html\n{}",
            self.base, self.settings
        );
        let is_good = |rule: &&String| Rules::parse(&format!("{site}{rule}")).is_ok();
        let good: String = self.rules.iter().filter(is_good).map(String::as_str).collect();
        format!("{site}{good}")
    }
}

/// A change of an edition.
#[derive(Debug, Clone)]
enum Change {
    Remove(prop::sample::Index),
    Add(prop::sample::Index, String),
    Replace(prop::sample::Index, String),
    Swap(prop::sample::Index, prop::sample::Index),
    Settings(String),
    Base(&'static str),
    Files(Vec<&'static str>),
}

fn settings() -> impl Strategy<Value = String> {
    const ALIASES: [&str; 4] = ["", "", "  alias w.example\n", "  alias https://w.example/t/\n"];
    const OTHERS: [&str; 4] = ["", "  pages exact\n", "  pages loose\n", "  http allow\n"];
    let parts =
        (prop::sample::select(&ALIASES[..]), prop::sample::select(&OTHERS[..]), any::<bool>());
    parts.prop_map(|(alias, other, each)| {
        format!("{alias}{other}{}", if each { "  hops each\n" } else { "" })
    })
}

fn files() -> impl Strategy<Value = Vec<&'static str>> {
    const OTHERS: [&str; 4] = ["a/index.html", "b/a.html", "ab.html", "b/b.css"];
    let all: Vec<&'static str> = FILES.into_iter().chain(OTHERS).collect();
    prop::sample::subsequence(all, 3..=8)
}

fn change() -> impl Strategy<Value = Change> {
    let at = any::<prop::sample::Index>;
    prop_oneof![
        2 => at().prop_map(Change::Remove),
        3 => (at(), rule()).prop_map(|(at, rule)| Change::Add(at, rule)),
        3 => (at(), rule()).prop_map(|(at, rule)| Change::Replace(at, rule)),
        2 => (at(), at()).prop_map(|(a, b)| Change::Swap(a, b)),
        1 => settings().prop_map(Change::Settings),
        1 => prop::sample::select(&["/", "/s/"][..]).prop_map(Change::Base),
        2 => files().prop_map(Change::Files),
    ]
}

fn edition() -> impl Strategy<Value = Edition> {
    let base = prop::sample::select(&["/", "/", "/s/"][..]);
    (base, settings(), prop::collection::vec(rule(), 1..6)).prop_map(|(base, settings, rules)| {
        Edition { base, settings, rules, files: FILES.to_vec() }
    })
}

fn changed(old: &Edition, changes: &[Change]) -> Edition {
    let mut new = old.clone();
    for change in changes {
        let count = new.rules.len();
        match change {
            Change::Remove(at) if count > 0 => drop(new.rules.remove(at.index(count))),
            Change::Add(at, rule) => new.rules.insert(at.index(count + 1), rule.clone()),
            Change::Replace(at, rule) if count > 0 => new.rules[at.index(count)] = rule.clone(),
            Change::Swap(a, b) if count > 0 => new.rules.swap(a.index(count), b.index(count)),
            Change::Settings(settings) => new.settings.clone_from(settings),
            Change::Base(base) => new.base = base,
            Change::Files(files) => new.files.clone_from(files),
            Change::Remove(_) | Change::Replace(..) | Change::Swap(..) => {}
        }
    }
    new
}

fn requests(editions: [&Edition; 2]) -> Vec<Request> {
    let mut bases = editions.map(|edition| edition.base.trim_end_matches('/')).to_vec();
    bases.extend(editions.iter().filter(|one| one.settings.contains("/t/")).map(|_| "/t"));
    bases.sort_unstable();
    bases.dedup();
    // None of the headers, and one at a time.
    let headers: Vec<HeaderMap> = headers().into_iter().filter(|own| own.len() < 2).collect();
    let hosts = ["https://h.example", "http://h.example", "https://w.example", "http://w.example"];
    let mut requests = Vec::new();
    for host in hosts {
        for (base, path) in
            bases.iter().flat_map(|base| paths().into_iter().map(move |path| (base, path)))
        {
            for query in ["", "?k=a", "?k", "?z"] {
                let Ok(request) = Request::get(&format!("{host}{base}{path}{query}")) else {
                    continue;
                };
                requests
                    .extend(headers.iter().map(|own| request.clone().with_headers(own.clone())));
            }
        }
    }
    requests
}

/// What somebody sees of one answer, without the names of pages' files.
#[derive(PartialEq)]
struct SeenAnswer {
    asked: String,
    status: Option<u16>,
    outcome: Outcome,
    file: String,
}

/// The answers behind redirects to the canonical URL. Where there is but one, it does not matter by
/// which URL it was come to.
fn seen(walk: &Walk<'_>) -> Vec<SeenAnswer> {
    let is_canonical = |(_, explanation): &&(String, Explanation<'_>)| {
        let answer = explanation.answer();
        answer.location().is_some() && answer.rule().is_none()
    };
    let answers = walk.answers();
    let leading = answers.iter().take_while(is_canonical).count().min(answers.len() - 1);
    let is_alone = answers.len() - leading == 1;
    let one = |(asked, explanation): &(String, Explanation<'_>)| {
        let answer = explanation.answer();
        let file = answer.file().unwrap_or("-").replace("/index.html", ".html");
        SeenAnswer {
            asked: if is_alone { String::new() } else { asked.clone() },
            status: answer.status(),
            outcome: answer.outcome(),
            file,
        }
    };
    answers[leading..].iter().map(one).collect()
}

/// The headers of the first answer, in order, but for where it leads; of `vary`, each name.
fn first_headers(walk: &Walk<'_>) -> Vec<(String, String)> {
    let headers = walk.first().answer().headers().iter();
    let parts = headers.filter(|header| header.name() != "location").flat_map(|header| {
        let names = header.value().split(if header.name() == "vary" { ", " } else { "\n" });
        names.map(|value| (header.name().to_owned(), value.to_owned())).collect::<Vec<_>>()
    });
    let mut headers: Vec<_> = parts.collect();
    headers.sort();
    headers
}

/// Whether two walks differ, and whether only in headers of the first answer.
fn differ(old: &Walk<'_>, new: &Walk<'_>) -> Option<bool> {
    let (was, is) = (seen(old), seen(new));
    if old.outcome() == Outcome::Loop && new.outcome() == Outcome::Loop {
        // Of redirects that have no end, the first is seen.
        if (was[0].status, was[0].outcome) != (is[0].status, is[0].outcome) {
            return Some(false);
        }
    } else if was != is || (old.hops(), old.url()) != (new.hops(), new.url()) {
        return Some(false);
    }
    (first_headers(old) != first_headers(new)).then_some(true)
}

fn judged(
    old: &Edition,
    changes: &[Change],
    counts: &mut BTreeMap<&'static str, u32>,
) -> Result<(), TestCaseError> {
    let new = changed(old, changes);
    let texts = [old.text(), new.text()];
    let rules = texts.each_ref().map(|text| Rules::parse(text).expect("rules that can be read"));
    let edges = [
        Edge::new(&rules[0], old.files.iter().copied().collect::<FileList>()),
        Edge::new(&rules[1], new.files.iter().copied().collect::<FileList>()),
    ];
    let comparison = compare(&edges[0], &edges[1]);
    let about = || format!("{}--- {:?}\n{}--- {:?}", texts[0], old.files, texts[1], new.files);
    for difference in comparison.differences() {
        *counts.entry(difference.kind().as_str()).or_default() += 1;
        if difference.kind() == DifferenceKind::Undecided {
            continue;
        }
        let walks = edges.each_ref().map(|edge| edge.walk_unexplained(difference.example()));
        prop_assert!(
            differ(&walks[0], &walks[1]).is_some(),
            "{:?} is answered alike: {}",
            difference.example(),
            about()
        );
    }
    for request in requests([old, &new]) {
        let walks = edges.each_ref().map(|edge| edge.walk_unexplained(&request));
        let expected = differ(&walks[0], &walks[1]);
        let found = comparison.difference_of(&request);
        let kind = found.map(|number| comparison.differences()[number].kind());
        let is_of_headers =
            matches!(kind, Some(DifferenceKind::Headers | DifferenceKind::Lifetime));
        match (expected, kind) {
            (None, None) | (Some(_), Some(DifferenceKind::Undecided)) => {}
            (Some(headers), Some(_)) if headers == is_of_headers => {}
            (expected, kind) => prop_assert!(
                false,
                "{} {:?}: differs {expected:?}, said {kind:?}: {}",
                request.url(),
                request.headers(),
                about()
            ),
        }
        *counts
            .entry(if expected.is_some() { "requests that differ" } else { "requests alike" })
            .or_default() += 1;
    }
    Ok(())
}

#[test]
fn every_request_that_differs_is_in_one_difference() {
    let pairs = std::env::var("RAVEL_WORLDS").ok().and_then(|text| text.parse().ok());
    let config = Config {
        cases: pairs.unwrap_or(16),
        failure_persistence: None,
        max_shrink_iters: 500,
        ..Config::default()
    };
    let seed = std::env::var("RAVEL_SEED").ok().and_then(|text| text.parse().ok());
    let rng = match seed {
        Some(seed) => TestRng::from_seed(RngAlgorithm::ChaCha, &[seed; 32]),
        None => TestRng::deterministic_rng(RngAlgorithm::ChaCha),
    };
    let part = std::env::var("RAVEL_PART").ok().and_then(|text| {
        let (part, of) = text.split_once('/')?;
        Some((part.parse::<u32>().ok()?, of.parse::<u32>().ok()?))
    });
    let number = std::cell::Cell::new(0_u32);
    let all = pairs.unwrap_or(16);
    let counts = RefCell::new(BTreeMap::new());
    let strategy = (edition(), prop::collection::vec(change(), 1..4));
    let result = TestRunner::new_with_rng(config, rng).run(&strategy, |(old, changes)| {
        number.set(number.get() + 1);
        let is_asked = part.is_none_or(|(part, of)| (number.get() - 1) * of / all.max(1) == part);
        if is_asked { judged(&old, &changes, &mut counts.borrow_mut()) } else { Ok(()) }
    });
    result.unwrap_or_else(|error| panic!("{error}"));
    println!("{:?}", counts.borrow());
}

/// The difference that a request is in: there is one if the answers differ, and only then.
fn told(
    edges: &[Edge; 2],
    comparison: &Comparison<'_>,
    request: &Request,
    about: &str,
) -> Option<usize> {
    let walks = edges.each_ref().map(|edge| edge.walk_unexplained(request));
    let found = comparison.difference_of(request);
    let differs = differ(&walks[0], &walks[1]).is_some();
    assert_eq!(differs, found.is_some(), "{}: {about}", request.url());
    found
}

/// Files come and go where redirects write what they capture: each URL that leads there differs.
#[test]
fn what_redirects_write_leads_to_files_that_come_and_go() {
    let (old, new) =
        (["index.html", "a.html", "b/index.html", "404.html"], ["404.html", "ab.html"]);
    for (before, after) in [
        ("", "redirect /q/{x} -> /{x}\n"),
        ("redirect /q/{x} -> /{x}\n", "redirect /q/{x} -> /{x}\n"),
        ("redirect /q/{x} -> /{x}\n", "redirect /q/{x} -> /{x} permanent\n"),
        (
            "redirect /q{/x*} -> {/x*}\n",
            "redirect /q{/x*} -> {/x*}\nheaders /q{/x*} on all\n  set a: 1\n",
        ),
        ("redirect {/x*} -> {/x*}\n", ""),
        ("redirect /{x}/ -> /{x}\n", "redirect /{x}/ -> /{x}\ngone /{+x}\n"),
        ("redirect /{x}b -> /{x}\n  when no file\n", "redirect /{x}b -> /{x}\n  when no file\n"),
        (
            "redirect /q/{x} -> /r/{x}\nredirect /r/{x} -> /{x}\n",
            "redirect /q/{x} -> /r/{x}\nredirect /r/{x} -> /{x}\n",
        ),
    ] {
        let site = "site https://h.example/\n  missing /404.html\n";
        let rules = [before, after].map(|rules| Rules::parse(&format!("{site}{rules}")).unwrap());
        let edges = [
            Edge::new(&rules[0], FileList::from_iter(old)),
            Edge::new(&rules[1], FileList::from_iter(new)),
        ];
        let comparison = compare(&edges[0], &edges[1]);
        for path in [
            "ab", "a", "b", "b/", "a.html", "ab.html", "ab/", "z", "/z", "bb", "abb", "/a", "a//",
            "",
        ] {
            for prefix in ["/", "/q/", "/r/"] {
                let request = Request::get(&format!("https://h.example{prefix}{path}")).unwrap();
                told(&edges, &comparison, &request, &format!("from {before} to {after}"));
            }
        }
    }
}

/// A rule that is the same takes other requests where it hangs on files, and leaves others to the
/// rules behind it.
#[test]
fn a_rule_that_hangs_on_files_takes_what_they_leave() {
    let redirect = "  pages loose\nredirect /b?k -> https://w.example/a\n  when no file\n";
    let elsewhere = "elsewhere /b/\n  when no file\nredirect /{x}/?k -> /d/{x}\n";
    let headers =
        "headers /b/ on redirects\n  when no file\n  set x-a: b\nredirect /{x}/?k -> /d/{x}\n";
    let table = [
        (headers, ["b.html", "c.html"], &["/b/?k=a", "/b/?k"][..]),
        (redirect, ["b/index.html", "a.html"], &["/b?k=a", "/b?z", "/b/?k"]),
        (elsewhere, ["b.html", "c.html"], &["/b/?k=a", "/b/?k", "/b/"]),
    ];
    for (rules, files, paths) in table {
        let text = format!("site https://h.example/\n{rules}");
        let rules = Rules::parse(&text).unwrap();
        let edges = files.map(|file| Edge::new(&rules, FileList::from_iter([file])));
        let comparison = compare(&edges[0], &edges[1]);
        for path in paths {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            assert!(comparison.difference_of(&request).is_some(), "{path} by {text}");
        }
    }
}

/// What rules look at behind a redirect from below another base path.
#[test]
fn an_alias_below_a_path_leads_to_rules_of_the_site() {
    let site = |alias: &str| {
        let text = format!("site https://h.example/\n{alias}fallback /ab?k -> /a\n");
        Rules::parse(&text).unwrap()
    };
    let rules = [site("  alias https://w.example/t/\n"), site("")];
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(["a.html"])));
    let comparison = compare(&edges[0], &edges[1]);
    let kind = |url: &str| {
        let found = comparison.difference_of(&Request::get(url).unwrap());
        found.map(|number| comparison.differences()[number].kind())
    };
    assert_eq!(kind("https://w.example/t/ab?k=a"), Some(DifferenceKind::Missing));
    assert_eq!(kind("https://w.example/t/ab"), Some(DifferenceKind::Status));
}

/// Of several `/` at the start of what a redirect writes, one is left: there, one side leads elsewhere.
#[test]
fn what_begins_with_several_slashes_is_told_apart() {
    let (root, below) = ("site https://h.example/\n", "site https://h.example/s/\n");
    let itself = "redirect {/x*} -> {/x*}\n";
    let table = [
        ((root, ""), (root, itself)),
        ((below, itself), (root, itself)),
        ((below, itself), (root, "")),
        ((root, "redirect /t{/x*} -> {/x*}\n"), (root, "redirect /t{/x*} -> /u{/x*}\n")),
        ((root, "redirect /t/{+x} -> /{+x}\n"), (root, "redirect /t/{+x} -> /s/{+x}\n")),
    ];
    for editions in table {
        let texts = <[_; 2]>::from(editions).map(|(site, rules)| format!("{site}{rules}"));
        let rules = texts.each_ref().map(|text| Rules::parse(text).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for path in ["/c", "//c", "/s/c", "/s//c", "/s//", "/s/", "/t/c", "/t//c", "/t///c", "/t//"]
        {
            for scheme in ["http", "https"] {
                let request = Request::get(&format!("{scheme}://h.example{path}")).unwrap();
                told(&edges, &comparison, &request, &format!("{texts:?}"));
            }
        }
    }
}

/// What one file is shown for before, others are shown for by what is captured.
#[test]
fn files_that_captures_name_are_told_apart() {
    let table = [
        ("rewrite /{+x} -> /a\n", "gone /\nfallback /{x}/{y} -> /{x}\n"),
        ("fallback /{x}/{y} -> /{x}\n", "fallback /{x}/{y} -> /{y}\n"),
        ("fallback /{x}/{y} -> /{x}\n", "fallback /{x}/{z} -> /{x}\n"),
        ("", "missing /{x}/{y} -> /{x}\n"),
        ("rewrite /b/{y} -> /b\n", "rewrite /b/{y} -> /{y}\n"),
    ];
    for texts in table {
        let rules = <[_; 2]>::from(texts).map(|rules| {
            Rules::parse(&format!("site https://h.example/\n  missing /404.html\n{rules}")).unwrap()
        });
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for path in ["/a/a", "/a/b", "/b/a", "/b/b", "/c/a", "/404/c", "/c/404", "/a", "/b/c"] {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            let found = told(&edges, &comparison, &request, &format!("{texts:?}"));
            let kind = found.map(|number| comparison.differences()[number].kind());
            assert_ne!(kind, Some(DifferenceKind::Undecided), "{path}: {texts:?}");
        }
    }
}

/// A redirect loop is one, wherever it comes back to.
#[test]
fn loops_are_told_by_where_they_begin() {
    let site = |rules: &str| {
        let text = format!("site https://h.example/\n  hops each\nredirect /{{x}}/ -> {rules}\n");
        Rules::parse(&text).unwrap()
    };
    let around = "/{x}\nredirect /{+x} -> /b/";
    let rules = ["/a/{x}", &format!("/a{around}"), &format!("/c{around}")].map(site);
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
    let comparison = compare(&edges[0], &edges[1]);
    for path in ["/a/b", "/a/b/", "/b/", "/b", "/c", "/a/c", "/c/"] {
        let request = Request::get(&format!("https://h.example{path}")).unwrap();
        let found = comparison.difference_of(&request).expect("a difference");
        assert_eq!(comparison.differences()[found].kind(), DifferenceKind::Loop, "{path}");
    }
    assert!(compare(&edges[1], &edges[2]).differences().is_empty());
}

/// A page that loose URLs show is the same page at each, also where redirects write them.
#[test]
fn pages_at_several_urls_are_one_difference() {
    let rules = ["", "  pages loose\n"].map(|pages| {
        let text = format!(
            "site https://h.example/\n{pages}  hops each\nredirect /{{y}}{{/x*}}?k -> {{/x*}}\n"
        );
        Rules::parse(&text).unwrap()
    });
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(["a.html"])));
    let comparison = compare(&edges[0], &edges[1]);
    for path in ["/t/a.html?k=a", "/t/a/?k", "/a.html", "/a/"] {
        let request = Request::get(&format!("https://h.example{path}")).unwrap();
        assert!(comparison.difference_of(&request).is_some(), "{path}");
    }
}

/// What is gone shows the 404 page of the visitor.
#[test]
fn what_is_gone_is_shown_by_the_visitors_404_page() {
    let site = "site https://h.example/\n  missing /404.html\ngone /\n";
    let rules = ["missing /{+x} -> /a\n  when cookie c\n", ""]
        .map(|rules| Rules::parse(&format!("{site}{rules}")).unwrap());
    let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
    let comparison = compare(&edges[0], &edges[1]);
    let request = Request::get("https://h.example/").unwrap();
    let kind = |request: &Request| {
        comparison.difference_of(request).map(|number| comparison.differences()[number].kind())
    };
    // Of the others, `vary` alone is not the same.
    assert_eq!(kind(&request), Some(DifferenceKind::Headers));
    let cookie = http::HeaderValue::from_static("c=1");
    let request = request.with_header(http::header::COOKIE, cookie);
    assert_eq!(kind(&request), Some(DifferenceKind::File));
}
