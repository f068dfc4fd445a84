//! Which addresses name which files.

use std::collections::BTreeSet;

use proptest::prelude::*;
use ravel::files::Omission;
use ravel::{Edge, FileList, Outcome, Request, Rules};

fn edge(settings: &str, files: &[&str]) -> Edge {
    let rules = Rules::parse(&format!("site https://h.example/\n{settings}"))
        .unwrap_or_else(|problems| panic!("{problems}"));
    Edge::new(&rules, FileList::from_iter(files))
}

/// What a path gets: the file, `-> PATH`, or `404`.
fn got(edge: &Edge, path: &str) -> String {
    let request = Request::get(&format!("https://h.example{path}")).unwrap();
    let answer = edge.answer(&request);
    match (answer.outcome(), answer.location(), answer.file()) {
        (Outcome::File, _, Some(file)) => file.to_owned(),
        (_, Some(location), _) => {
            format!("-> {}", location.trim_start_matches("https://h.example"))
        }
        _ => answer.status().unwrap_or_default().to_string(),
    }
}

#[test]
fn every_way_of_naming_a_page() {
    let files = [
        "index.html",
        "about.html",
        "docs/index.html",
        "both.html",
        "both/index.html",
        "app.js",
        "raw",
        "raw.html",
        "x.htm",
    ];
    #[rustfmt::skip]
    let cases = [
        // address             tidy               loose              exact
        ("/",                  "index.html",      "index.html",      "index.html"),
        ("/index.html",        "-> /",            "index.html",      "index.html"),
        ("/index",             "404",             "404",             "404"),
        ("/index/",            "404",             "404",             "404"),
        ("/about",             "about.html",      "about.html",      "404"),
        ("/about/",            "-> /about",       "about.html",      "404"),
        ("/about.html",        "-> /about",       "about.html",      "about.html"),
        ("/about.html/",       "404",             "404",             "404"),
        ("/about/index.html",  "404",             "404",             "404"),
        ("/About",             "404",             "404",             "404"),
        ("/docs",              "-> /docs/",       "docs/index.html", "404"),
        ("/docs/",             "docs/index.html", "docs/index.html", "docs/index.html"),
        ("/docs/index",        "404",             "404",             "404"),
        ("/docs/index.html",   "-> /docs/",       "docs/index.html", "docs/index.html"),
        ("/docs//",            "-> /docs/",       "404",             "404"),
        ("//docs",             "-> /docs/",       "404",             "404"),
        ("//nothing",          "404",             "404",             "404"),
        ("/both",              "both.html",       "both.html",       "404"),
        ("/both/",             "both/index.html", "both/index.html", "both/index.html"),
        ("/both.html",         "-> /both",        "both.html",       "both.html"),
        ("/app.js",            "app.js",          "app.js",          "app.js"),
        ("/app.js/",           "404",             "404",             "404"),
        ("/app",               "404",             "404",             "404"),
        ("/raw",               "raw",             "raw",             "raw"),
        ("/raw.html",          "raw.html",        "raw.html",        "raw.html"),
        ("/raw/",              "-> /raw.html",    "raw.html",        "404"),
        ("/x",                 "404",             "404",             "404"),
        ("/x.htm",             "x.htm",           "x.htm",           "x.htm"),
        ("/%61bout",           "about.html",      "about.html",      "404"),
        ("/./docs/../about",   "about.html",      "about.html",      "404"),
    ];
    let modes = ["tidy", "loose", "exact"].map(|mode| edge(&format!("  pages {mode}\n"), &files));
    for (path, tidy, loose, exact) in cases {
        let told = modes.each_ref().map(|edge| got(edge, path));
        assert_eq!(told.each_ref().map(String::as_str), [tidy, loose, exact], "{path}");
    }
}

#[test]
fn names_beyond_the_plain() {
    let files = [
        "caf\u{e9}.html",
        "a b+c.txt",
        "[id].js",
        "100%.txt",
        "\u{1F6A2}.png",
        "a&b=c;d.txt",
        "Ü/index.html",
        "q?.txt",
        "#.txt",
    ];
    let edge = edge("", &files);
    let cases = [
        ("/caf\u{e9}", "caf\u{e9}.html"),
        ("/caf%C3%A9", "caf\u{e9}.html"),
        ("/cafe\u{301}", "caf\u{e9}.html"),
        ("/cafe%CC%81.html", "-> /caf%C3%A9"),
        ("/a%20b+c.txt", "a b+c.txt"),
        ("/a b%2Bc.txt", "a b+c.txt"),
        ("/[id].js", "[id].js"),
        ("/%5Bid%5d.js", "[id].js"),
        ("/100%25.txt", "100%.txt"),
        ("/%F0%9F%9A%A2.png", "\u{1F6A2}.png"),
        ("/a&b=c;d.txt", "a&b=c;d.txt"),
        ("/%C3%9C", "-> /%C3%9C/"),
        ("/q%3F.txt", "q?.txt"),
        ("/q?.txt", "404"),
        ("/%23.txt", "#.txt"),
        ("/caf%E9", "404"),
        ("/%C3%9C%2Findex.html", "404"),
    ];
    for (path, expected) in cases {
        assert_eq!(got(&edge, path), expected, "{path}");
    }
}

