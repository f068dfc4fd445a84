//! What is drafted from small builds, and the law that every draft is right as it stands.

use std::collections::BTreeMap;
use std::path::Path;

use proptest::prelude::*;
use ravel::finding::{Finding, FindingPlace};
use ravel::rules::{Code, Severity};
use ravel::{Edge, FileList, Rules};
use ravel_check::{Audit, verify_all};
use ravel_draft::{Draft, DraftError};

type Files = BTreeMap<String, Vec<u8>>;

/// What it is about, the files, what is in the draft, and what is not.
type Case<'c> = (&'c str, &'c [(&'c str, &'c str)], &'c [&'c str], &'c [&'c str]);

fn files(list: &[(&str, &str)]) -> Files {
    list.iter().map(|(name, text)| ((*name).to_owned(), text.as_bytes().to_vec())).collect()
}

fn draft(url: &str, files: &Files) -> Result<String, DraftError> {
    let names: Vec<&String> = files.keys().collect();
    let read = |name: &str| files.get(name).cloned().ok_or("there is none");
    Ok(Draft::of(url, "dist", &names, read)?.rules().to_owned())
}

/// A draft is formatted, its expectations hold, and its rules cause no error.
fn is_right(url: &str, files: &Files) -> Result<String, TestCaseError> {
    let text = draft(url, files).map_err(|error| TestCaseError::fail(error.to_string()))?;
    prop_assert_eq!(&ravel::language::format(&text).unwrap(), &text);
    let rules = Rules::parse(&text).unwrap();
    let edge = Edge::new(&rules, files.keys().collect::<FileList>());
    for verdict in verify_all(&edge) {
        prop_assert!(verdict.holds(), "{}: {:?} in {text}", verdict.asked(), verdict.failures());
    }
    prop_assert!(!verify_all(&edge).is_empty(), "{text}");
    // A broken link is a mistake of the build, whatever the rules are.
    let read = |name: &str| files.get(name).cloned().ok_or("there is none");
    let (report, _) = Audit::new(&edge).all(read, Vec::new());
    // Nor is a page that is not there.
    let is_of_rules = |one: &&Finding| {
        matches!(one.place(), FindingPlace::Line(_)) && one.code() != Code::MissingIndex
    };
    let errors = report.findings().iter().filter(is_of_rules);
    let errors: Vec<_> = errors.filter(|one| one.code().severity() == Severity::Error).collect();
    prop_assert!(errors.is_empty(), "{errors:?} in {text}");
    Ok(text)
}

#[test]
fn what_a_build_shows_is_written() {
    let link = |to: &str| format!("<html lang=en><a href=\"{to}\">x</a>");
    let app = "<div id=app></div><script src=/assets/app-DaoxElbr.js></script>";
    let cases: [Case; 12] = [
        (
            "links that end in `.html`",
            &[("index.html", &link("/a.html")), ("a.html", &link("/index.html"))],
            &[
                "2 of 2 links to pages are answered at once so",
                "pages exact",
                "expect /a.html serves /a.html",
            ],
            &["fallback"],
        ),
        (
            "folders without their slash",
            &[("index.html", &link("/a")), ("a/index.html", &link("/b")), ("b/index.html", "")],
            &["pages loose"],
            &[],
        ),
        (
            "tidy URLs are the default",
            &[("index.html", &link("/a")), ("a.html", &link("/")), ("404.html", "")],
            &["missing /404.html", "alias   www.h.example", "expect /a.html goes to /a in 1 hop"],
            &["  pages"],
        ),
        (
            "an app in a folder",
            &[
                ("index.html", &link("/app/")),
                ("app/index.html", app),
                (
                    "assets/app-DaoxElbr.js",
                    "history.pushState(0);r=[{path:\"/boats/:id\"},{path : '/fares'},{xpath:'/no'}]",
                ),
                ("assets/app-C_Xhz7D9.css", ""),
            ],
            &[
                "fallback /app{/step*} -> /app/",
                "Scripts name views at /boats/:id, /fares.",
                "headers /assets/{+file}",
                "expect /app/some/page serves /app/index.html",
            ],
            &["catch-all", "has no router"],
        ),
        (
            "an app without a router",
            &[("index.html", app), ("assets/app-DaoxElbr.js", "1")],
            &["fallback {/step*} -> /", "accept catch-all-fallback", "has no router"],
            &[],
        ),
        (
            "languages and no page at the root",
            &[("en/index.html", "<html lang=en>"), ("de/index.html", "<html lang=de>")],
            &[
                "languages en, de",
                "redirect / -> /de/\n  when language is de",
                "redirect / -> /en/",
            ],
            &[],
        ),
        (
            "languages that other pages say, and the one for all others",
            &[
                (
                    "en/index.html",
                    "<link rel=alternate hreflang=pt href=/pt/><link rel=alternate hreflang=x-default href=https://h.example/pt/>",
                ),
                ("pt/index.html", "<link rel=alternate hreflang=en href=/en/>"),
            ],
            &[
                "languages pt, en",
                "redirect / -> /en/\n  when language is en",
                "redirect / -> /pt/",
            ],
            &[],
        ),
        (
            "what a sitemap lists",
            &[
                ("index.html", ""),
                ("a.html", ""),
                (
                    "sitemap.xml",
                    "<urlset><url><loc>https://h.example/a.html</loc></url><url><loc>https://old.example/</loc></url></urlset>",
                ),
            ],
            &[
                "1 of 1 links to pages and URLs in sitemaps are",
                "pages exact",
                "The sitemap states old.example as their own host",
            ],
            &[],
        ),
        (
            "two apps, and pages beside them",
            &[
                ("index.html", &link("/a/")),
                ("a/index.html", app),
                ("a/b/index.html", app),
                ("assets/app-DaoxElbr.js", "history.pushState(0)"),
            ],
            &["fallback /a/b{/step*} -> /a/b/", "fallback /a{/step*} -> /a/"],
            &["fallback {/step*}"],
        ),
        (
            "a page that leads on",
            &[
                ("index.html", ""),
                ("old.html", "<meta http-equiv=refresh content='0; url=/new'>"),
                ("new.html", ""),
            ],
            &["redirect /old -> /new\n  accept shadowed-file"],
            &[],
        ),
        (
            "hosts that pages state",
            &[(
                "index.html",
                "<link rel=canonical href=https://www.h.example/><meta property=og:url content=https://old.example/>",
            )],
            &["1 page states it as their own host", "1 page states old.example as their own host"],
            &["alias   old.example"],
        ),
        (
            "what pages load",
            &[
                (
                    "index.html",
                    "<script>1</script><script src=https://cdn.example/x.js></script><p style=\"color:red\"><img src=data:image/png;base64,AA>",
                ),
                (
                    "a.css",
                    "/* see https://no.example */ a{background:url(https://img.example/x.png)}",
                ),
                ("a.js", "fetch('https://api.example/v1') // as in https://no.example"),
            ],
            &[
                "script-src 'self' https://cdn.example 'sha256-a4ayc/80/OGda4BO/1o/V0etpOqiLx1JwB5S3beHW0s='",
                "style-src 'self' 'unsafe-inline'",
                "img-src 'self' data: https://img.example",
                "connect-src 'self' https://api.example;",
                "object-src 'none'",
            ],
            &["no.example"],
        ),
    ];
    for (what, list, there, not_there) in cases {
        let text = is_right("https://h.example/", &files(list))
            .unwrap_or_else(|error| panic!("{what}: {error}"));
        for wanted in there {
            assert!(text.contains(wanted), "{what}: no `{wanted}` in\n{text}");
        }
        for unwanted in not_there {
            assert!(!text.contains(unwanted), "{what}: `{unwanted}` in\n{text}");
        }
    }
}

#[test]
fn what_is_not_a_build_for_this_url_is_refused() {
    let page = "<a href=/guide/a/>a</a><link rel=stylesheet href=/guide/site.css>";
    let build = files(&[("index.html", page), ("a/index.html", page), ("site.css", "")]);
    let error = draft("https://h.example/", &build).unwrap_err().to_string();
    let wanted = "of 4 references from `/`, 0 name a file below https://h.example/, and 4 below \
                  https://h.example/guide/; draft it at https://h.example/guide/";
    assert!(error.contains(wanted), "{error}");
    let text = is_right("https://h.example/guide/", &build).unwrap();
    assert!(text.contains("4 of 4 references from `/` name a file below this base path"), "{text}");
    assert_eq!(draft("https://h.example/", &files(&[("a.txt", "")])), Err(DraftError::NoPages));
    assert!(matches!(draft("h.example", &build), Err(DraftError::Url(_))));
}

#[test]
fn files_that_cannot_be_read_are_said() {
    let read = |name: &str| if name == "b.html" { Err("denied") } else { Ok(b"<p>x".to_vec()) };
    let draft = Draft::of("https://h.example/", "dist", &["index.html", "b.html"], read).unwrap();
    assert!(draft.rules().contains("# 1 file could not be read, as b.html."), "{}", draft.rules());
}

#[test]
fn the_demo_is_drafted_as_it_was_written() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/lantern-ferries/dist");
    let mut all = Files::new();
    let mut open = vec![root.clone()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => open.push(path),
                false => {
                    let name = path.strip_prefix(&root).unwrap().to_str().unwrap().to_owned();
                    drop(all.insert(name, std::fs::read(&path).unwrap()));
                }
            }
        }
    }
    let text = is_right("https://lanternferries.example/", &all).unwrap();
    for wanted in
        ["fallback /book{/step*} -> /book/", "headers /assets/{+file}", "missing /404.html"]
    {
        assert!(text.contains(wanted), "{text}");
    }
}

