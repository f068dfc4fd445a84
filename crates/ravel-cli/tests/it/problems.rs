//! The catalogue of problems in docs/problems.md: each wrong file says what is shown, and each
//! fixed file can be read.
//!
//! `RAVEL_BLESS=1 cargo test -p ravel-cli --test it problems::` writes the messages of now.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use crate::catalogue::{block, compare};
use ravel::Rules;

/// Problems that would take too long to show.
const NOT_SHOWN: [&str; 2] = ["TooManyNames", "TooManyFiles"];

fn load(name: &str) -> Result<Vec<u8>, &'static str> {
    Ok(match name {
        "moved.csv" => b"old,new\n/a,/b\n".to_vec(),
        "latin.csv" => b"old,new\n/caf\xe9,/b\n".to_vec(),
        "from-to.csv" => b"from,to\n/a,/b\n".to_vec(),
        "comma.csv" => b"old,new\n/a, b,/c\n".to_vec(),
        "links.ravel" => b"redirect /q/1 -> /a\n".to_vec(),
        "semicolons.csv" => b"old;new\n/a;/b\n".to_vec(),
        "loop.ravel" => b"include loop.ravel\n".to_vec(),
        // Each includes the next one.
        name if name.starts_with("deep-") => {
            let number: u64 = name[5..].trim_end_matches(".ravel").parse().unwrap();
            match number {
                100.. => b"gone /old\n".to_vec(),
                _ => format!("include deep-{}.ravel\n", number + 1).into_bytes(),
            }
        }
        _ => return Err("there is no such file"),
    })
}

#[test]
fn the_catalogue_is_what_happens() {
    let mut seen = BTreeSet::new();
    compare("problems.md", |name, section| {
        let problems =
            Rules::parse_with(block(section, "wrong").unwrap(), load).expect_err(section);
        let kinds: Vec<String> =
            problems.iter().map(|problem| variant(&format!("{:?}", problem.kind()))).collect();
        assert!(kinds.iter().any(|kind| kind == name), "{name}: {kinds:?}\n{problems}");
        seen.extend(kinds);
        let fixed = block(section, "fixed").expect(section);
        if let Err(problems) = Rules::parse_with(fixed, load) {
            panic!("{name} is not fixed:\n{fixed}{problems}");
        }
        format!("{problems}\n")
    });
    let all = variants("../ravel/src/language/problem.rs", "pub enum ProblemKind {")
        .chain(variants("../ravel/src/template/error.rs", "pub enum TemplateErrorKind {"));
    let missing: Vec<String> = all
        .filter(|name| {
            !name.starts_with("Template")
                && !seen.contains(name)
                && !NOT_SHOWN.contains(&name.as_str())
        })
        .collect();
    assert!(missing.is_empty(), "the catalogue lacks {missing:?}");
}

/// The innermost name of a problem: that of a pattern's error where there is one.
fn variant(debug: &str) -> String {
    let inner = debug.strip_prefix("Template(").unwrap_or(debug);
    inner.chars().take_while(char::is_ascii_alphanumeric).collect()
}

/// The names of an enum's variants, out of its source.
fn variants(file: &str, opening: &str) -> impl Iterator<Item = String> {
    let text = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join(file)).unwrap();
    let body = &text[text.find(opening).unwrap() + opening.len()..];
    let body = body[..body.find("\n}").unwrap()].to_owned();
    let names: Vec<String> = body
        .lines()
        .filter_map(|line| {
            line.strip_prefix("    ").filter(|line| line.starts_with(char::is_uppercase))
        })
        .map(variant)
        .collect();
    assert!(names.len() > 15, "{file}");
    names.into_iter()
}
