//! Redesigns of one site: old URLs find their new pages, and what is not sure is no rule.

use std::collections::BTreeMap;

use ravel::finding::FindingPlace;
use ravel::rules::{Code, Severity};
use ravel::{Edge, FileList, Outcome, Request, Rules};
use ravel_check::{Audit, verify_all};
use ravel_draft::{Draft, OldSite};

const AT: &str = "https://h.example/";

type Build = BTreeMap<String, String>;

/// Where each old URL has gone.
type Truth = BTreeMap<String, String>;

/// Words that a seed chooses, the same in every run.
fn text(seed: usize, words: usize) -> String {
    const WORDS: [&str; 24] = [
        "lantern",
        "ferry",
        "harbour",
        "quay",
        "tide",
        "timetable",
        "island",
        "crossing",
        "deck",
        "pilot",
        "current",
        "winter",
        "rope",
        "signal",
        "mist",
        "storm",
        "buoy",
        "keel",
        "crew",
        "anchor",
        "channel",
        "shore",
        "cargo",
        "ticket",
    ];
    let mut random = seed as u64 + 1;
    let mut word = || {
        random =
            random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        WORDS[(random >> 40) as usize % WORDS.len()]
    };
    (0..words).map(|_| word()).collect::<Vec<_>>().join(" ")
}

fn page(seed: usize, links: &[&str]) -> String {
    let links: String = links.iter().map(|to| format!("<a href=\"{to}\">x</a>")).collect();
    format!(
        "<!doctype html><html lang=en><title>Page {seed}</title><nav>{links} everything about ferries</nav>\
         <main><h1>About {seed}</h1><p>{}</main><footer>Lantern Ferries, all rights</footer>",
        text(seed, 60)
    )
}

/// A site of some pages, by how its files are named.
fn build(count: usize, name: impl Fn(usize) -> String, link: impl Fn(usize) -> String) -> Build {
    let mut all = Build::new();
    for seed in 0..count {
        let next = link((seed + 1) % count);
        all.insert(name(seed), page(seed, &["/", &next]));
    }
    all.insert("index.html".to_owned(), "<main><h1>Home of all ferries".to_owned());
    all
}

fn drafted(new: &Build, old: &OldSite) -> String {
    let names: Vec<&String> = new.keys().collect();
    let read = |name: &str| new.get(name).map(|text| text.clone().into_bytes()).ok_or("no file");
    Draft::after(AT, "dist", &names, read, old, &|_| ()).unwrap().rules().to_owned()
}

fn old_of(old: &Build) -> OldSite {
    let names: Vec<&String> = old.keys().collect();
    OldSite::of_build(AT, &names, |name| {
        old.get(name).cloned().map(String::into_bytes).ok_or("no file")
    })
}

/// Holds a draft against the truth: the share of moves that are rules, and that no rule is wrong.
fn hold(what: &str, old: &OldSite, new: &Build, truth: &Truth, share: f64) -> String {
    let rules = drafted(new, old);
    let parsed = Rules::parse(&rules).unwrap();
    let edge = Edge::new(&parsed, new.keys().collect::<FileList>());
    let (mut right, mut wrong) = (0, Vec::new());
    for (from, to) in truth {
        let request = Request::get(&edge.site().url_of(from)).unwrap();
        let walk = edge.walk_unexplained(&request);
        let wanted = edge.site().url_of(to);
        match (walk.outcome(), walk.url() == wanted) {
            (Outcome::File, true) if walk.hops() == 1 => right += 1,
            (Outcome::Missing, _) if walk.hops() == 0 => {}
            _ => wrong.push(format!("{from}: {} in {} hops", walk.url(), walk.hops())),
        }
    }
    assert!(wrong.is_empty(), "{what}: {wrong:?}\n{rules}");
    assert!(
        right as f64 >= share * truth.len() as f64,
        "{what}: {right} of {}\n{rules}",
        truth.len()
    );
    assert!(verify_all(&edge).iter().all(ravel::expect::Verdict::holds), "{what}: {rules}");
    let read = |name: &str| new.get(name).map(|text| text.clone().into_bytes()).ok_or("no file");
    let report = Audit::new(&edge).all(read, Vec::new()).0;
    let is_error = |one: &&ravel::finding::Finding| {
        one.code().severity() == Severity::Error
            && one.code() != Code::MissingIndex
            && matches!(one.place(), FindingPlace::Line(_))
    };
    let errors: Vec<_> = report.findings().iter().filter(is_error).collect();
    assert!(errors.is_empty(), "{what}: {errors:?}\n{rules}");
    rules
}

