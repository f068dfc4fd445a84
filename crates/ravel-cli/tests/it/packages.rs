//! The documentation that packages of a registry bring along, held against another HTML reader.

use std::collections::BTreeSet;
use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use tempfile::TempDir;
use url::Url;

use crate::common::{fetch, run};

/// Packages, and where their documentation is.
const PACKAGES: [(&str, &str); 3] = [
    ("dygraphs@2.2.2", "package/_site"),
    ("vis@4.21.0", "package/docs"),
    ("openlayers@3.20.1", "package"),
];

/// Writes the references of each page that is named on a line, and its `<base>`, as Python reads it.
const READ: &str = r#"
import html.parser, json, pathlib, sys
PLAIN = {"a": "href", "area": "href", "img": "src", "script": "src", "iframe": "src", "audio": "src",
    "embed": "src", "source": "src", "track": "src", "object": "data"}
class Page(html.parser.HTMLParser):
    def handle_starttag(self, tag, attributes):
        of = {name: value or "" for name, value in reversed(attributes)}
        names = [PLAIN.get(tag)]
        if tag == "video": names = ["src", "poster"]
        if tag == "link" and {"stylesheet", "icon", "manifest"} & set(of.get("rel", "").lower().split()): names = ["href"]
        if tag == "form" and of.get("method", "").strip().lower() != "post": names = ["action"]
        self.found += [of[name] for name in names if name in of]
        if tag == "base" and self.base is None: self.base = of.get("href")
for line in sys.stdin:
    page = Page()
    page.found, page.base = [], None
    page.feed(pathlib.Path(line.rstrip("\n")).read_bytes().decode("utf-8", "replace"))
    page.close()
    print(json.dumps([page.base, page.found]))
"#;

#[test]
#[ignore = "fetches packages with npm, and needs Python"]
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
    names.retain(|name| name.ends_with(".html"));
    let mut python = Command::new("python3");
    python.args(["-c", READ]).current_dir(root).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut python = python.spawn().expect("Python runs");
    let mut input = python.stdin.take().unwrap();
    let asked = names.join("\n");
    let writer = std::thread::spawn(move || input.write_all(asked.as_bytes()).unwrap());
    let output = python.wait_with_output().unwrap();
    writer.join().unwrap();
    let pages = String::from_utf8(output.stdout).unwrap();
    assert_eq!(pages.lines().count(), names.len());
    for (name, page) in names.iter().zip(pages.lines()) {
        let (base, references): (Option<String>, Vec<String>) = serde_json::from_str(page).unwrap();
        let own = Url::parse(&format!("https://h.example/{name}")).unwrap();
        let base = base.and_then(|base| own.join(&base).ok()).unwrap_or(own);
        for written in references.iter().map(|written| written.trim()) {
            let Ok(url) = base.join(written) else { continue };
            let is_here = url.host_str() == Some("h.example") && url.scheme().starts_with("http");
            if is_here && !written.is_empty() && !written.starts_with('#') && !is_file(root, &url) {
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
