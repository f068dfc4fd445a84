//! What documents name is there: options, kinds, forms of reports.

use std::collections::BTreeSet;
use std::fs;

use crate::common::{folder, repository, run};
use crate::documents::documents;

/// The words between backticks of a text.
fn named(text: &str) -> BTreeSet<String> {
    text.split('`').skip(1).step_by(2).map(str::to_owned).collect()
}

/// The cells of the row of a table that begins with this command.
fn row<'d>(document: &'d str, command: &str) -> &'d str {
    let head = format!("| `{command}` |");
    document.lines().find_map(|line| line.strip_prefix(&head)).unwrap_or_else(|| panic!("{head}"))
}

/// What tables name is what the command says that there is.
#[test]
fn tables_of_documents_name_what_there_is() {
    let folder = folder(&[("edge.ravel", "site https://h.example/\n")]);
    let text = fs::read_to_string(repository().join("docs/commands.md")).unwrap();
    let [fails, reports] = ["`--fail-on` says", "Its form follows"].map(|from| {
        let (_, after) = text.split_once(from).unwrap();
        after.split_once("\n\n").unwrap().1.split_once("\n\n").unwrap().0
    });
    let said = |arguments: &[&str]| {
        let (status, _, errors) = run(folder.path(), arguments, "");
        assert_eq!(status, 2, "{arguments:?}: {errors}");
        errors.lines().take(2).collect::<Vec<_>>().join(" ")
    };
    for (command, source) in [
        ("check", None),
        ("diff", Some("edge.ravel")),
        ("explain", Some("/")),
        ("tally", Some("x")),
        ("test", None),
    ] {
        let mut arguments = vec![command];
        arguments.extend(source);
        let errors = said(&[&arguments[..], &["--fail-on", "no-such"]].concat());
        let after = ["write one of ", "possible values: ", "write "];
        let list = after.iter().find_map(|head| Some(errors.split_once(head)?.1)).unwrap();
        let mut known: BTreeSet<String> =
            list.trim().trim_end_matches(']').split(", ").map(str::to_owned).collect();
        known.retain(|name| !name.contains(' '));
        let mut shown = named(row(fails, command));
        // Examples beside the names.
        shown.retain(|name| !["broken-link", "missing=0.1%", "--coverage"].contains(&&**name));
        assert!(known.is_subset(&shown), "{command}: {known:?} are not all in {shown:?}");
        shown.remove("error");
        known.remove("error");
        assert_eq!(shown, known, "{command}");
    }
    for (command, source) in
        [("check", None), ("diff", Some("edge.ravel")), ("tally", Some("x")), ("test", None)]
    {
        let mut arguments = vec![command];
        arguments.extend(source);
        let errors = said(&[&arguments[..], &["--report", "x.no-such"]].concat());
        let (_, forms) = errors.split_once("writes reports as ").unwrap();
        let endings: BTreeSet<String> =
            forms.split(", ").map(|form| form.split(' ').next().unwrap().to_owned()).collect();
        assert_eq!(named(row(reports, command)), endings, "{command}");
    }
}

/// Every option that a document shows is one of some command.
#[test]
fn options_of_documents_are_there() {
    let folder = folder(&[]);
    let commands = [
        "explain",
        "test",
        "check",
        "diff",
        "tally",
        "domain",
        "domain plan",
        "domain ask",
        "domain write",
        "serve",
        "demo",
        "build",
        "draft",
        "fmt",
    ];
    let mut known = BTreeSet::new();
    for command in commands {
        let arguments: Vec<&str> = command.split(' ').chain(["--help"]).collect();
        let (status, help, _) = run(folder.path(), &arguments, "");
        if status == 0 {
            known.extend(options(&help));
        }
    }
    assert!(known.len() > 40, "{known:?}");
    // Those of other programs that documents show.
    for other in [
        "--release",
        "--bench",
        "--locked",
        "--features",
        "--profile",
        "--path",
        "--root",
        "--test",
        "--data-binary",
        // Those of a script that counts on several machines.
        "--ravel",
        "--option",
        "--part",
    ] {
        known.insert(other.to_owned());
    }
    let mut unknown = Vec::new();
    // What changed names options that are no more.
    for path in documents().filter(|path| !path.ends_with("CHANGELOG.md")) {
        let text = fs::read_to_string(&path).unwrap();
        let lines = text.lines().filter(|line| line.contains("ravel ") || line.contains("`--"));
        for line in lines {
            unknown.extend(
                options(line)
                    .filter(|option| !known.contains(option))
                    .map(|option| format!("{option}: {line}")),
            );
        }
    }
    assert!(unknown.is_empty(), "{unknown:#?}");
}

/// The long options of a text.
fn options(text: &str) -> impl Iterator<Item = String> {
    let starts = text.match_indices("--").filter(|(at, _)| !text[..*at].ends_with(['-', '|', ':']));
    starts.filter_map(|(at, _)| {
        let name = text[at + 2..].split(|c: char| !c.is_ascii_lowercase() && c != '-').next()?;
        (name.len() > 1).then(|| format!("--{name}"))
    })
}
