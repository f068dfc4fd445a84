//! What the README and the documents show is what happens.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::common::{demo, repository};

/// Holds the commands of the `console` blocks of a document against what they print in a folder;
/// with `RAVEL_BLESS=1` writes down what they print. Says how many there are.
fn hold_commands(document: &Path, folder: &Path) -> usize {
    let text = fs::read_to_string(document).unwrap();
    let bless = std::env::var_os("RAVEL_BLESS").is_some();
    let (mut now, mut rest, mut shown) = (String::new(), text.as_str(), 0);
    while let Some(at) = rest.find("```console\n") {
        let start = at + "```console\n".len();
        let end = start + rest[start..].find("```").unwrap();
        now.push_str(&rest[..start]);
        for example in rest[start..end].split("$ ").skip(1) {
            let typed = example.split('\n').next().unwrap();
            let printed = typed_in_shell(folder, typed);
            now.push_str(&format!("$ {typed}\n{printed}"));
            shown += 1;
        }
        rest = &rest[end..];
    }
    now.push_str(rest);
    match bless {
        true => fs::write(document, now).unwrap(),
        false => {
            assert_eq!(text, now, "{}: set RAVEL_BLESS=1 to write it down", document.display())
        }
    }
    shown
}

/// What a command prints that is typed in a shell where `ravel` is installed.
fn typed_in_shell(folder: &Path, typed: &str) -> String {
    let binary = Path::new(env!("CARGO_BIN_EXE_ravel"));
    let path = format!(
        "{}:{}",
        binary.parent().unwrap().display(),
        std::env::var("PATH").unwrap_or_default()
    );
    let output = Command::new("sh")
        .args(["-c", &format!("{typed} 2>&1")])
        .env("PATH", path)
        .env_remove("COLUMNS")
        .current_dir(folder)
        .output()
        .unwrap();
    String::from_utf8(output.stdout).unwrap()
}

/// The commands of the references print on the demo site what is shown.
#[test]
fn shown_commands_print_what_is_shown() {
    let demo = demo();
    let documents = fs::read_dir(repository().join("docs")).unwrap();
    let documents = documents.map(|entry| entry.unwrap().path()).filter(|path| is_markdown(path));
    let shown: usize = documents.map(|document| hold_commands(&document, demo.path())).sum();
    assert!(shown + hold_commands(&repository().join("README.md"), demo.path()) >= 5);
}

fn is_markdown(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension == "md")
}

/// Each task's page shows a site: its rules, its folder, other files; its commands print there what
/// is shown.
#[test]
fn tasks_are_done_as_shown() {
    let tasks = repository().join("docs/tasks");
    let mut done = 0;
    for page in fs::read_dir(tasks).unwrap().map(|entry| entry.unwrap().path()) {
        let text = fs::read_to_string(&page).unwrap();
        let site = tempfile::tempdir().unwrap();
        let write = |name: &str, content: &str| {
            let path = site.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        };
        write("edge.ravel", blocks(&text, "ravel").next().unwrap());
        for file in blocks(&text, "folder").next().unwrap().lines() {
            let (name, content) = file.split_once(' ').unwrap_or((file, ""));
            write(&format!("dist/{name}"), content);
        }
        for file in text.split("```file ").skip(1) {
            let (name, rest) = file.split_once('\n').unwrap();
            write(name, rest.split("```").next().unwrap());
        }
        assert!(hold_commands(&page, site.path()) > 0, "{} shows no command", page.display());
        done += 1;
    }
    assert!(done >= 8, "{done}");
}

/// From an empty folder with three pages to a passing test, as the README has it.
#[test]
fn the_first_hour_goes_as_shown() {
    let readme = repository().join("README.md");
    let text = fs::read_to_string(&readme).unwrap();
    let site = tempfile::tempdir().unwrap();
    fs::create_dir(site.path().join("dist")).unwrap();
    for page in ["index.html", "about.html", "404.html"] {
        fs::write(site.path().join("dist").join(page), "<!doctype html><title>Page</title>\n")
            .unwrap();
    }
    let transcript = blocks(&text, "sh-session").next().unwrap();
    let typed: Vec<&str> = transcript.lines().filter_map(|line| line.strip_prefix("$ ")).collect();
    assert!(typed.len() <= 10 && typed.last() == Some(&"ravel test"), "{typed:?}");
    let now: String = typed
        .iter()
        .map(|typed| format!("$ {typed}\n{}", typed_in_shell(site.path(), typed)))
        .collect();
    assert!(now.ends_with("$ ravel test\n1 expectation holds\n"), "{now}");
    hold_block(&readme, &text, "sh-session", &now);
    // The mistakes at the top.
    let site = tempfile::tempdir().unwrap();
    fs::write(site.path().join("edge.ravel"), blocks(&text, "ravel").next().unwrap()).unwrap();
    for page in ["index.html", "timetable/index.html", "tickets/index.html", "404.html"] {
        let path = site.path().join("dist").join(page);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "<!doctype html><title>Page</title>\n").unwrap();
    }
    let text = fs::read_to_string(&readme).unwrap();
    let now = format!("$ ravel check\n{}", typed_in_shell(site.path(), "ravel check"));
    hold_block(&readme, &text, "text", &now);
}

/// Holds the first block of a language against what it should be.
fn hold_block(document: &Path, text: &str, language: &str, now: &str) {
    let shown = blocks(text, language).next().unwrap();
    match std::env::var_os("RAVEL_BLESS").is_some() {
        true => fs::write(document, text.replacen(shown, now, 1)).unwrap(),
        false => assert_eq!(shown, now, "set RAVEL_BLESS=1 to write it down"),
    }
}

/// The documents that people read, the README among them.
pub(crate) fn documents() -> impl Iterator<Item = PathBuf> {
    let folders = ["", "docs", "docs/tasks"].map(|folder| repository().join(folder));
    let entries = folders.into_iter().flat_map(|folder| fs::read_dir(folder).unwrap());
    entries.map(|entry| entry.unwrap().path()).filter(|path| is_markdown(path))
}

/// Lines of documents can be read without scrolling; tables and what is printed are as wide as they
/// are.
#[test]
fn lines_of_documents_are_short() {
    let mut wide = Vec::new();
    for page in documents() {
        let mut is_code = false;
        for (number, line) in (1..).zip(fs::read_to_string(&page).unwrap().lines()) {
            is_code ^= line.starts_with("```");
            if !is_code && !line.starts_with('|') && line.chars().count() > 100 {
                wide.push(format!("{}:{number}", page.display()));
            }
        }
    }
    assert!(wide.is_empty(), "wider than 100 columns: {wide:#?}");
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
            let load = |path: &str| {
                Ok::<_, String>(match path {
                    "old-urls.csv" => b"url\n/a\n".to_vec(),
                    path if path.ends_with(".csv") => b"old,new\n/a,/b\n".to_vec(),
                    _ => b"redirect /q/1 -> /a\n".to_vec(),
                })
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
