//! Which names change with the content of their files, held against builds that were made twice.

use std::collections::HashSet;
use std::fs;
use std::path::Path;

use ravel::{Edge, FileList, Rules, rules::Code};
use ravel_check::{Audit, fingerprinted};

/// The lists are described beside them.
#[test]
fn names_are_told_apart_as_builds_made_twice_do() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/builds");
    let (mut found, mut wrong, mut all, mut missed) = (0, 0, 0, 0);
    let mut lists = 0;
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        if entry.path().extension() != Some("txt".as_ref()) {
            continue;
        }
        let text = fs::read_to_string(entry.path()).unwrap();
        let lines: Vec<(&str, &str)> =
            text.lines().filter_map(|line| line.split_once(' ')).collect();
        let names: Vec<&str> = lines.iter().map(|(_, name)| *name).collect();
        let told: HashSet<&str> = fingerprinted(&names, |_| false).collect();
        let mut here = (0, 0);
        for (truth, name) in lines.iter().filter(|(truth, _)| *truth != "?") {
            let (is_true, is_told) = (*truth == "+", told.contains(name));
            all += usize::from(is_true);
            found += usize::from(is_told);
            here.0 += usize::from(is_told && !is_true);
            here.1 += usize::from(is_true && !is_told);
            if is_told != is_true {
                println!("{:?}: {truth} {name}", entry.file_name());
            }
        }
        let changing = lines.iter().filter(|(truth, _)| *truth == "+").count();
        let name = entry.file_name();
        assert!(here.0 * 10 <= told.len(), "{name:?}: {} of {} are false", here.0, told.len());
        assert!(here.1 * 10 <= changing, "{name:?}: {} of {changing} are missed", here.1);
        (wrong, missed, lists) = (wrong + here.0, missed + here.1, lists + 1);
    }
    println!("{lists} builds: {wrong} of {found} false, {missed} of {all} missed");
    assert!(lists >= 15 && all > 250, "{lists} lists with {all} names");
    assert!(wrong * 50 <= found && missed * 20 <= all);
}

/// What a site of these files is told about files that could be kept.
fn told(names: &[&str], contents: &[(&str, &str)]) -> Vec<String> {
    let rules = Rules::parse("site https://harbour.example/\n  missing /404.html\n").unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(names.iter().copied()));
    let read = |name: &str| {
        let content = contents.iter().find(|(known, _)| *known == name);
        Ok::<_, std::io::Error>(content.map_or(b"".to_vec(), |(_, text)| text.as_bytes().to_vec()))
    };
    let (report, _) = Audit::new(&edge).all(read, Vec::new());
    let codes = [Code::AssetNotCached, Code::PossibleFingerprint];
    let kept = report.findings().iter().filter(|finding| codes.contains(&finding.code()));
    kept.map(|finding| {
        let edits: String = finding.edits().iter().map(|edit| format!("{edit:?}")).collect();
        assert_eq!(edits.is_empty(), finding.help().is_some_and(|help| !help.starts_with("write")));
        let is_certain = finding.code() == Code::AssetNotCached;
        assert_ne!(is_certain, finding.message().contains("may change"), "{}", finding.message());
        format!("{}; {}", finding.message(), finding.help().unwrap_or_default())
    })
    .collect()
}

#[test]
fn what_is_advised_covers_changing_names_alone() {
    let hashed =
        ["_app/js/start.C_Xhz7D9.js", "_app/js/index.DaoxElbr.js", "_app/css/a.B02V0XW6.css"];
    let with = |more: &[&'static str]| [&["404.html", "index.html"], &hashed[..], more].concat();
    let all = told(&with(&[]), &[]);
    assert_eq!(all.len(), 1, "{all:?}");
    assert!(all[0].contains("and 2 others change") && all[0].contains("headers /_app/{+file}"));
    // A page, a worker or a manifest among them: only the folders beside it.
    for fixed in ["_app/index.html", "_app/sw.js", "_app/manifest.json", "_app/version.json"] {
        let told = told(&with(&[fixed]), &[]);
        assert_eq!(told.len(), 2, "{fixed}: {told:?}");
        assert!(told[0].contains("headers /_app/css/{+file}"));
        assert!(told[1].contains("headers /_app/js/{+file}"));
    }
    // No statement is for all of them and for nothing else.
    let mixed = told(&["404.html", "index.html", "main.3f2a9b1c.js", "site.9c1b3f2a.css"], &[]);
    assert!(mixed[0].contains("a folder of their own"), "{mixed:?}");
    assert_eq!(told(&["404.html", "a/photo-20240131.jpg", "a/logo-monochrome1.svg"], &[]).len(), 0);
}

/// What people, documentation tools and tests write is no hash; what nothing else in the build says
/// is one is a note, with the part that is taken for it.
#[test]
fn evidence_is_the_builds_own() {
    let names = [
        "404.html",
        "index.html",
        "img/for_each_any_gcc63_x64.png",
        "dir_68267d1309a1af8e8297ef4c3efbcdba.html",
        "dir_68267d1309a1af8e8297ef4c3efbcdba.js",
        "dir_d44c64559bbebec7f509842c48db8b23.html",
        "dir_d44c64559bbebec7f509842c48db8b23.js",
        "wxBoxSizer.chunk",
        "wxFlexGridSizer.chunk",
        "css/quick-jump.css",
    ];
    assert_eq!(told(&names, &[]), Vec::<String>::new());
    let one = told(&["404.html", "index.html", "app.3f2a9b1c.js"], &[]);
    assert!(one[0].contains("may change with the content by `3f2a9b1c`"), "{one:?}");
    let two = told(&["404.html", "index.html", "a/app.3f2a9b1c.js", "a/b.1c9b2a3f.css"], &[]);
    assert!(two[0].contains("and 1 other change with the content by `3f2a9b1c`"), "{two:?}");
}

#[test]
fn a_manifest_says_which_names_a_build_made() {
    let names = ["404.html", "index.html", "a/main-quay.js", "a/plain.js", "manifest.json"];
    assert!(told(&names, &[]).is_empty());
    for manifest in [
        r#"{"src/main.js": {"file": "a/main-quay.js"}, "src/plain.js": {"file": "a/plain.js"}}"#,
        r#"{"main.js": "/a/main-quay.js"}"#,
        r#"{"files": {"main.js": "./a/main-quay.js", "plain.js": "./a/plain.js"}}"#,
    ] {
        let told = told(&names, &[("manifest.json", manifest)]);
        assert_eq!(told.len(), 1, "{manifest}: {told:?}");
        assert!(told[0].contains("a/main-quay.js changes"), "{told:?}");
    }
}
