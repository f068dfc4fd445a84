//! Documentation of two versions, from a registry: where its pages went is computed from what the
//! draft does not look at, and held against what it drafts.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::Path;

use crate::common::{contents, fetch, run};
use serde_json::Value;
use tempfile::TempDir;

/// Pages by the name of their file.
type Pages = BTreeMap<String, String>;

/// Where pages went: names of old files, and of new ones.
type Truth = BTreeMap<String, String>;

/// Rules lead to the right page, or not, or it is not known; the same of comments.
#[derive(Debug, Default)]
struct Counts {
    right: usize,
    wrong: Vec<String>,
    unknown: usize,
    hinted: usize,
    lost: Vec<String>,
}

#[test]
#[ignore = "fetches packages with npm"]
fn pages_of_manuals_go_where_the_same_command_is() {
    let counts = measured(
        ("npm@5.10.0", "package/html/doc"),
        ("npm@8.19.4", "package/docs/output"),
        same_names,
    );
    is_good(&counts);
    assert!(counts.right > 60, "{counts:#?}");
}

#[test]
#[ignore = "fetches packages with npm"]
fn pages_of_examples_go_where_the_same_source_is() {
    let counts = measured(("vis@3.12.0", "package"), ("vis@4.21.0", "package"), same_sources);
    is_good(&counts);
    assert!(counts.right > 45, "{counts:#?}");
}

/// At least 95 % of the pages that have a counterpart get it; at most 2 % of the rules are wrong.
fn is_good(counts: &Counts) {
    let found = counts.right + counts.hinted;
    let all = found + counts.wrong.len() + counts.lost.len();
    assert!(found * 100 >= all * 95, "{counts:#?}");
    assert!(counts.wrong.len() * 50 <= counts.right + counts.wrong.len(), "{counts:#?}");
    println!("{found} of {all}: {counts:?}");
}

/// Manual pages have the name of what they are about, in a folder for each part of the manual.
fn same_names(old: &Pages, new: &Pages) -> Truth {
    const PARTS: [(&str, &str); 3] =
        [("cli", "commands"), ("files", "configuring-npm"), ("misc", "using-npm")];
    let moved = |name: &String| {
        let (folder, file) = name.strip_suffix(".html")?.split_once('/')?;
        let (_, part) = PARTS.iter().find(|(old, _)| *old == folder)?;
        let file = file.replace('.', "-");
        let names = [&*file, file.strip_prefix("npm-").unwrap_or(&file)];
        let to = names.map(|name| format!("{part}/{name}.html"));
        Some((name.clone(), to.into_iter().find(|to| new.contains_key(to))?))
    };
    old.keys().filter_map(moved).collect()
}

/// Examples are the same program: the lines of their source, scripts and all, that few others have.
fn same_sources(old: &Pages, new: &Pages) -> Truth {
    let [old, new] = [old, new].map(rare_lines);
    let moved = |(name, own): (&String, &BTreeSet<String>)| {
        let mut alike: Vec<(usize, &String)> = new
            .iter()
            .map(|(name, lines)| {
                let shared = own.intersection(lines).count();
                (200 * shared / (own.len() + lines.len()).max(1), name)
            })
            .collect();
        alike.sort_unstable_by(|a, b| b.cmp(a));
        let [(most, to), (next, _), ..] = alike[..] else { return None };
        (most >= 40 && most - next >= 15).then(|| (name.clone(), to.clone()))
    };
    old.iter().filter_map(moved).collect()
}

fn rare_lines(pages: &Pages) -> BTreeMap<String, BTreeSet<String>> {
    let lines = |text: &str| -> BTreeSet<String> {
        let words = text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "));
        words.filter(|line| line.len() > 3).collect()
    };
    let all: BTreeMap<String, BTreeSet<String>> =
        pages.iter().map(|(name, text)| (name.clone(), lines(text))).collect();
    let mut counts: HashMap<&String, usize> = HashMap::new();
    all.values().flatten().for_each(|line| *counts.entry(line).or_default() += 1);
    let most = (pages.len() / 20).max(3);
    let rare = |lines: &BTreeSet<String>| {
        lines.iter().filter(|line| counts[line] <= most).cloned().collect()
    };
    all.iter().map(|(name, lines)| (name.clone(), rare(lines))).collect()
}

