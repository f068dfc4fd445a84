//! What the help of a finding asks to change, as other programs get it.

use std::fs;

use crate::common::run;
use serde_json::Value;

/// What is to change is given as bytes, to JSON and to SARIF alike; done, the findings are gone.
#[test]
fn what_to_change_is_said_in_bytes() {
    let rules = "site https://h.example/\n  files dist\n  missing /404.html\n\
        redirect /old -> /about\nredirect /old -> /about\n";
    let page = "<!doctype html><p>é <a href=\"/about.html\">About</a> <a href='/about.html'>us</a>";
    let files = [
        ("edge.ravel", rules),
        ("dist/index.html", page),
        ("dist/about.html", "<p>x"),
        ("dist/404.html", "<p>x"),
    ];
    let folder = crate::common::folder(&files);
    let arguments = ["check", "--json", "--fail-on", "warning", "--report", "out.sarif"];
    let (status, out, errors) = run(folder.path(), &arguments, "");
    assert_eq!((status, errors.as_str()), (1, ""));
    let told: Value = serde_json::from_str(&out).unwrap();
    let edits = told["findings"].as_array().unwrap().iter();
    let mut edits: Vec<&Value> = edits.flat_map(|one| one["edits"].as_array().unwrap()).collect();
    assert_eq!(edits.len(), 3, "{out}");
    edits.sort_by_key(|edit| std::cmp::Reverse(edit["start"].as_u64()));
    for edit in edits {
        let path = folder.path().join(edit["file"].as_str().unwrap());
        let mut text = fs::read_to_string(&path).unwrap();
        let at = |key: &str| edit[key].as_u64().unwrap() as usize;
        text.replace_range(at("start")..at("end"), edit["text"].as_str().unwrap());
        fs::write(&path, text).unwrap();
    }
    assert_eq!(
        fs::read_to_string(folder.path().join("dist/index.html"))
            .unwrap()
            .matches("\"/about\"")
            .count(),
        1
    );
    let log: Value =
        serde_json::from_slice(&fs::read(folder.path().join("out.sarif")).unwrap()).unwrap();
    let fixes: Vec<&Value> = log["runs"][0]["results"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| &one["fixes"][0]["artifactChanges"][0]["replacements"])
        .collect();
    assert!(fixes.iter().any(|fix| fix.as_array().unwrap().len() == 2), "{fixes:?}");
    assert!(
        fixes
            .iter()
            .any(|fix| fix[0]["deletedRegion"]["byteOffset"] == rules.rfind("redirect").unwrap())
    );
    let (status, out, _) = run(folder.path(), &["check", "--fail-on", "warning"], "");
    assert_eq!(status, 0, "{out}");
}
