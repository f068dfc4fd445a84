//! `ravel draft`, run as a user runs it.

use std::fs;

use crate::common::{demo, folder, run};

const AT: [&str; 2] = ["--at", "https://lanternferries.example/"];

#[test]
fn a_draft_is_written_where_no_file_is() {
    let demo = demo();
    let draft = [&["draft", "dist"], &AT[..], &["--write", "first.ravel"]].concat();
    let (status, out, errors) = run(demo.path(), &draft, "");
    assert_eq!((status, errors.as_str()), (0, ""));
    assert!(out.contains("ravel --rules first.ravel test"), "{out}");
    let text = fs::read_to_string(demo.path().join("first.ravel")).unwrap();
    let (_, shown, _) = run(demo.path(), &[&["draft", "dist"], &AT[..]].concat(), "");
    assert_eq!(text, shown);
    for command in [&["test"][..], &["check", "--fail-on", "error"], &["fmt", "--check"]] {
        let (status, out, errors) =
            run(demo.path(), &[&["--rules", "first.ravel"], command].concat(), "");
        assert_eq!(status, 0, "{command:?}: {out}{errors}");
    }
    // What is there stays as it is.
    let (status, _, errors) = run(demo.path(), &draft, "");
    assert!(status == 2 && errors.contains("`first.ravel` is there already"), "{errors}");
    assert_eq!(fs::read_to_string(demo.path().join("first.ravel")).unwrap(), text);
}

#[test]
fn the_folder_is_named_from_the_place_of_the_rules() {
    let site = folder(&[("web/out/index.html", "<p>x"), ("rules/keep", "")]);
    let out = ["draft", "web/out", "--at", "https://h.example/", "--write", "rules/edge.ravel"];
    assert_eq!(run(site.path(), &out, "").0, 0);
    let text = fs::read_to_string(site.path().join("rules/edge.ravel")).unwrap();
    assert!(text.contains("files ../web/out\n"), "{text}");
    let (status, _, errors) = run(site.path(), &["--rules", "rules/edge.ravel", "test"], "");
    assert_eq!((status, errors.as_str()), (0, ""));
}

#[test]
fn what_cannot_be_drafted_says_what_to_do() {
    let site = folder(&[
        ("dist/index.html", "<a href=/guide/a/>a</a><script src=/guide/x.js></script>"),
        ("dist/a/index.html", "<a href=/guide/>home</a>"),
        ("dist/x.js", ""),
        ("empty/a.txt", ""),
    ]);
    for (folder, url, wanted) in [
        ("dist", "https://h.example/", "draft it at https://h.example/guide/, or build it for"),
        ("dist", "h.example", "`h.example` is not the URL of a site"),
        ("empty", "https://h.example/", "there is no HTML page; name the folder"),
        ("none", "https://h.example/", "none"),
    ] {
        let (status, out, errors) = run(site.path(), &["draft", folder, "--at", url], "");
        assert!(status == 2 && out.is_empty() && errors.contains(wanted), "{folder}: {errors}");
    }
}

/// The second edition of the demo: what moved is found by what its pages say.
#[test]
fn moves_are_drafted_from_the_site_before() {
    let demo = demo();
    let old =
        |more: &[&str]| run(demo.path(), &[&["draft", "redesign"], &AT[..], more].concat(), "");
    let (status, out, errors) = old(&["--old", "dist"]);
    assert_eq!((status, errors.as_str()), (0, ""));
    assert_eq!(out, old(&["--old-files", "dist"]).1);
    for wanted in [
        "/about               -> /company         # the same text, 0.99",
        "/tickets/            -> /fares/          # the same text, 0.99",
        "/book/               -> /booking/        # the only page of that title, 0.85",
    ] {
        assert!(out.contains(wanted), "no {wanted} in\n{out}");
    }
    // With these, nothing is lost.
    fs::write(demo.path().join("new.ravel"), out).unwrap();
    let sitemap = ["--urls", "dist/sitemap.xml", "--only", "missing", "--json"];
    let (_, out, _) =
        run(demo.path(), &[&["diff", "edge.ravel", "new.ravel"], &sitemap[..]].concat(), "");
    let told: serde_json::Value = serde_json::from_str(&out).unwrap();
    let lost: Vec<&str> = told["differences"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["urls"].as_u64() > Some(0))
        .map(|one| one["example"]["url"].as_str().unwrap())
        .collect();
    assert_eq!(lost, [""; 0]);
    // Lists and tables are sources, too; what is not of the site is said.
    fs::write(
        demo.path().join("old.csv"),
        "url,hits\n/tickets/,9\nhttps://else.example/,1\nnews,1\n",
    )
    .unwrap();
    let (status, out, errors) = old(&["--old", "old.csv"]);
    assert_eq!(status, 0);
    assert!(
        errors.contains("1 line cannot be read") && errors.contains("1 URL is not below"),
        "{errors}"
    );
    assert!(out.contains("1 old URL has no page that is like it: /tickets/"), "{out}");
}