/// A small build, of which pages link to each other in one form.
fn build() -> impl Strategy<Value = Files> {
    const NAMES: [&str; 10] = [
        "index.html",
        "a.html",
        "b/index.html",
        "b/c.html",
        "404.html",
        "de/index.html",
        "assets/app-DaoxElbr.js",
        "assets/site-C_Xhz7D9.css",
        "b/a.b.html",
        "robots.txt",
    ];
    const BODIES: [&str; 6] = [
        "<html lang=de>",
        "<div id=root></div><script src=/assets/app-DaoxElbr.js></script>",
        "<meta http-equiv=refresh content='0;url=/a'>",
        "<script>alert(1)</script><a onclick=x()>",
        "<link rel=canonical href=/a>",
        "<form action=https://f.example/>",
    ];
    let file = (
        prop::sample::select(&NAMES[..]),
        prop::sample::select(&BODIES[..]),
        prop::sample::subsequence(&NAMES[..], 0..4),
        0..3_usize,
    );
    prop::collection::vec(file, 1..8).prop_map(|list| {
        let mut all = files(&[("start.html", "<p>start")]);
        for (name, body, links, form) in list {
            let url = |name: &&str| match form {
                0 => format!("/{name}"),
                1 => format!("/{}", name.trim_end_matches("index.html").trim_end_matches(".html")),
                _ => format!("/{}", name.trim_end_matches("/index.html").trim_end_matches(".html")),
            };
            let links: String =
                links.iter().map(|name| format!("<a href=\"{}\">x</a>", url(name))).collect();
            all.insert(name.to_owned(), format!("{body}{links}").into_bytes());
        }
        all
    })
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_draft_is_right(build in build(), base in prop::sample::select(vec!["/", "/g/"])) {
        match draft(&format!("https://h.example{base}"), &build) {
            Err(DraftError::OtherBase { .. }) => {}
            _ => drop(is_right(&format!("https://h.example{base}"), &build)?),
        }
    }
}
