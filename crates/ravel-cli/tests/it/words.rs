//! One idea has one word: the phrases and the names that are not used, in what the repository holds.

use std::fs;
use std::path::{Path, PathBuf};

use regex_automata::dfa::regex::Regex;
use regex_automata::util::syntax;

/// A pattern, and what to write instead.
const PHRASES: &[(&str, &str)] = &[
    (r"\bcan not\b", "cannot"),
    (
        r"\b(is|are) no (name|value|host|address|place|path|port|header|setting|list|whole|method|URL|URLs|file|type)\b",
        "is not a valid …",
    ),
    (
        r"\b(no|short|long|old|lower(ed)?|same) li(fe|ves)\b|\b(the|its|a) life\b",
        "TTL, max-age or lifetime",
    ),
    (r"\bways?\s+in\b", "entry point"),
    (
        r"\b(goes|go|leads?|and) round\b|\bcirc(?:le) (is|of|that|with)\b|\bcirc(?:les)\b",
        "redirect loop",
    ),
    (r"\bnever acts?\b|\bstands already\b", "unreachable, duplicate"),
    (r"\bpieces? of advice\b", "warning"),
    (r"\bmend(ed|s)?\b", "fix"),
    (r"\bnot decided\b", "undecided"),
    (
        r"\bwhat (stands|is missing|came|is got|is\s+said)\b|\bof nobody\b|\b(is|are) sought\b",
        "say it plainly",
    ),
    (r"\bmade to hurt\b|\btakes? turns?\b", "median, worst case, interleaved"),
];

/// Names in code, by the same.
const NAMES: &[(&str, &str)] = &[
    (r"\bconst (MOST|LONGEST|WIDEST|LARGEST|USUAL)_?[A-Z_]*:", "MAX_…, with its unit"),
    (
        r"\b(enum|struct|trait) (Asked|By|Came|Course|End|Ended|Ends|Found|From|Held|Is|Left|Looking|On|Reach|Said|Seen|Then|Wanted|Way|Within)\b",
        "a noun that says what a value is",
    ),
];

/// Texts of ours, from the root of the repository; what is made up for a test is not.
fn texts(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let known = [".rs", ".md", ".mjs", ".js", ".ts", ".ravel"];
        let other = ["target", "dist", "fixtures", "artifacts", "corpus", "words.rs"];
        if name.starts_with('.') || other.contains(&&*name) || path.is_symlink() {
            continue;
        }
        if path.is_dir() {
            texts(&path, out);
        } else if known.iter().any(|end| name.ends_with(end)) {
            out.push(path);
        }
    }
}

#[test]
fn one_idea_has_one_word() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files = Vec::new();
    texts(&root, &mut files);
    assert!(files.len() > 150, "only {} texts were found", files.len());
    let phrases = PHRASES.iter().map(|(pattern, better)| (format!("(?i){pattern}"), *better));
    let names = NAMES.iter().map(|(pattern, better)| ((*pattern).to_owned(), *better));
    let rules: Vec<(Regex, &str)> = phrases
        .chain(names)
        .map(|(pattern, better)| {
            let syntax = syntax::Config::new().unicode(false).utf8(false);
            (Regex::builder().syntax(syntax).build(&pattern).unwrap(), better)
        })
        .collect();
    let mut found = String::new();
    for file in files {
        let text = fs::read_to_string(&file).unwrap();
        for (number, line) in text.lines().enumerate() {
            for (rule, better) in &rules {
                if let Some(at) = rule.find(line.as_bytes()) {
                    let place = file.strip_prefix(&root).unwrap().display();
                    let phrase = &line[at.range()];
                    found += &format!("{place}:{}: `{phrase}`; write {better}\n", number + 1);
                }
            }
        }
    }
    assert!(found.is_empty(), "{found}");
}
