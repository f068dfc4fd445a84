//! What the README and the documents show is what happens.

mod common;

use std::fs;

use common::{demo, repository, run};

/// Runs every command of the `console` blocks on the demo site and compares its output.
#[test]
fn shown_commands_print_what_is_shown() {
    let demo = demo();
    let mut documents = vec![repository().join("README.md")];
    documents.extend(
        fs::read_dir(repository().join("docs")).unwrap().map(|entry| entry.unwrap().path()),
    );
    let mut shown = 0;
    for document in
        documents.iter().filter(|path| path.extension().is_some_and(|extension| extension == "md"))
    {
        let text = fs::read_to_string(document).unwrap();
        for block in blocks(&text, "console") {
            for example in block.split("$ ").skip(1) {
                let (typed, expected) = example.split_once('\n').unwrap();
                let words: Vec<&str> = typed.split(' ').collect();
                assert_eq!(words[0], "ravel", "{typed}");
                let (_, out, errors) = run(demo.path(), &words[1..], "");
                assert_eq!(
                    format!("{out}{errors}").trim_end(),
                    expected.trim_end(),
                    "{}: {typed}",
                    document.display()
                );
                shown += 1;
            }
        }
    }
    assert!(shown >= 3, "only {shown} commands were found");
}

/// Every rules file that is shown can be read.
#[test]
fn shown_rules_can_be_read() {
    for name in ["README.md", "docs/language.md"] {
        let text = fs::read_to_string(repository().join(name)).unwrap();
        let shown: Vec<&str> = blocks(&text, "ravel").collect();
        assert!(!shown.is_empty(), "{name} shows no rules");
        for block in shown {
            let rules = match block.starts_with("site ") {
                true => block.to_owned(),
                false => format!(
                    "site https://harbour.example/\n  languages en, de\n  alias www.harbour.example\n{block}"
                ),
            };
            let load = |_: &str| Ok::<_, String>(b"old,new\n/a,/b\n".to_vec());
            let load = |path: &str| {
                if path.ends_with(".csv") {
                    load(path)
                } else {
                    Ok(b"redirect /q/1 -> /a\n".to_vec())
                }
            };
            if let Err(problems) = ravel::Rules::parse_with(&rules, load) {
                panic!("{name}:\n{rules}\n{problems}");
            }
        }
    }
}

/// The known file types in the reference are those of the code.
#[test]
fn the_reference_lists_the_known_types() {
    let path = repository().join("docs/language.md");
    let text = fs::read_to_string(&path).unwrap();
    let rows: Vec<String> = ravel::files::KNOWN_TYPES
        .iter()
        .map(|(extension, mime)| format!("| `{extension}` | `{mime}` |"))
        .collect();
    let table = format!("| ending | `content-type` |\n|---|---|\n{}\n", rows.join("\n"));
    assert!(text.contains(&table), "put this into {}:\n{table}", path.display());
}

/// The tables of the reference are those of the grammar. `RAVEL_BLESS=1` writes them down.
#[test]
fn the_reference_shows_the_grammar() {
    let path = repository().join("docs/language.md");
    let mut text = fs::read_to_string(&path).unwrap();
    let bless = std::env::var_os("RAVEL_BLESS").is_some();
    for (heading, forms) in ravel::language::grammar::tables() {
        let start = text
            .find(&format!("| {heading} |"))
            .unwrap_or_else(|| panic!("no table of each {heading}"));
        let end = start + text[start..].find("\n\n").unwrap() + 1;
        let table = table(heading, forms);
        match bless {
            true => text.replace_range(start..end, &table),
            false => assert_eq!(text[start..end], table, "set RAVEL_BLESS=1 to write it down"),
        }
    }
    if bless {
        fs::write(&path, text).unwrap();
    }
}

fn table(heading: &str, forms: &[ravel::language::grammar::Form]) -> String {
    let settings = forms.iter().any(|form| form.left_out().is_some());
    let row = |cells: [&str; 3]| match settings {
        true => format!("| {} | {} | {} |\n", cells[0], cells[1], cells[2]),
        false => format!("| {} | {} |\n", cells[0], cells[1]),
    };
    let mut table = row([heading, "meaning", "when left out"])
        + if settings { "|---|---|---|\n" } else { "|---|---|\n" };
    for form in forms {
        let written = format!("`{}`", form.form().replace('|', "\\|"));
        table.push_str(&row([&written, form.about(), form.left_out().unwrap_or_default()]));
    }
    table
}

fn blocks<'t>(text: &'t str, language: &str) -> impl Iterator<Item = &'t str> {
    let open = format!("```{language}\n");
    let mut rest = text;
    std::iter::from_fn(move || {
        let start = rest.find(&open)? + open.len();
        let end = start + rest[start..].find("```")?;
        let block = &rest[start..end];
        rest = &rest[end + 3..];
        Some(block)
    })
}

/// What SECURITY.md says is tested is tested: each `file::function` is there.
#[test]
fn security_names_tests_that_are_there() {
    let text = fs::read_to_string(repository().join("SECURITY.md")).unwrap();
    let named: Vec<(&str, &str)> =
        text.split('`').filter_map(|word| word.split_once("::")).collect();
    assert!(named.len() >= 5, "{named:?}");
    for (file, function) in named {
        let source = fs::read_to_string(repository().join(file))
            .unwrap_or_else(|error| panic!("{file}: {error}"));
        assert!(source.contains(&format!("fn {function}(")), "{file} has no {function}");
    }
}
