//! The documentation that packages of a registry bring along, held against another HTML reader.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::time::Instant;

use scraper::{Html, Selector};
use tempfile::TempDir;
use url::Url;

use crate::common::{fetch, run};

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