fn measured(old: (&str, &str), new: (&str, &str), truth: fn(&Pages, &Pages) -> Truth) -> Counts {
    let site = TempDir::new().unwrap();
    let place = site.path();
    let folders = [old, new].map(|(package, folder)| {
        fs::create_dir(place.join(package)).unwrap();
        fetch(package, &place.join(package));
        format!("{package}/{folder}")
    });
    let pages = folders.each_ref().map(|folder| pages(&place.join(folder)));
    let truth = truth(&pages[0], &pages[1]);
    let at = ["--at", "https://h.example/"];
    let draft = |folder: &str, more: &[&str]| {
        let (status, out, errors) = run(place, &[&["draft", folder], &at[..], more].concat(), "");
        assert_eq!((status, errors.as_str()), (0, ""));
        out
    };
    draft(&folders[0], &["--write", "old.ravel"]);
    let from_old = ["--old-files", &folders[0]];
    draft(&folders[1], &[&from_old[..], &["--write", "new.ravel"]].concat());
    let moves = draft(&folders[1], &[&from_old[..], &["--moves"]].concat());
    let hints: BTreeMap<&str, &str> = moves
        .lines()
        .filter_map(|line| line.strip_prefix("# redirect ")?.split_once(" -> "))
        .map(|(from, to)| (from, to.split(' ').next().unwrap()))
        .collect();
    let names: Vec<&String> = pages[0].keys().collect();
    // Old pages by the URL that they had.
    let by_file: Vec<String> = names.iter().map(|name| format!("/{name}")).collect();
    let had = asked(place, "old.ravel", &by_file);
    let had: Vec<&str> =
        had.iter().map(|answer| answer["ends"]["url"].as_str().unwrap()).map(path).collect();
    let now = asked(place, "new.ravel", &had);
    let mut counts = Counts::default();
    for ((name, url), answer) in names.iter().zip(&had).zip(&now) {
        let (ends, hops) = (&answer["ends"], answer["hops"].as_u64().unwrap());
        let wanted = truth.get(*name);
        if ends["outcome"] == "file" {
            let file = ends["file"].as_str().unwrap();
            match wanted {
                // What still is a page of its own has not moved.
                _ if hops == 0 || *name == file => {}
                None => counts.unknown += 1,
                Some(wanted) if wanted == file => counts.right += 1,
                Some(wanted) => counts.wrong.push(format!("{url} to {file}, not {wanted}")),
            }
        } else {
            assert_eq!((&ends["outcome"], hops), (&"missing".into(), 0), "{url}");
            let Some(wanted) = wanted else { continue };
            let hint = hints.get(url).map(|to| asked(place, "new.ravel", &[*to]));
            match hint.as_deref() {
                Some([there]) if there["ends"]["file"] == **wanted => counts.hinted += 1,
                _ => counts.lost.push(format!("{url} to {:?}, not {wanted}", hints.get(url))),
            }
        }
    }
    ends_well(place);
    counts
}

/// Whatever is written as a rule is well: expectations hold, and no redirect has a finding.
fn ends_well(place: &Path) {
    let (_, out, _) = run(place, &["--rules", "new.ravel", "test"], "");
    assert!(out.contains("expectations hold"), "{out}");
    let wrong = "redirect-to-missing,redirect-loop,redirect-chain,unreachable-rule";
    let arguments = ["--rules", "new.ravel", "check", "--json", "--only", wrong];
    let (_, found, _) = run(place, &arguments, "");
    let found: Value = serde_json::from_str(&found).unwrap();
    assert_eq!(found["findings"].as_array().unwrap().len(), 0, "{found}");
}

fn asked(place: &Path, rules: &str, urls: &[impl AsRef<str>]) -> Vec<Value> {
    let list: String = urls.iter().map(|url| format!("{}\n", url.as_ref())).collect();
    let (_, out, errors) = run(place, &["--rules", rules, "explain", "-", "--json"], &list);
    assert_eq!(errors, "");
    out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn path(url: &str) -> &str {
    url.strip_prefix("https://h.example").unwrap()
}

fn pages(folder: &Path) -> Pages {
    let files = contents(folder).into_iter().filter(|(name, _)| name.ends_with(".html"));
    files.map(|(name, bytes)| (name, String::from_utf8_lossy(&bytes).into_owned())).collect()
}
