//! Drafts for builds of generators and bundlers from a registry, with and without a base path: each
//! is right as it stands.

mod common;

use std::fs;
use std::path::Path;
use std::process::Command;

use common::run;
use serde_json::Value;
use tempfile::TempDir;

/// What is installed.
const TOOLS: [&str; 5] = ["vite@6", "vitepress@1", "astro@5", "@11ty/eleventy@3", "parcel@2"];

/// The name of a build, its sources, its command, and the base path that it is for.
type Site =
    (&'static str, &'static [(&'static str, &'static str)], &'static [&'static str], &'static str);

const APP: &[(&str, &str)] = &[
    (
        "index.html",
        "<!doctype html><html lang=en><div id=\"app\"></div><script type=\"module\" src=\"./main.js\"></script>",
    ),
    ("main.js", "import './a.css'; history.pushState({}, '', location.href); console.log(1);"),
    ("a.css", "a { color: red }"),
];
const NOTES: &[(&str, &str)] =
    &[("index.md", "# Home\n\n[The boats](/boats/)\n"), ("boats.md", "# Boats\n\n[Home](/)\n")];
const BOOK: &[(&str, &str)] =
    &[("index.md", "# Home\n\n[The boats](/boats)\n"), ("boats.md", "# Boats\n\n[Home](/)\n")];
const TIDY_BOOK: &[(&str, &str)] = &[
    ("index.md", "# Home\n\n[The boats](/boats)\n"),
    ("boats.md", "# Boats\n\n[Home](/)\n"),
    (".vitepress/config.js", "export default { base: '/book/', cleanUrls: true }"),
];
const PAGES: &[(&str, &str)] = &[
    ("package.json", "{\"type\": \"module\"}"),
    (
        "src/pages/index.astro",
        "<html lang=en><a href=\"/boats/\">Boats</a><style>a { color: red }</style></html>",
    ),
    (
        "src/pages/boats.astro",
        "<html lang=en><a href=\"/\">Home</a><script>console.log(1)</script></html>",
    ),
    ("src/pages/404.astro", "<html lang=en>Not found</html>"),
];
const FLAT_PAGES: &[(&str, &str)] = &[
    ("package.json", "{\"type\": \"module\"}"),
    ("astro.config.mjs", "export default { build: { format: 'file' }, base: '/blog' }"),
    ("src/pages/index.astro", "<html lang=en><a href=\"/blog/boats.html\">Boats</a></html>"),
    ("src/pages/boats.astro", "<html lang=en><a href=\"/blog/\">Home</a></html>"),
];

const SITES: [Site; 10] = [
    ("app", APP, &["vite", "build", "--outDir", "out"], "/"),
    (
        "app below a base path",
        APP,
        &["vite", "build", "--base", "/shop/", "--outDir", "out"],
        "/shop/",
    ),
    ("notes", NOTES, &["eleventy", "--quiet", "--output=out"], "/"),
    ("notes below a base path", NOTES, &["eleventy", "--quiet", "--output=out"], "/notes/"),
    ("book", BOOK, &["vitepress", "build", ".", "--outDir", "out"], "/"),
    (
        "tidy book below a base path",
        TIDY_BOOK,
        &["vitepress", "build", ".", "--outDir", "out"],
        "/book/",
    ),
    ("pages in folders", PAGES, &["astro", "build", "--outDir", "out"], "/"),
    (
        "pages in files below a base path",
        FLAT_PAGES,
        &["astro", "build", "--outDir", "out"],
        "/blog/",
    ),
    ("another app", APP, &["parcel", "build", "index.html", "--dist-dir", "out"], "/"),
    (
        "another app below a base path",
        APP,
        &["parcel", "build", "index.html", "--dist-dir", "out", "--public-url", "/play/"],
        "/play/",
    ),
];

#[test]
#[ignore = "installs generators with npm"]
fn drafts_are_right_as_they_stand() {
    let place = TempDir::new().unwrap();
    let mut install = Command::new("npm");
    install.args(["install", "--no-audit", "--no-fund", "--silent", "--prefix"]).arg(place.path());
    assert!(install.args(TOOLS).status().unwrap().success());
    let tools = place.path().join("node_modules/.bin");
    let path = format!("{}:{}", tools.display(), std::env::var("PATH").unwrap_or_default());
    for (number, (name, sources, command, base)) in SITES.iter().enumerate() {
        let folder = place.path().join(format!("site-{number}"));
        for (file, text) in *sources {
            let file = folder.join(file);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        }
        let built = Command::new(tools.join(command[0]))
            .args(&command[1..])
            .current_dir(&folder)
            .env("PATH", &path)
            .env("ASTRO_TELEMETRY_DISABLED", "1")
            .output()
            .unwrap();
        assert!(built.status.success(), "{name}: {}", String::from_utf8_lossy(&built.stderr));
        is_right(name, &folder, base);
    }
}

fn is_right(name: &str, folder: &Path, base: &str) {
    let at = format!("https://h.example{base}");
    let (status, _, errors) =
        run(folder, &["draft", "out", "--at", &at, "--write", "edge.ravel"], "");
    // Links of notes know no base path, and that is said.
    if name.starts_with("notes below") {
        assert!(
            status == 2 && errors.contains("the build was made for another base path"),
            "{errors}"
        );
        return;
    }
    assert_eq!((status, errors.as_str()), (0, ""), "{name}");
    let rules = fs::read_to_string(folder.join("edge.ravel")).unwrap();
    let (status, out, _) = run(folder, &["test"], "");
    assert_eq!(status, 0, "{name}: {out}\n{rules}");
    let (_, found, _) = run(folder, &["check", "--json"], "");
    let found: Value = serde_json::from_str(&found).unwrap();
    let errors: Vec<&Value> = found["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["severity"] == "error" && one["source"] == "edge.ravel")
        .collect();
    assert!(errors.is_empty(), "{name}: {errors:?}\n{rules}");
    // Every file is answered under its own name, or its page under its own URL.
    let files: Vec<String> = common::contents(&folder.join("out")).into_keys().collect();
    let asked: String = files.iter().map(|file| format!("/{file}\n")).collect();
    let (_, answers, _) = run(folder, &["explain", "-", "--json"], &asked);
    for (file, answer) in files.iter().zip(answers.lines()) {
        let answer: Value = serde_json::from_str(answer).unwrap();
        let ends = &answer["ends"];
        assert_eq!(
            (&ends["status"], &ends["file"]),
            (&200.into(), &(**file).into()),
            "{name}: {rules}"
        );
    }
    let has = |text: &str| rules.contains(text);
    let is_app = name.contains("app");
    assert_eq!(has("fallback {/step*} -> /"), is_app, "{name}: {rules}");
    assert_eq!(
        has("missing /404.html"),
        files.iter().any(|file| file == "404.html"),
        "{name}: {rules}"
    );
}
