//! What the published module costs under Node: its size, loading it, and one decision beside a
//! look-up of the same paths in a `Map`.
//!
//! `cargo bench -p ravel --bench module`; it needs Node.

use std::fs;
use std::process::Command;

use ravel::{Edge, FileList, Rules};
use ravel_publish as publish;

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

/// Times decisions of two modules in turn, the one with few patterns and the one with many.
const PATTERNS: &str = r#"
const few = await import("./few.mjs");
const many = await import("./many.mjs");
const paths = (patterns) => Array.from({ length: 200 }, (_, at) => Math.floor((at * patterns) / 200))
  .flatMap((page) => [`/docs/page-${page}/x/y`, `/docs/en/page-${page}`, `/docs/none-${page}/x`]);
const [some, others] = [paths(100), paths(10000)];
const time = ({ decide }, targets) => {
  const begun = process.cpuUsage();
  for (let round = 0; round < 5; round += 1)
    for (const target of targets) decide({ method: "GET", scheme: "https", host: "harbour.example", target, headers: [] });
  const { user, system } = process.cpuUsage(begun);
  return (user + system) / (5 * targets.length);
};
const [one, other] = [[], []];
for (let turn = 0; turn < 46; turn += 1) {
  const [a, b] = [time(few, some), time(many, others)];
  if (turn >= 5) one.push(a), other.push(b);
}
const median = (times) => times.sort((a, b) => a - b)[times.length >> 1];
console.log([median(one), median(other), median(other) / median(one)].join(" "));
"#;

/// A decision among very many patterns beside one among few.
fn patterns() {
    let folder = std::env::temp_dir().join(format!("ravel-patterns-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder can be made");
    for (name, count) in [("few", 100), ("many", RULES)] {
        let below = (0..count)
            .map(|number| format!("  /docs/page-{number}{{/rest*}} -> /new/{number}{{/rest*}}\n"));
        let beside = (0..count)
            .map(|number| format!("  /docs/{{lang}}/page-{number} -> /new/{{lang}}/{number}\n"));
        let rules = format!(
            "site https://harbour.example/\nredirect\n{}",
            below.chain(beside).collect::<String>()
        );
        let rules = Rules::parse(&rules).expect("the rules can be read");
        let module = publish::module(&publish::table(&Edge::new(&rules, FileList::default())));
        fs::write(folder.join(format!("{name}.mjs")), module).expect("the module can be written");
    }
    let run = Command::new("node")
        .args(["--input-type=module", "-e", PATTERNS])
        .current_dir(&folder)
        .output();
    let said =
        run.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default();
    let _ = fs::remove_dir_all(&folder);
    let figures: Vec<f64> =
        said.split(' ').filter_map(|figure| figure.trim().parse().ok()).collect();
    if let [few, many, ratio] = figures[..] {
        println!(
            "a decision among 2 × 100 patterns: {few:.1} µs; among 2 × {RULES}: {many:.1} µs, {ratio:.2} times"
        );
    }
}

fn main() {
    patterns();
    let mut rules = String::from(
        "site https://harbour.example/\n  alias www.harbour.example\nredirect permanent\n",
    );
    for number in 0..RULES {
        rules.push_str(&format!(
            "  /old/section-{}/page-{number}.html -> /new/page-{}\n",
            number % 97,
            number % 100
        ));
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
            let output = Command::new("node")
                .args(["--input-type=module", "-e", SCRIPT])
                .current_dir(&folder)
                .output()
                .ok()?;
            let said = String::from_utf8_lossy(&output.stdout).into_owned();
            let figures: Vec<f64> =
                said.split(' ').filter_map(|figure| figure.trim().parse().ok()).collect();
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
    println!(
        "a decision: {:.2} µs, {:.0} times a look-up in a Map of the same paths",
        middle(1),
        middle(2)
    );
}
