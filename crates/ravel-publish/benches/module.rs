//! What the published module costs under Node: its size, loading it, and its answers beside what
//! any server does with a URL.
//!
//! `cargo bench -p ravel-publish --bench module`; it needs Node.

use std::fs;
use std::path::Path;
use std::process::Command;

use ravel::{Edge, FileList, Rules};
use ravel_publish as publish;

/// What is measured, in CPU time, taking turns: importing beside `JSON.parse` of the same bytes, and
/// answers of three kinds beside one `new URL` and one look-up of the path in a `Map`.
const SCRIPT: &str = r#"
import { readFileSync } from "node:fs";
const cpu = () => { const { user, system } = process.cpuUsage(); return user + system; };
const median = (times) => times.sort((a, b) => a - b)[times.length >> 1];
const text = readFileSync("edge.mjs", "utf8");
const bytes = eval(text.slice(text.lastIndexOf("JSON.parse(") + 11, text.lastIndexOf("))")));
// Both are done once in a process that lives on; the first of each is not counted.
const parse = () => { const begun = cpu(); JSON.parse(bytes); return cpu() - begun; };
const load = async (turn) => { const begun = cpu(); await import(`./edge.mjs?${turn}`); return cpu() - begun; };
const [parsed, loaded] = [[], []];
for (let turn = 0; turn < 9; turn += 1) parsed.push(parse()), loaded.push(await load(turn));
const { decide } = await import("./edge.mjs");
const RULES = COUNT;
const page = (at) => `/old/section-${at % 97}/page-${at}.html`;
const known = new Map(Array.from({ length: RULES }, (_, at) => [page(at), at]));
const kinds = [(at) => page((at * 7919) % RULES), (at) => `/new/page-${at % 100}`, (at) => `/gone/page-${at}`];
let seen = 0;
const time = (each, paths) => {
  const begun = cpu();
  for (let round = 0; round < 10; round += 1) for (const path of paths) seen += each(path);
  return (cpu() - begun) / (10 * paths.length);
};
const ask = (path) => decide({ method: "GET", scheme: "https", host: "harbour.example", target: path, headers: [] }).status;
const bare = (path) => known.get(new URL(`https://harbour.example${path}`).pathname) ?? 1;
const rows = kinds.map((path) => {
  const paths = Array.from({ length: 1000 }, (_, at) => path(at));
  const [ours, theirs] = [[], []];
  for (let turn = 0; turn < 33; turn += 1) {
    const pair = [time(ask, paths), time(bare, paths)];
    if (turn >= 4) ours.push(pair[0]), theirs.push(pair[1]);
  }
  return [median(ours), median(theirs)];
});
console.log([median(loaded), median(parsed), ...rows.flat()].join(" "), seen > 0 ? "" : "nothing");
"#;

/// Times decisions of two modules in turn, the one with few rules and the one with many.
const TURNS: &str = r#"
const few = await import("./few.mjs");
const many = await import("./many.mjs");
const [some, others] = [PATHS(100), PATHS(MANY)];
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
console.log([median(one), median(other)].join(" "));
"#;

/// Two hundred paths out of so many rules; a redirect is made ready when it is first met.
const REDIRECTS: &str = "((rules) => Array.from({ length: 200 }, (_, at) => Math.floor((at * rules) / 200)).flatMap((page) => \
    [`/old/section-${page % 97}/page-${page}.html`, `/new/page-${page % 100}`, `/none/page-${page}`]))";
const PATTERNS: &str = "((patterns) => Array.from({ length: 200 }, (_, at) => Math.floor((at * patterns) / 200)).flatMap((page) => \
    [`/docs/page-${page}/x/y`, `/docs/en/page-${page}`, `/docs/none-${page}/x`]))";

/// The text of so many redirects, of about 55 bytes each.
fn redirects(count: usize) -> String {
    let line = |number| {
        let section = number % 97;
        format!("  /old/section-{section}/page-{number}.html -> /new/page-{}\n", number % 100)
    };
    (0..count).map(line).collect()
}

fn patterns(count: usize) -> String {
    let below = (0..count).map(|n| format!("  /docs/page-{n}{{/rest*}} -> /new/{n}{{/rest*}}\n"));
    let beside = (0..count).map(|n| format!("  /docs/{{lang}}/page-{n} -> /new/{{lang}}/{n}\n"));
    below.chain(beside).collect()
}

fn module(rules: &str) -> String {
    let rules = format!("site https://harbour.example/\nredirect permanent\n{rules}");
    let rules = Rules::parse(&rules).expect("the rules can be read");
    let files = FileList::from_iter((0..100).map(|number| format!("new/page-{number}.html")));
    publish::module(&publish::table(&Edge::new(&rules, files)))
}

/// Writes modules, runs a script beside them, and reads the figures that it prints.
fn run(modules: &[(&str, &str)], script: &str) -> Vec<f64> {
    let folder = std::env::temp_dir().join(format!("ravel-module-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder can be made");
    for (name, text) in modules {
        fs::write(folder.join(name), text).expect("the module can be written");
    }
    let said = node(&folder, script);
    let _ = fs::remove_dir_all(&folder);
    said.split(' ').filter_map(|figure| figure.trim().parse().ok()).collect()
}

fn node(folder: &Path, script: &str) -> String {
    let arguments = ["--input-type=module", "-e", script];
    let output = Command::new("node").args(arguments).current_dir(folder).output();
    let output = output.expect("Node is needed");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn row(what: &str, this: f64, that: f64, unit: &str) {
    println!("{what:<58}{this:>9.1} {unit}{that:>9.1} {unit}{:>8.2}", this / that);
}

fn main() {
    println!("{:<58}{:>12}{:>12}{:>8}", "", "this", "that", "ratio");
    const COUNT: usize = 10_000;
    let text = redirects(COUNT);
    let published = module(&text);
    let empty = module("  /a -> /b\n");
    let kb = |bytes: usize| bytes as f64 / 1e3;
    row("module / rules, 10 000 redirects", kb(published.len()), kb(text.len()), "kB");
    row("its table alone / rules", kb(published.len() - empty.len()), kb(text.len()), "kB");
    let script = SCRIPT.replace("COUNT", &COUNT.to_string());
    let figures = run(&[("edge.mjs", &published)], &script);
    let names = [
        "import / JSON.parse of its table",
        "a redirect / new URL and a Map look-up",
        "a file / the same",
        "a miss / the same",
    ];
    for (name, pair) in names.iter().zip(figures.chunks(2)) {
        row(name, pair[0], pair[1], "µs");
    }
    for (what, paths, rules, many) in [
        (
            "among 100 000 redirects / among 100",
            REDIRECTS,
            redirects as fn(usize) -> String,
            100_000,
        ),
        ("among 2 × 10 000 patterns / among 2 × 100", PATTERNS, patterns, COUNT),
    ] {
        let (few, most) = (module(&rules(100)), module(&rules(many)));
        let script = TURNS.replace("PATHS", paths).replace("MANY", &many.to_string());
        let figures = run(&[("few.mjs", &few), ("many.mjs", &most)], &script);
        row(what, figures[1], figures[0], "µs");
    }
}
