//! What reading a large site costs: `cargo bench -p ravel-check --bench references`. CPU time of a
//! check of 10 000 pages (300 MB) beside the HTML reader alone on the same files, and of 500 pages
//! with 15 000 broken references beside the same pages with none: medians of interleaved rounds.

use std::fs;
use std::hint::black_box;
use std::path::{Path, PathBuf};
use std::time::Duration;

use cpu_time::ProcessTime;
use html5gum::Tokenizer;
use ravel::{Edge, FileList, Rules};
use ravel_check::Audit;

const ROUNDS: usize = 5;
const WORDS: [&str; 12] = [
    "lantern",
    "ferry",
    "harbour",
    "quay",
    "tide",
    "timetable",
    "island",
    "crossing",
    "deck",
    "pilot",
    "current",
    "winter",
];

/// A folder of pages, gone when it is dropped.
struct Tree {
    root: PathBuf,
    names: Vec<String>,
}

impl Tree {
    /// Pages in folders of a hundred: 90 links in the navigation, some in each paragraph, of which
    /// some are broken.
    fn new(name: &str, pages: usize, paragraphs: usize, broken: usize) -> Tree {
        let root = std::env::temp_dir().join(format!("ravel-{name}-{}", std::process::id()));
        let page = |number: usize| format!("docs/{}/page-{number}", number / 100);
        let mut random: u64 = 7;
        let mut word = || {
            random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            WORDS[(random >> 33) as usize % WORDS.len()]
        };
        let mut names = vec!["404.html".to_owned(), "site.css".to_owned(), "site.js".to_owned()];
        fs::create_dir_all(&root).expect("a folder for the pages");
        for name in &names {
            fs::write(root.join(name), "").expect("a file");
        }
        let nav: String = (0..90)
            .map(|one| {
                format!(
                    "<li class=\"nav\"><a href=\"/{}\">{}</a></li>\n",
                    page(one % pages),
                    word()
                )
            })
            .collect();
        for number in 0..pages {
            let mut text = format!(
                "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{number}</title>\n\
                 <link rel=\"stylesheet\" href=\"/site.css\"><script src=\"/site.js\" defer></script>\n\
                 </head><body>\n<nav><ul>\n{nav}</ul></nav><main>\n"
            );
            for paragraph in 0..paragraphs {
                let words: Vec<&str> = (0..120).map(|_| word()).collect();
                let linked = (number / 100 * 100 + (number + paragraph) % 100).min(pages - 1);
                let href = match paragraph < broken {
                    true => format!("missing-{number}-{paragraph}"),
                    false => format!("page-{linked}#p{paragraph}"),
                };
                text.push_str(&format!(
                    "<p id=\"p{paragraph}\">{} <a href=\"{href}\">{}</a> &amp; <em>{}</em></p>\n",
                    words.join(" "),
                    word(),
                    word(),
                ));
            }
            let name = format!("{}.html", page(number));
            let path = root.join(&name);
            fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
            fs::write(path, text).expect("a page");
            names.push(name);
        }
        Tree { root, names }
    }

    fn read(root: &Path, name: &str) -> std::io::Result<Vec<u8>> {
        fs::read(root.join(name))
    }

    /// The HTML reader alone.
    fn tokenize(&self) {
        for name in self.names.iter().filter(|name| name.ends_with(".html")) {
            let bytes = Tree::read(&self.root, name).expect("a page");
            let text = String::from_utf8_lossy(&bytes);
            for Ok(token) in Tokenizer::new(&*text) {
                black_box(token);
            }
        }
    }

    fn check(&self, edge: &Edge) {
        let read = |name: &str| Tree::read(&self.root, name);
        black_box(Audit::new(edge).all(read, Vec::new()));
    }

    fn edge(&self) -> Edge {
        let rules = Rules::parse("site https://h.example/\n  missing /404.html\n").expect("rules");
        Edge::new(&rules, FileList::from_iter(self.names.iter().map(String::as_str)))
    }
}

impl Drop for Tree {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.root);
    }
}

fn main() {
    // Cargo's test runner asks benches for their tests.
    if std::env::args().any(|argument| argument == "--list" || argument == "--test") {
        return;
    }
    let large = Tree::new("large", 10_000, 24, 0);
    let edge = large.edge();
    large.tokenize();
    let [check, bare] = medians([&|| large.check(&edge), &|| large.tokenize()]);
    row("check / HTML reader alone, 10000 pages", check, bare);
    println!("resident at most: {}", peak());
    drop(large);
    let broken = Tree::new("broken", 500, 30, 30);
    let whole = Tree::new("whole", 500, 30, 0);
    let (edge, other) = (broken.edge(), whole.edge());
    let [with, without] = medians([&|| broken.check(&edge), &|| whole.check(&other)]);
    row("15000 broken references on 500 pages / none", with, without);
}

/// The CPU times of two in turns: the medians.
fn medians(runs: [&dyn Fn(); 2]) -> [Duration; 2] {
    let mut times = [Vec::new(), Vec::new()];
    for _ in 0..ROUNDS {
        for (times, run) in times.iter_mut().zip(runs) {
            let start = ProcessTime::now();
            run();
            times.push(start.elapsed());
        }
    }
    times.map(|mut times| {
        times.sort();
        times[ROUNDS / 2]
    })
}

fn row(what: &str, this: Duration, that: Duration) {
    let ratio = this.as_secs_f64() / that.as_secs_f64();
    println!("{what:50} {this:>9.1?} {that:>9.1?} {ratio:>6.2}");
}

/// The most memory that the process has had, as Linux says it.
fn peak() -> String {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.map_or("not known here".to_owned(), |line| line.trim().to_owned())
}