/// A change of all pages' names, with the rule that says it.
type Redesign = (&'static str, fn(usize) -> String, fn(usize) -> String, &'static str);

#[test]
fn pages_that_are_renamed_are_found_by_what_they_say() {
    const COUNT: usize = 24;
    let redesigns: [Redesign; 5] = [
        (
            "slugs",
            |n| format!("guide/old-{n}.html"),
            |n| format!("guide/{}-{n}.html", ["pier", "boat", "fare"][n % 3]),
            "/guide/old-7 -> /guide/boat-7",
        ),
        (
            "page form",
            |n| format!("guide/part-{n}.html"),
            |n| format!("handbook/part-{n}/index.html"),
            "redirect /guide/{page} -> /handbook/{page}/ permanent\n  when no file",
        ),
        (
            "a language",
            |n| format!("guide/part-{n}.html"),
            |n| format!("en/guide/part-{n}.html"),
            "redirect /guide/{page} -> /en/guide/{page} permanent",
        ),
        (
            "dates",
            |n| format!("blog/{}/0{}/post-{n}.html", 2019 + n % 4, 1 + n % 9),
            |n| format!("posts/post-{n}.html"),
            "redirect /blog/{first}/{second}/{page} -> /posts/{page} permanent\n  where first is digits 4",
        ),
        (
            "sections",
            |n| format!("{}/part-{n}.html", ["north", "south"][n % 2]),
            |n| format!("routes/part-{n}.html"),
            "redirect /north/{page} -> /routes/{page} permanent",
        ),
    ];
    for (what, before, after, rule) in redesigns {
        let address = |name: String| {
            let path = format!("/{}", name.trim_end_matches(".html"));
            path.strip_suffix("index").map_or(path.clone(), str::to_owned)
        };
        let link = |name: fn(usize) -> String| move |n| address(name(n));
        let (old, new) = (build(COUNT, before, link(before)), build(COUNT, after, link(after)));
        let truth = (0..COUNT).map(|n| (address(before(n)), address(after(n)))).collect();
        let rules = hold(what, &old_of(&old), &new, &truth, 0.95);
        // Rows are aligned.
        let plain: Vec<&str> = rules.split(' ').filter(|word| !word.is_empty()).collect();
        let wanted: Vec<&str> = rule.split(' ').filter(|word| !word.is_empty()).collect();
        let is_there = plain.join(" ").contains(&wanted.join(" "));
        assert!(is_there, "{what}: no {rule} in\n{rules}");
        // URLs alone: names that stay say enough, others nothing that is written as a rule.
        let (urls, _) = OldSite::of_urls(AT, truth.keys().map(String::as_str));
        hold(what, &urls, &new, &truth, if what == "slugs" { 0.0 } else { 0.95 });
    }
}

#[test]
fn pages_that_changed_or_went_into_others_are_found_or_left_open() {
    let old = build(12, |n| format!("a/{n}x.html"), |n| format!("/a/{n}x"));
    // Every second page has another paragraph, two went into one, one is gone.
    let mut new = Build::new();
    let mut truth = Truth::new();
    for n in 0..9 {
        let more = if n % 2 == 0 { text(100 + n, 12) } else { String::new() };
        let changed = page(n, &["/"]).replace("</main>", &format!(" {more}</main>"));
        new.insert(format!("b/{n}y.html"), changed);
        truth.insert(format!("/a/{n}x"), format!("/b/{n}y"));
    }
    let both = format!("<main><h1>About 9</h1><p>{}<p>{}</main>", text(9, 60), text(10, 60));
    new.insert("b/both.html".to_owned(), both);
    new.insert("index.html".to_owned(), "<main>Home".to_owned());
    let rules = hold("changed", &old_of(&old), &new, &truth, 0.95);
    assert!(rules.contains("/b/both"), "{rules}");
    assert!(rules.contains("1 old URL has no page that is like it: /a/11x"), "{rules}");
    // Nothing is drafted for what is still there.
    assert!(!drafted(&old, &old_of(&old)).contains("redirect permanent"));
}

/// A pattern leaves out the few old URLs that it would lead to nothing.
#[test]
fn a_pattern_leaves_out_what_has_no_page() {
    let old = build(9, |n| format!("cli/command-{n}.html"), |n| format!("/cli/command-{n}"));
    let mut new =
        build(8, |n| format!("commands/command-{n}.html"), |n| format!("/commands/command-{n}"));
    new.insert("index.html".to_owned(), "<main>Home".to_owned());
    let truth = (0..8).map(|n| (format!("/cli/command-{n}"), format!("/commands/command-{n}")));
    let rules = hold("left out", &old_of(&old), &new, &truth.collect(), 1.0);
    let rule = "redirect /cli/{page} -> /commands/{page} permanent\n  where page is not one of command-8\n";
    assert!(rules.contains(rule), "{rules}");
}

