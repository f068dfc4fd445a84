//! The documentation that packages of a registry bring along, held against another HTML reader.

mod common;

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

use scraper::{Html, Selector};
use tempfile::TempDir;
use url::Url;

use common::run;

/// Packages, and where their documentation is.
const PACKAGES: [(&str, &str); 3] = [
    ("dygraphs@2.2.2", "package/_site"),
    ("vis@4.21.0", "package/docs"),
    ("openlayers@3.20.1", "package"),
];

/// What refers to another file: elements, and the attribute.
const REFERENCES: [(&str, &str); 8] = [
    ("a[href], area[href]", "href"),
    ("img[src], script[src], iframe[src], audio[src], video[src], embed[src]", "src"),
    ("source[src], track[src]", "src"),
    ("video[poster]", "poster"),
    ("object[data]", "data"),
    ("link[rel~=stylesheet i][href]", "href"),
    ("link[rel~=icon i][href], link[rel~=manifest i][href]", "href"),
    ("form[action]:not([method=post i])", "action"),
];

#[test]
#[ignore = "fetches packages with npm"]
fn broken_references_of_documentation_are_those_another_reader_finds() {
    for (package, folder) in PACKAGES {
        let site = TempDir::new().unwrap();
        fetch(package, site.path());
        let rules = format!("site https://h.example/\n  files {folder}\n");
        fs::write(site.path().join("edge.ravel"), rules).unwrap();
        let start = Instant::now();
        let (_, shown, errors) = run(site.path(), &["check"], "");
        let took = start.elapsed();
        assert!(shown.lines().count() < 220 && errors.is_empty(), "{package}: {shown}{errors}");
        let (_, json, _) = run(site.path(), &["check", "--json", "--only", "broken-link"], "");
        let found: serde_json::Value = serde_json::from_str(&json).unwrap();
        let of_pages = found["findings"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|finding| finding["source"].as_str().unwrap().ends_with(".html"));
        let told: BTreeSet<String> = of_pages
            .map(|finding| finding["example"]["url"].as_str().unwrap())
            .map(|url| url.split('#').next().unwrap().to_owned())
            .collect();
        let wanted = broken(&site.path().join(folder));
        assert!(!wanted.is_empty(), "{package}");
        let (missed, invented) = (wanted.difference(&told), told.difference(&wanted));
        let (missed, invented) = (missed.collect::<Vec<_>>(), invented.collect::<Vec<_>>());
        assert!(missed.is_empty() && invented.is_empty(), "{package}: {missed:#?}, {invented:#?}");
        println!("{package}: {} broken targets, in {took:?}", wanted.len());
    }
}

/// Two versions of one documentation: whatever is written as a rule leads to a page, at once.
#[test]
#[ignore = "fetches packages with npm"]
fn moves_between_two_versions_end_well() {
    let site = TempDir::new().unwrap();
    for version in ["vis@3.12.0", "vis@4.21.0"] {
        let place = site.path().join(version);
        fs::create_dir(&place).unwrap();
        fetch(version, &place);
    }
    let at = ["draft", "vis@4.21.0/package", "--at", "https://h.example/"];
    let old = ["--old", "vis@3.12.0/package"];
    let (status, _, errors) =
        run(site.path(), &[&at[..], &old, &["--write", "edge.ravel"]].concat(), "");
    assert_eq!((status, errors.as_str()), (0, ""));
    let (_, moves, _) = run(site.path(), &[&at[..], &old, &["--moves"]].concat(), "");
    let rows: Vec<(&str, &str)> = moves
        .lines()
        .filter_map(|line| line.strip_prefix("  ")?.split_once(" -> "))
        .map(|(from, to)| (from.trim(), to.split(' ').next().unwrap()))
        .collect();
    assert!(rows.len() >= 40, "{moves}");
    let asked: String = rows.iter().map(|(from, _)| format!("{from}\n")).collect();
    let (_, answers, _) = run(site.path(), &["explain", "-", "--json"], &asked);
    for ((from, to), answer) in rows.iter().zip(answers.lines()) {
        let answer: serde_json::Value = serde_json::from_str(answer).unwrap();
        let (ends, hops) = (&answer["ends"], &answer["hops"]);
        assert_eq!((&ends["outcome"], hops), (&"file".into(), &1.into()), "{from} -> {to}: {ends}");
        assert!(ends["url"].as_str().unwrap().ends_with(to), "{from} -> {to}: {ends}");
    }
    let (_, out, _) = run(site.path(), &["test"], "");
    assert!(out.contains("expectations hold"), "{out}");
    let errors = [
        "check",
        "--json",
        "--only",
        "redirect-to-missing,redirect-loop,redirect-chain,unreachable-rule",
    ];
    let (_, found, _) = run(site.path(), &errors, "");
    let found: serde_json::Value = serde_json::from_str(&found).unwrap();
    assert_eq!(found["findings"].as_array().unwrap().len(), 0, "{found}");
}

fn fetch(package: &str, folder: &Path) {
    let packed = Command::new("npm")
        .args(["pack", "--silent", package])
        .current_dir(folder)
        .output()
        .unwrap();
    assert!(packed.status.success(), "{package}: {}", String::from_utf8_lossy(&packed.stderr));
    let archive = String::from_utf8(packed.stdout).unwrap();
    let unpacked =
        Command::new("tar").args(["xzf", archive.trim()]).current_dir(folder).status().unwrap();
    assert!(unpacked.success());
}

/// The targets on the site for which a folder has nothing: what a file host would answer with 404.
fn broken(root: &Path) -> BTreeSet<String> {
    let mut names = Vec::new();
    list(root, "", &mut names);
    let mut broken = BTreeSet::new();
    for name in names.iter().filter(|name| name.ends_with(".html")) {
        let page =
            Html::parse_document(&String::from_utf8_lossy(&fs::read(root.join(name)).unwrap()));
        let own = Url::parse(&format!("https://h.example/{name}")).unwrap();
        let base = Selector::parse("base[href]").unwrap();
        let base = page.select(&base).next().and_then(|base| own.join(base.attr("href")?).ok());
        let base = base.unwrap_or(own);
        for (elements, attribute) in REFERENCES {
            for element in page.select(&Selector::parse(elements).unwrap()) {
                let written = element.attr(attribute).unwrap().trim();
                let Ok(url) = base.join(written) else { continue };
                let is_here =
                    url.host_str() == Some("h.example") && url.scheme().starts_with("http");
                if !is_here || written.is_empty() || written.starts_with('#') || is_file(root, &url)
                {
                    continue;
                }
                broken.insert(url[..url::Position::AfterQuery].to_owned());
            }
        }
    }
    broken
}

/// Whether a host that only serves files has one for this.
fn is_file(root: &Path, url: &Url) -> bool {
    let path = percent_encoding::percent_decode_str(url.path()).decode_utf8_lossy();
    let path = path.trim_matches('/');
    let is_hidden = path.split('/').any(|segment| segment.starts_with('.'));
    let forms = [path.to_owned(), format!("{path}.html"), format!("{path}/index.html")];
    !is_hidden && forms.iter().any(|form| root.join(form.trim_start_matches('/')).is_file())
}

fn list(folder: &Path, prefix: &str, names: &mut Vec<String>) {
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let name = entry.file_name().into_string().unwrap();
        match (name.starts_with('.'), entry.file_type().unwrap().is_dir()) {
            (true, _) => {}
            (_, true) => list(&entry.path(), &format!("{prefix}{name}/"), names),
            (_, false) => names.push(format!("{prefix}{name}")),
        }
    }
}
