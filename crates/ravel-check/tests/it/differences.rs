//! Random pairs of sites: their differences are held against asking every request of a small world
//! on both.
//!
//! `RAVEL_LONG=600` asks 9 600 pairs, with `RAVEL_PART=1/2` the second half of them. A wrong one is
//! made smaller; with `RAVEL_EACH=1` all wrong ones are shown as they are.

use std::cell::RefCell;
use std::collections::BTreeMap;

use crate::answers::differ;
use crate::universe::{FILES, headers, paths, rule_of_queries};
use http::HeaderMap;
use proptest::prelude::*;
use ravel::{Edge, FileList, Request, Rules};
use ravel_check::{DifferenceKind, compare};
use ravel_testing::{cases, law};

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
    const OTHERS: [&str; 5] =
        ["", "  pages exact\n", "  pages loose\n", "  http allow\n", "  ignore case\n"];
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
        3 => (at(), rule_of_queries()).prop_map(|(at, rule)| Change::Add(at, rule)),
        3 => (at(), rule_of_queries()).prop_map(|(at, rule)| Change::Replace(at, rule)),
        2 => (at(), at()).prop_map(|(a, b)| Change::Swap(a, b)),
        1 => settings().prop_map(Change::Settings),
        1 => prop::sample::select(&["/", "/s/"][..]).prop_map(Change::Base),
        2 => files().prop_map(Change::Files),
    ]
}

fn edition() -> impl Strategy<Value = Edition> {
    let base = prop::sample::select(&["/", "/", "/s/"][..]);
    (base, settings(), prop::collection::vec(rule_of_queries(), 1..6)).prop_map(
        |(base, settings, rules)| Edition { base, settings, rules, files: FILES.to_vec() },
    )
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
    let in_any_case = editions.iter().any(|edition| edition.settings.contains("ignore case"));
    if in_any_case && bases.contains(&"/s") {
        bases.push("/S");
    }
    bases.sort_unstable();
    bases.dedup();
    // None of the headers, and one at a time.
    let headers: Vec<HeaderMap> = headers().into_iter().filter(|own| own.len() < 2).collect();
    let hosts = ["https://h.example", "http://h.example", "https://w.example", "http://w.example"];
    let mut paths = paths();
    if in_any_case {
        let in_capitals: Vec<String> = paths.iter().map(|path| path.replace('a', "A")).collect();
        paths.extend(in_capitals);
        paths.sort_unstable();
        paths.dedup();
    }
    let mut requests = Vec::new();
    for host in hosts {
        for (base, path) in bases.iter().flat_map(|base| paths.iter().map(move |path| (base, path)))
        {
            for query in ["", "?k=a", "?k=b", "?k", "?z"] {
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

/// Pairs that were judged wrongly, among what is counted.
const WRONG: &str = "wrong pairs";

#[test]
fn every_request_that_differs_is_in_one_difference() {
    let part = std::env::var("RAVEL_PART").ok().and_then(|text| {
        let (part, of) = text.split_once('/')?;
        Some((part.parse::<u32>().ok()?, of.parse::<u32>().ok()?))
    });
    let shows_each = std::env::var_os("RAVEL_EACH").is_some();
    let number = std::cell::Cell::new(0_u32);
    let all = cases(16);
    let counts = RefCell::new(BTreeMap::new());
    let strategy = (edition(), prop::collection::vec(change(), 1..4));
    law(16, &strategy, |(old, changes)| {
        number.set(number.get() + 1);
        let is_asked = part.is_none_or(|(part, of)| (number.get() - 1) * of / all.max(1) == part);
        let judgement = match is_asked {
            true => judged(&old, &changes, &mut counts.borrow_mut()),
            false => Ok(()),
        };
        match judgement {
            Err(wrong) if shows_each => {
                println!("{wrong}");
                *counts.borrow_mut().entry(WRONG).or_default() += 1;
                Ok(())
            }
            judgement => judgement,
        }
    });
    assert_eq!(counts.borrow().get(WRONG), None);
    println!("{:?}", counts.borrow());
}
