//! What the published module costs under Node: its size, loading it, and one decision beside a look-up of the same paths in a `Map`.
//!
//! `cargo bench -p ravel --bench module`; it needs Node.

use std::fs;
use std::process::Command;

use ravel::{Edge, FileList, Rules, publish};

const RULES: usize = 10_000;

/// Times loading in a fresh process, then decisions: half of them redirects, half files.
const SCRIPT: &str = r#"
const start = performance.now();
const { decide } = await import("./edge.mjs");
const load = performance.now() - start;
const paths = [];
for (let at = 0; at < 10000; at += 1) paths.push(at % 2 ? `/old/section-${at % 97}/page-${at}.html` : `/new/page-${at % 100}`);
const map = new Map(paths.map((path) => [path, path.length]));
const ask = (path) => decide({ method: "GET", scheme: "https", host: "harbour.example", target: path, headers: [] }).status;
let seen = 0;
const time = (each) => {
  const begun = performance.now();
  for (let round = 0; round < 20; round += 1) for (const path of paths) seen += each(path);
  return ((performance.now() - begun) * 1000) / (20 * paths.length);
};
time(ask);
const [decision, lookup] = [time(ask), time((path) => map.get(path))];
console.log([load, decision, decision / lookup, seen > 0].join(" "));
"#;

fn main() {
    let mut rules = String::from("site https://harbour.example/\n  alias www.harbour.example\nredirect permanent\n");
    for number in 0..RULES {
        rules.push_str(&format!("  /old/section-{}/page-{number}.html -> /new/page-{}\n", number % 97, number % 100));
    }
    rules.push_str("redirect /news{/story*} -> https://journal.example{/story*}\nheaders {/any*} on all\n  set x-content-type-options: nosniff\n");
    let rules = Rules::parse(&rules).expect("the rules can be read");
    let files = FileList::from_iter((0..100).map(|number| format!("new/page-{number}.html")));
    let module = publish::module(&publish::table(&Edge::new(&rules, files)));
    let folder = std::env::temp_dir().join(format!("ravel-module-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder can be made");
    fs::write(folder.join("edge.mjs"), &module).expect("the module can be written");
    let mut runs: Vec<Vec<f64>> = (0..5)
        .filter_map(|_| {
            let output = Command::new("node").args(["--input-type=module", "-e", SCRIPT]).current_dir(&folder).output().ok()?;
            let said = String::from_utf8_lossy(&output.stdout).into_owned();
            let figures: Vec<f64> = said.split(' ').filter_map(|figure| figure.trim().parse().ok()).collect();
            (figures.len() == 3).then_some(figures)
        })
        .collect();
    let _ = fs::remove_dir_all(&folder);
    if runs.is_empty() {
        println!("Node is needed, and did not run");
        return;
    }
    let mut middle = |at: usize| {
        runs.sort_by(|one, other| one[at].total_cmp(&other[at]));
        runs[runs.len() / 2][at]
    };
    println!("{RULES} redirects: {:.0} kB", module.len() as f64 / 1e3);
    println!("loading: {:.1} ms", middle(0));
    println!("a decision: {:.2} µs, {:.0} times a look-up in a Map of the same paths", middle(1), middle(2));
}