/// Where only paths are known, names tell: also those with capitals for words.
#[test]
fn paths_alone_tell_where_names_are_the_same() {
    let new: Build = ["index", "guide/basicUsage", "guide/rope-signals", "b/terms", "a/deck"]
        .map(|name| (format!("{name}.html"), page(name.len(), &["/"])))
        .into();
    let (old, _) = OldSite::of_urls(
        AT,
        ["/docs/basic_usage", "/terms.php", "/old/guide/rope-signals", "/en/deck", "/xyz"],
    );
    let rules = drafted(&new, &old);
    for wanted in [
        "  /docs/basic_usage       -> /guide/basicUsage    # the only page of that name",
        "  /old/guide/rope-signals -> /guide/rope-signals",
        "# redirect /terms.php -> /b/terms",
        "1 old URL has no page that is like it: /xyz",
    ] {
        assert!(rules.contains(wanted), "{wanted}: {rules}");
    }
}

/// What a rule's reason says is enough for it: where another page fits as well, there is none.
#[test]
fn no_rule_says_that_another_page_fits_as_well() {
    let old = build(24, |n| format!("part{}/gfx{n}_{}.html", n % 3, n * 7), |_| String::new());
    // Each page is there twice, under names of which none is nearer.
    let mut new = Build::from([("index.html".to_owned(), page(900, &[]))]);
    for (name, text) in &old {
        for side in ["left", "right"] {
            let name = name.replace(['/', '_', '.'], "-");
            new.insert(
                format!("{side}/x{}.html", name.len() * 3 + new.len()),
                text.replace("ferry", side),
            );
        }
    }
    let rules = drafted(&new, &old_of(&old));
    let said = |line: &&str| line.contains("are as alike");
    assert!(rules.lines().any(|line| line.starts_with("# redirect") && said(&line)), "{rules}");
    let is_rule = |line: &str| !line.starts_with('#');
    assert!(!rules.lines().filter(said).any(is_rule), "{rules}");
}

/// A page that is there unchanged is found, whatever is named as it was.
#[test]
fn identical_pages_come_before_names() {
    let old = Build::from([
        ("tickets/prices.html".to_owned(), page(1, &[])),
        ("crew/lantern-keepers.html".to_owned(), page(2, &[])),
        ("fleet.html".to_owned(), page(3, &[])),
    ]);
    let new = Build::from([
        ("index.html".to_owned(), page(900, &[])),
        ("a/x1.html".to_owned(), page(1, &[])),
        ("a/prices.html".to_owned(), page(41, &[])),
        ("a/x2.html".to_owned(), page(2, &[])),
        ("people/lantern-keepers.html".to_owned(), page(42, &[])),
        ("fleet.html".to_owned(), page(3, &[])),
    ]);
    let rules = drafted(&new, &old_of(&old));
    for (from, to) in [("/tickets/prices", "/a/x1"), ("/crew/lantern-keepers", "/a/x2")] {
        let is_it = |line: &str| {
            let words: Vec<&str> = line.split_whitespace().take(3).collect();
            words == [from, "->", to] && line.contains("the same page")
        };
        assert!(rules.lines().any(is_it), "{from}: {rules}");
    }
}

/// Who waits is told of each old URL, where paths are alike, too.
#[test]
fn every_old_url_is_looked_at_once() {
    let name = |n: usize| format!("gfx{}_word_{:08x}.html", n % 9, n * 2_654_435);
    let old = build(300, name, |_| String::new());
    let new =
        build(200, |n| format!("gfx{}_word_{:08x}.html", n % 9, n * 40_503 + 7), |_| String::new());
    let names: Vec<&str> = new.keys().map(String::as_str).collect();
    let read = |name: &str| Ok::<_, String>(new[name].clone().into_bytes());
    let seen = std::cell::RefCell::new(Vec::new());
    let looked_at = |path: &str| seen.borrow_mut().push(path.to_owned());
    Draft::after(AT, "dist", &names, read, &old_of(&old), &looked_at).unwrap();
    let mut seen = seen.into_inner();
    seen.dedup();
    assert_eq!(seen.len(), old.len());
}
