//! Which URL names which page, against the table of the reference, read line by line.

use std::collections::BTreeSet;

use proptest::prelude::*;
use ravel::{Edge, FileList, Outcome, Request, Rules};

type Files = BTreeSet<&'static str>;

const FILES: [&str; 12] = [
    "index.html",
    "a.html",
    "a/index.html",
    "a/b.html",
    "a/b/index.html",
    "a/b/a.html",
    "b.html",
    "b/index.html",
    "b/a.js",
    "a.js",
    "b/b.html",
    "a/data.json",
];

/// The file that a path names, and whether that is its own URL.
fn names(files: &Files, path: &str, pages: &str) -> Option<(&'static str, bool)> {
    let known = |name: String, own: bool| files.get(name.as_str()).map(|file| (*file, own));
    let name = path.strip_prefix('/')?;
    let is_index = |stem: &str| stem.rsplit('/').next() == Some("index");
    let folder = name.is_empty() || name.ends_with('/');
    match (pages, folder) {
        ("exact", true) => known(format!("{name}index.html"), true),
        ("exact", false) => known(name.to_owned(), true),
        (_, true) => known(format!("{name}index.html"), true).or_else(|| {
            let stem = name.strip_suffix('/').filter(|stem| !is_index(stem))?;
            known(format!("{stem}.html"), false)
        }),
        (_, false) => known(name.to_owned(), !name.ends_with(".html"))
            .or_else(|| known(format!("{name}.html"), true).filter(|_| !is_index(name)))
            .or_else(|| known(format!("{name}/index.html"), false)),
    }
}

/// The URL that a page is served under.
fn own(file: &str) -> String {
    match file.strip_suffix("index.html") {
        Some(folder) => format!("/{folder}"),
        None => format!("/{}", file.strip_suffix(".html").unwrap_or(file)),
    }
}

/// What a path gets: a file, where it leads, or nothing.
fn gets(files: &Files, path: &str, pages: &str) -> Result<&'static str, Option<String>> {
    let mut single = path.to_owned();
    while single.contains("//") {
        single = single.replace("//", "/");
    }
    match names(files, &single, pages) {
        Some((file, _)) if single != path && pages == "tidy" => Err(Some(own(file))),
        _ if single != path => Err(None),
        Some((file, false)) if pages == "tidy" => Err(Some(own(file))),
        Some((file, _)) => Ok(file),
        None => Err(None),
    }
}

proptest! {
    #![proptest_config(ravel_testing::config(2_000))]

    #[test]
    fn a_path_names_what_the_table_says(
        files in prop::sample::subsequence(FILES.to_vec(), 0..=FILES.len()),
        paths in prop::collection::vec("/((a|b|index|a\\.js|data\\.json|c)(/|//|\\.html|\\.html/|)){0,3}", 1..12),
        pages in prop::sample::select(vec!["tidy", "loose", "exact"]),
    ) {
        let rules = Rules::parse(&format!("site https://h.example/\n  pages {pages}\n")).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(&files));
        let files: Files = files.into_iter().collect();
        for path in paths {
            let answer = edge.answer(&Request::get(&format!("https://h.example{path}")).unwrap()).clone();
            let got = match answer.outcome() {
                Outcome::File => Ok(answer.file().unwrap()),
                Outcome::Redirect => Err(answer.location().map(|to| to["https://h.example".len()..].to_owned())),
                outcome => {
                    prop_assert_eq!(outcome, Outcome::Missing);
                    Err(None)
                }
            };
            prop_assert_eq!(got, gets(&files, &path, pages), "{} under {} with {:?}", path, pages, files);
        }
    }

    /// Each page is served under its own URL, and under `tidy` under no other.
    #[test]
    fn a_page_has_its_own_url(
        files in prop::sample::subsequence(FILES.to_vec(), 1..=FILES.len()),
        pages in prop::sample::select(vec!["tidy", "loose"]),
    ) {
        let rules = Rules::parse(&format!("site https://h.example/\n  pages {pages}\n")).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(&files));
        let serving = |path: &str| {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            edge.answer(&request).file().map(str::to_owned)
        };
        let mut served = BTreeSet::new();
        for file in &files {
            let file_served = serving(&own(file));
            prop_assert_eq!(file_served.as_deref(), Some(*file));
            served.insert(own(file));
        }
        prop_assert_eq!(served.len(), files.len());
        if pages == "tidy" {
            for address in edge.addresses().filter(|address| !served.contains(*address)) {
                prop_assert_eq!(serving(address), None, "{} of {:?}", address, files);
            }
        }
    }
}