#[test]
fn case_is_ignored_when_asked_to() {
    let files = [
        "About.html",
        "about.html",
        "Docs/Index.html",
        "docs/index.html",
        "LOGO.PNG",
        "caf\u{c9}.html",
    ];
    let cases = [
        ("tidy", "/about", "about.html"),
        ("tidy", "/About", "About.html"),
        ("tidy", "/ABOUT", "-> /About"),
        ("tidy", "/DOCS/", "-> /docs/"),
        ("tidy", "/logo.png", "-> /LOGO.PNG"),
        ("tidy", "/CAF%C3%89", "-> /caf%C3%89"),
        ("tidy", "/caf%C3%A9", "404"),
        ("loose", "/ABOUT.HTML", "About.html"),
        ("loose", "/logo.PNG", "LOGO.PNG"),
        ("exact", "/LOGO.png", "LOGO.PNG"),
        ("exact", "/ABOUT", "404"),
    ];
    for (mode, path, expected) in cases {
        assert_eq!(
            got(&edge(&format!("  pages {mode}\n  ignore case\n"), &files), path),
            expected,
            "{mode} {path}"
        );
    }
}

#[test]
fn what_is_left_out_of_the_list() {
    let files = FileList::from_iter([
        "a.html",
        ".env",
        "x/.git/y",
        ".well-known/z",
        "a.html",
        "b.html",
        "x/..y",
    ]);
    let names =
        |files: &FileList| files.names().iter().map(|name| name.to_string()).collect::<Vec<_>>();
    let left_out = |files: &FileList| {
        files.left_out().iter().map(|(name, why)| format!("{name} {why:?}")).collect::<Vec<_>>()
    };
    assert_eq!(names(&files), [".well-known/z", "a.html", "b.html"]);
    assert_eq!(left_out(&files), [".env Hidden", "x/..y Hidden", "x/.git/y Hidden"]);
    let fewer = files.without(["b.html", "led/out"], Omission::Link);
    assert_eq!(names(&fewer), [".well-known/z", "a.html"]);
    assert_eq!(
        left_out(&fewer),
        [".env Hidden", "b.html Link", "led/out Link", "x/..y Hidden", "x/.git/y Hidden"]
    );
}

proptest! {
    #![proptest_config(ravel_testing::config(600))]

    /// Under `tidy` a file has one address; every other spelling leads there with one redirect, or
    /// to another file's.
    #[test]
    fn tidy_gives_every_file_one_address(names in prop::collection::btree_set("(a|b|A|index|caf\u{e9})(/(a|b|index)){0,2}(\\.html|\\.js|)", 1..8), ignore in any::<bool>()) {
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        // A name that is both a file and a folder cannot be on disk.
        let names: Vec<&str> = names.iter().copied().filter(|name| !names.iter().any(|other| other.starts_with(&format!("{name}/")))).collect();
        let edge = edge(if ignore { "  ignore case\n" } else { "" }, &names);
        let mut served = BTreeSet::new();
        for name in &names {
            let stem = name.strip_suffix(".html").unwrap_or(name);
            let folder = name.strip_suffix("index.html").unwrap_or(name);
            let spellings = [format!("/{name}"), format!("/{stem}"), format!("/{stem}/"), format!("/{folder}"), format!("/{}", folder.trim_end_matches('/'))];
            for path in spellings {
                let mut told = got(&edge, &path);
                if let Some(to) = told.strip_prefix("-> ").map(str::to_owned) {
                    told = got(&edge, &to);
                    prop_assert!(!told.starts_with("-> ") && told != "404", "{} leads to {}, which gets {}", path, to, told);
                }
                if told != "404" {
                    served.insert(told);
                }
            }
        }
        let all: BTreeSet<String> = names.iter().map(|name| (*name).to_owned()).collect();
        prop_assert_eq!(served, all, "every file can be reached, and nothing else");
    }
}
