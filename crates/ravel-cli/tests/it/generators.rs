//! Drafts for builds of generators and bundlers from a registry, with and without a base path: each
//! is right as it stands.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::run;
use serde_json::Value;
use tempfile::TempDir;

/// Their packages, of two registries.
const TOOLS: [&str; 5] = ["vite@6", "vitepress@1", "astro@5", "@11ty/eleventy@3", "parcel@2"];
const OTHER_TOOLS: [&str; 2] = ["mkdocs==1.6.1", "sphinx==8.2.3"];

/// A build that a tool makes, and the tool's own server of it.
struct Site {
    name: &'static str,
    sources: Sources,
    /// The command, by a shell, that makes the folder `out`.
    build: &'static str,
    base: &'static str,
    /// The command of the server, to which a port is added.
    server: &'static str,
}

type Sources = &'static [(&'static str, &'static str)];

const PREVIEW: &str = "vite preview --outDir out --strictPort --port";
const BOOK_PREVIEW: &str = "vitepress preview . --port";
const PAGES_PREVIEW: &str = "astro preview --outDir out --port";
const FILES: &str = "python3 -m http.server -b 127.0.0.1 -d out";

const APP: Sources = &[
    (
        "index.html",
        "<!doctype html><html lang=en><div id=\"app\"></div><script type=\"module\" src=\"./main.js\"></script>",
    ),
    ("main.js", "import './a.css'; history.pushState({}, '', location.href); console.log(1);"),
    ("a.css", "a { color: red }"),
];
const NOTES: Sources =
    &[("index.md", "# Home\n\n[The boats](/boats/)\n"), ("boats.md", "# Boats\n\n[Home](/)\n")];
const BOOK: Sources =
    &[("index.md", "# Home\n\n[The boats](/boats)\n"), ("boats.md", "# Boats\n\n[Home](/)\n")];
const TIDY_BOOK: Sources = &[
    ("index.md", "# Home\n\n[The boats](/boats)\n"),
    ("boats.md", "# Boats\n\n[Home](/)\n"),
    (".vitepress/config.js", "export default { base: '/book/', cleanUrls: true }"),
];
const PAGES: Sources = &[
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
const MANUAL: Sources = &[
    (
        "mkdocs.yml",
        "site_name: Boats\nsite_url: https://h.example/manual/\nuse_directory_urls: false\n",
    ),
    ("docs/index.md", "# Home\n\n[The boats](boats.md)\n"),
    ("docs/boats.md", "# Boats\n\n[Home](index.md)\n"),
];
const FLAT_PAGES: Sources = &[
    ("package.json", "{\"type\": \"module\"}"),
    ("astro.config.mjs", "export default { build: { format: 'file' }, base: '/blog' }"),
    ("src/pages/index.astro", "<html lang=en><a href=\"/blog/boats.html\">Boats</a></html>"),
    ("src/pages/boats.astro", "<html lang=en><a href=\"/blog/\">Home</a></html>"),
];

const SITES: [Site; 15] = [
    Site {
        name: "app",
        sources: APP,
        build: "vite build --outDir out",
        base: "/",
        server: PREVIEW,
    },
    Site {
        name: "app below a base path",
        sources: APP,
        build: "vite build --base /shop/ --outDir out",
        base: "/shop/",
        server: "vite preview --base /shop/ --outDir out --strictPort --port",
    },
    Site {
        name: "notes",
        sources: NOTES,
        build: "eleventy --quiet --output=out",
        base: "/",
        server: FILES,
    },
    Site {
        name: "notes below a base path",
        sources: NOTES,
        build: "eleventy --quiet --output=out",
        base: "/notes/",
        server: "",
    },
    Site {
        name: "book",
        sources: BOOK,
        build: "vitepress build . --outDir out && mkdir -p .vitepress && cp -r out .vitepress/dist",
        base: "/",
        server: BOOK_PREVIEW,
    },
    Site {
        name: "tidy book below a base path",
        sources: TIDY_BOOK,
        build: "vitepress build . --outDir out && cp -r out .vitepress/dist",
        base: "/book/",
        server: BOOK_PREVIEW,
    },
    Site {
        name: "pages in folders",
        sources: PAGES,
        build: "astro build --outDir out",
        base: "/",
        server: PAGES_PREVIEW,
    },
    Site {
        name: "pages in files below a base path",
        sources: FLAT_PAGES,
        build: "astro build --outDir out",
        base: "/blog/",
        server: PAGES_PREVIEW,
    },
    Site {
        name: "another app",
        sources: APP,
        build: "parcel build index.html --dist-dir out",
        base: "/",
        server: "",
    },
    Site {
        name: "another app below a base path",
        sources: APP,
        build: "parcel build index.html --dist-dir out --public-url /play/",
        base: "/play/",
        server: "",
    },
    Site {
        name: "template of an app",
        sources: &[],
        build: "npm create --yes vite@6 . -- --template vanilla && vite build --outDir out",
        base: "/",
        server: PREVIEW,
    },
    Site {
        name: "template of an app with components",
        sources: &[],
        build: "npm create --yes vite@6 . -- --template vue && npm install --silent && npx vite build --base /new/ --outDir out",
        base: "/new/",
        server: "npx vite preview --base /new/ --outDir out --strictPort --port",
    },
    Site {
        name: "template of a manual",
        sources: &[],
        build: "mkdocs --quiet new . && mkdocs --quiet build --site-dir out",
        base: "/",
        server: "mkdocs --quiet serve --no-livereload --dev-addr 127.0.0.1:",
    },
    Site {
        name: "manual with files below a base path",
        sources: MANUAL,
        build: "mkdocs --quiet build --site-dir out",
        base: "/manual/",
        server: "mkdocs --quiet serve --no-livereload --dev-addr 127.0.0.1:",
    },
    Site {
        name: "template of a reference",
        sources: &[],
        build: "sphinx-quickstart --quiet --project Boats --author Skipper . && sphinx-build -q . out",
        base: "/",
        server: FILES,
    },
];

#[test]
#[ignore = "installs generators with npm and pip"]
fn drafts_are_right_as_they_stand() {
    let place = TempDir::new().unwrap();
    let mut install = Command::new("npm");
    install.args(["install", "--no-audit", "--no-fund", "--silent", "--prefix"]).arg(place.path());
    assert!(install.args(TOOLS).status().unwrap().success());
    let python = place.path().join("python");
    let made = Command::new("python3").args(["-m", "venv"]).arg(&python).status().unwrap();
    assert!(made.success());
    let mut install = Command::new(python.join("bin/pip"));
    assert!(install.args(["install", "--quiet"]).args(OTHER_TOOLS).status().unwrap().success());
    let path = format!(
        "{}:{}:{}",
        place.path().join("node_modules/.bin").display(),
        python.join("bin").display(),
        std::env::var("PATH").unwrap_or_default()
    );
    let mut asked = Vec::new();
    for (number, site) in SITES.iter().enumerate() {
        let folder = place.path().join(format!("site-{number}"));
        fs::create_dir(&folder).unwrap();
        for (file, text) in site.sources {
            let file = folder.join(file);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        }
        let shell = |command: &str| {
            let mut shell = Command::new("sh");
            shell.args(["-c", command]).current_dir(&folder).env("PATH", &path);
            shell.env("ASTRO_TELEMETRY_DISABLED", "1");
            shell
        };
        let built = shell(site.build).output().unwrap();
        assert!(
            built.status.success(),
            "{}: {}",
            site.name,
            String::from_utf8_lossy(&built.stderr)
        );
        // Links of notes know no base path, and that is said.
        if site.name.starts_with("notes below") {
            let (status, _, errors) =
                run(&folder, &["draft", "out", "--at", "https://h.example/notes/"], "");
            assert_eq!(status, 2);
            assert!(errors.contains("the build was made for another base path"), "{errors}");
            continue;
        }
        is_right(site, &folder);
        if !site.server.is_empty() {
            let port = free_port();
            let is_glued = site.server.ends_with(':');
            let space = if is_glued { "" } else { " " };
            let command = shell(&format!("exec {}{space}{port}", site.server));
            let counts = is_as_served(site, &folder, command, port);
            asked.push(counts);
        }
    }
    let [urls, otherwise, variants] =
        [0, 1, 2].map(|at| asked.iter().map(|counts: &[usize; 3]| counts[at]).sum::<usize>());
    println!("{urls} URLs, {otherwise} otherwise, and {variants} of other forms: {asked:?}");
    assert!(urls > 150 && otherwise == 0 && variants * 50 <= urls, "{asked:?}");
}

/// The title of a page; of anything else, nothing.
fn title(bytes: &[u8]) -> Option<String> {
    let page = String::from_utf8_lossy(bytes);
    page.split_once("<title>")?.1.split_once("</title>").map(|(title, _)| title.to_owned())
}

/// Files that are for nobody, and are not answered.
fn is_hidden(name: &str) -> bool {
    name.split('/').any(|segment| segment.starts_with('.'))
}

fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Every URL that the tool's own server answers with 200 is answered with the same file: files,
/// pages in each form, deep links of apps. How many were asked, and are otherwise; the same of forms
/// that the build does not have.
fn is_as_served(site: &Site, folder: &Path, mut server: Command, port: u16) -> [usize; 3] {
    // Of a group of its own: what starts a server may be ended without it.
    server.process_group(0).stdout(Stdio::null()).stderr(Stdio::null());
    let mut server = server.spawn().unwrap();
    let (ports, answers) = (format!("http://127.0.0.1:{port}{}", site.base), folder.join("answer"));
    let get = |path: &str| {
        let mut curl = Command::new("curl");
        curl.args(["--silent", "--max-time", "20", "--write-out", "%{http_code}", "--output"]);
        let told = curl.arg(&answers).arg(format!("{ports}{path}")).output().unwrap();
        (String::from_utf8(told.stdout).unwrap(), fs::read(&answers).unwrap_or_default())
    };
    let start = Instant::now();
    while get("").0 == "000" {
        assert!(start.elapsed() < Duration::from_secs(60), "{}: no server", site.name);
        std::thread::sleep(Duration::from_millis(100));
    }
    let files = crate::common::contents(&folder.join("out"));
    let mut paths = BTreeSet::from(["some/page".to_owned()]);
    // What other servers answer too, though nothing refers to it.
    let mut variants = BTreeSet::new();
    for name in files.keys().filter(|name| !is_hidden(name)) {
        paths.insert(name.clone());
        if let Some(stem) = name.strip_suffix(".html") {
            let folder = stem.strip_suffix("index").unwrap_or(stem);
            if folder != stem {
                paths.insert(folder.to_owned());
            }
            // A 404 page is not one to ask for.
            variants.extend((stem != "404").then(|| folder.trim_end_matches('/').to_owned()));
        }
    }
    let is_needed = |path: &String| paths.contains(path);
    let paths: BTreeSet<&String> = paths.union(&variants).collect();
    let asked: String = paths.iter().map(|path| format!("/{path}\n")).collect();
    let (_, explained, _) = run(folder, &["explain", "-", "--json"], &asked);
    let mut counts = [0; 3];
    for (path, explained) in paths.iter().zip(explained.lines()) {
        let (status, body) = get(path);
        // A page of another that only leads on is no answer.
        if status != "200" {
            continue;
        }
        let explained: Value = serde_json::from_str(explained).unwrap();
        let file = explained["ends"]["file"].as_str().unwrap_or_default();
        // One that builds for itself has other dates, and its own host.
        let builds = site.server.starts_with("mkdocs");
        let built = files.get(file).map_or(&[][..], Vec::as_slice);
        let is_alike =
            built == body || builds && (title(built) == title(&body) && !built.is_empty());
        let is_same = explained["ends"]["status"] == 200 && is_alike;
        counts[0] += 1;
        if !is_same {
            counts[1 + usize::from(!is_needed(path))] += 1;
            println!("{}: /{path} is {}", site.name, explained["ends"]);
        }
    }
    let group = format!("-{}", server.id());
    assert!(Command::new("kill").args(["-9", "--", &group]).status().unwrap().success());
    server.wait().unwrap();
    counts
}

fn is_right(site: &Site, folder: &Path) {
    let Site { name, base, .. } = site;
    let at = format!("https://h.example{base}");
    let (status, _, errors) =
        run(folder, &["draft", "out", "--at", &at, "--write", "edge.ravel"], "");
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
    let files: Vec<String> = crate::common::contents(&folder.join("out"))
        .into_keys()
        .filter(|name| !is_hidden(name))
        .collect();
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
