//! The commands, run as a user runs them.

use std::fs;
use std::process::Stdio;

use crate::common::{demo, folder, ravel, run};
use serde_json::{Value, json};

#[test]
fn explain_prints_the_shape_for_programs() {
    let demo = demo();
    let addresses = "http://www.lanternferries.example/summer\n\n/book/seat/14A\n/api/x\n/news/x\nhttps://x.example/\n";
    let (status, out, errors) = run(demo.path(), &["explain", "-", "--json"], addresses);
    assert_eq!((status, errors.as_str()), (0, ""));
    let lines: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 5);
    let summer = &lines[0];
    assert_eq!(
        summer["request"],
        json!({"method": "GET", "url": "http://www.lanternferries.example/summer"})
    );
    assert_eq!(summer["hops"], 1);
    let first = &summer["answers"][0];
    assert_eq!(
        (&first["outcome"], &first["status"], &first["file"]),
        (&json!("redirect"), &json!(302), &Value::Null)
    );
    assert_eq!(first["location"], "https://lanternferries.example/offers/summer-2027/");
    assert_eq!(
        first["headers"][0],
        json!({"name": "location", "value": first["location"], "source": "edge.ravel", "line": 17})
    );
    assert_eq!(
        first["steps"][1],
        json!({
            "step": "rule", "rule": 0, "happened": "matched", "source": "edge.ravel", "line": 17,
            "subject": "redirect /summer -> /offers/summer-2027/", "result": "matched"
        })
    );
    let set = json!({
        "name": "x-content-type-options", "change": "set", "value": "nosniff", "source": "edge.ravel", "line": 65,
        "rule": first["header_changes"][2]["rule"]
    });
    assert_eq!(first["header_changes"][2], set);
    assert!(set["rule"].is_u64());
    assert_eq!(
        summer["ends"],
        json!({"url": first["location"], "outcome": "file", "status": 200, "file": "offers/summer-2027/index.html"})
    );
    let ends: Vec<(&Value, &Value)> =
        lines.iter().map(|line| (&line["ends"]["outcome"], &line["ends"]["status"])).collect();
    let expected = [
        ("file", json!(200)),
        ("file", json!(200)),
        ("elsewhere", json!(null)),
        ("elsewhere", json!(null)),
        ("refused", json!(421)),
    ];
    for ((outcome, status), (wanted, wanted_status)) in ends.iter().zip(&expected) {
        assert_eq!((outcome.as_str().unwrap(), *status), (*wanted, wanted_status));
    }
}

/// Lines of a list may have a method and the status that is expected.
#[test]
fn lists_say_what_is_expected() {
    let demo = demo();
    let lines = "/summer 302\nHEAD /fares 301\nPOST /about 405\n/no-such-page 200\n";
    let (status, out, _) = run(demo.path(), &["explain", "-", "--brief"], lines);
    let wrong: Vec<&str> = out.lines().filter(|line| line.contains("expected")).collect();
    assert_eq!((status, wrong.len()), (1, 1), "{out}");
    assert!(wrong[0].ends_with("expected 200, got 404"), "{out}");
    let (status, _, _) =
        run(demo.path(), &["explain", "-", "--fail-on", "missing,loop"], "/about\n");
    assert_eq!(status, 0);
    let (status, _, _) = run(demo.path(), &["explain", "/none", "--fail-on", "missing"], "");
    assert_eq!(status, 1);
    let (status, _, errors) = run(demo.path(), &["explain", "-"], "/about 2000\n");
    assert!(status == 2 && errors.contains("`2000` is not a valid status"), "{errors}");
}

/// What a header replaces or drops is said beside it.
#[test]
fn headers_say_what_they_replace() {
    let rules = "site https://h.example/\n  files dist\nheaders {/any*}\n  set x-a: 1\n  set x-b: 1\n\
                 headers /\n  set x-a: 2\n  drop x-b\n";
    let folder = folder(&[("edge.ravel", rules), ("dist/index.html", "")]);
    let (_, out, _) = run(folder.path(), &["explain", "/"], "");
    assert!(out.contains("x-a: 2") && out.contains("replaces `1` of edge.ravel:4"), "{out}");
    assert!(out.contains("dropped: `1` of edge.ravel:5"), "{out}");
}

/// Nothing is wider than the terminal, but for words that are, and what is to be copied: rules,
/// records, commands.
#[test]
fn every_command_keeps_to_the_width() {
    let demo = demo();
    let asked = [
        "explain /book/seat/14A /old.php",
        "explain /moved",
        "check --notes",
        "check --why missing-slash-variant",
        "test",
        "test --coverage",
        "diff edge.ravel edge.ravel",
        "build --as module out",
        "build --as files files",
        "domain",
        "domain plan 2027-03-01T06:00:00Z",
        "tally access.log.gz --top 3",
    ];
    for (width, arguments) in [60, 80, 100].into_iter().flat_map(|w| asked.map(|one| (w, one))) {
        let mut command = ravel(demo.path());
        command.env("COLUMNS", width.to_string());
        let out = command.args(arguments.split(' ')).output().unwrap();
        let out = String::from_utf8(out.stdout).unwrap();
        assert!(!out.is_empty(), "{arguments}");
        let fits = |line: &str| {
            let words = line.trim_start();
            let indent = line.chars().count() - words.chars().count();
            let longest = words.split(' ').map(|word| word.chars().count()).max().unwrap_or(0);
            let is_example = arguments.contains("--why") && line.starts_with("    ");
            let is_record = ["    + ", "    − "].iter().any(|sign| line.starts_with(sign));
            let is_copied =
                is_example || is_record || (line.starts_with("  ") && line.contains(" -> "));
            line.chars().count() <= width || indent + longest + 2 > width || is_copied
        };
        let wide: Vec<&str> = out.lines().filter(|line| !fits(line)).collect();
        assert!(wide.is_empty(), "{arguments} at {width}: {wide:#?}");
    }
}

#[test]
fn one_address_is_one_document() {
    let demo = demo();
    let (status, out, _) = run(
        demo.path(),
        &["explain", "--json", "/moved", "--method", "HEAD", "--header", "accept: x"],
        "",
    );
    assert_eq!(status, 0);
    let document: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["request"]["method"], "HEAD");
}

#[test]
fn five_mistakes_are_five_problems_in_one_run() {
    let rules = "site https://harbour.example/\n  alais www.harbour.example\n\nredirect /blog/:slug -> /news/{slug}\n\
                 redirect /old -> /new forever\nrewrte /today -> /weekday/\nexpect /x is mising\n";
    let folder = folder(&[("edge.ravel", rules)]);
    let (status, out, errors) = run(folder.path(), &["explain", "/"], "");
    assert_eq!((status, out.as_str()), (2, ""));
    let places = [
        "edge.ravel:2:3",
        "edge.ravel:4:16",
        "edge.ravel:5:23",
        "edge.ravel:6:1",
        "edge.ravel:7:14",
    ];
    for place in places {
        assert!(errors.contains(place), "{place} is not in\n{errors}");
    }
    for words in ["did you mean `alias`?", "write `{slug}`", "did you mean `rewrite`?", "5 errors"]
    {
        assert!(errors.contains(words), "{words} is not in\n{errors}");
    }
}

#[test]
fn a_failed_expectation_shows_expected_beside_got() {
    let demo = demo();
    let rules = demo.path().join("edge.ravel");
    let text = fs::read_to_string(&rules)
        .unwrap()
        .replace("-> /offers/summer-2027/", "-> /offers/summer-2028/");
    fs::write(&rules, text).unwrap();
    let (status, out, _) = run(demo.path(), &["test"], "");
    assert_eq!(status, 1);
    assert!(out.starts_with("3 of 37 expectations failed\n"), "{out}");
    let expected = "expected goes to https://lanternferries.example/offers/summer-2027/ as 302 in 1 hop \
                    got goes to https://lanternferries.example/offers/summer-2028/ as 302 in 1 hop, which is missing (404) \
                    by edge.ravel:17";
    let words = out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(words.contains(expected), "{out}");
    assert!(out.lines().all(|line| line.chars().count() <= 100), "{out}");
    let (status, out, _) = run(demo.path(), &["test", "--json"], "");
    let report: Value = serde_json::from_str(&out).unwrap();
    assert_eq!((status, &report["expectations"], &report["failed"]), (1, &json!(37), &json!(3)));
    let failed: Vec<&Value> = report["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|verdict| verdict["holds"] == false)
        .collect();
    assert_eq!(failed[0]["decided"], json!({"source": "edge.ravel", "line": 17}));
}

#[test]
fn what_can_not_run_ends_with_2_and_says_why() {
    let site = "site https://h.example/\n  files dist\n";
    let empty = folder(&[]);
    let no_folder = folder(&[("edge.ravel", site)]);
    let latin = folder(&[("other.ravel", "x")]);
    fs::write(latin.path().join("edge.ravel"), b"site https://h.example/\n# caf\xe9\n").unwrap();
    let fine = folder(&[("edge.ravel", site), ("dist/index.html", "")]);
    let cases: &[(&tempfile::TempDir, &[&str], &str)] = &[
        (&empty, &["test"], "cannot read `edge.ravel`: no such file"),
        (&empty, &["test", "--rules", "x.ravel"], "cannot read `x.ravel`: no such file"),
        (&no_folder, &["test"], "the rules name it with `files`"),
        (&fine, &["check", "--report", "no/x.md"], "no/x.md"),
        (&latin, &["test"], "is not UTF-8 on line 2"),
        (&fine, &["explain", "harbour"], "`harbour` is not a whole URL"),
        (&fine, &["explain"], "<URL>"),
        (&fine, &["explian"], "explain"),
        (&fine, &["explain", "/", "--header", "x"], "write it as `NAME: VALUE`"),
        (&fine, &["explain", "/", "--method", "get"], "write the method in capitals"),
    ];
    for (folder, arguments, words) in cases {
        let (status, out, errors) = run(folder.path(), arguments, "");
        assert_eq!((status, out.as_str()), (2, ""), "{arguments:?}");
        assert!(errors.contains(words), "{arguments:?}: {words} is not in\n{errors}");
    }
    let (status, _, errors) = run(fine.path(), &["test"], "");
    assert!(status == 2 && errors.contains("edge.ravel has no expectation"), "{errors}");
    let (status, _, errors) = run(empty.path(), &[], "");
    assert!(status == 2 && errors.contains("ravel demo"), "{errors}");
}

#[test]
fn some_files_are_not_served() {
    let folder = folder(&[
        ("edge.ravel", "site https://h.example/\n  files .\ninclude more/links.ravel\n"),
        ("more/links.ravel", "redirect\n  table links.csv\n"),
        ("more/links.csv", "new,old\n/b,/a\n"),
        ("index.html", ""),
        (".git/config", ""),
        (".well-known/security.txt", ""),
    ]);
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink("/etc/hostname", folder.path().join("out.txt")).unwrap();
        std::os::unix::fs::symlink("index.html", folder.path().join("in.txt")).unwrap();
        std::os::unix::fs::symlink("/", folder.path().join("root")).unwrap();
        std::os::unix::fs::symlink("nowhere", folder.path().join("broken")).unwrap();
    }
    let asked = "/edge.ravel\n/more/links.ravel\n/more/links.csv\n/.git/config\n/.well-known/security.txt\n/in.txt\n/out.txt\n/root/etc/hostname\n/a\n";
    let (status, out, _) = run(folder.path(), &["explain", "-", "--brief"], asked);
    assert_eq!(status, 0);
    let served: Vec<&str> = out.lines().filter(|line| line.contains("200")).collect();
    assert_eq!(served.len(), if cfg!(unix) { 2 } else { 1 }, "{out}");
    assert!(out.contains("/a  goes to https://h.example/b in 1 hop: 404 missing"), "{out}");
}

#[test]
fn the_demo_walks_the_job() {
    let folder = folder(&[]);
    let (status, out, errors) = run(folder.path(), &["demo"], "");
    assert_eq!((status, errors.as_str()), (0, ""));
    for words in [
        "$ ravel explain --brief http://www.lanternferries.example/fleet",
        "$ ravel explain http://www.lanternferries.example/summer",
        "$ ravel explain /book/seat/14A",
        "$ ravel explain /no-such-page",
        "$ ravel test",
        "37 expectations hold",
        "8 missing",
        "$ ravel diff edge.ravel redesign-kept.ravel --only missing,loop --fail-on missing,loop",
        "$ ravel check",
        "0 errors",
    ] {
        assert!(out.contains(words), "{words} is not in\n{out}");
    }
    let (_, out, _) = run(folder.path(), &["demo", "--json"], "");
    let told: Value = serde_json::from_str(&out).unwrap();
    let steps = told["steps"].as_array().unwrap();
    assert_eq!((steps.len(), &steps[2]["results"][0]["hops"]), (13, &json!(1)));
    assert_eq!(steps[1]["results"].as_array().unwrap().len(), 4);
    let rules = folder.path().join("lantern-ferries/edge.ravel");
    fs::write(&rules, "site https://mine.example/\nexpect / is missing\n").unwrap();
    let (status, out, _) = run(folder.path(), &["demo", "test"], "");
    assert_eq!(
        (status, out.as_str()),
        (0, "1 expectation holds\n"),
        "what is there is left as it is"
    );
    let (status, _, errors) = run(folder.path(), &["demo", "demo"], "");
    assert_eq!(status, 2, "{errors}");
}

#[test]
fn fmt_changes_files_only_when_asked_to() {
    let folder = folder(&[
        ("edge.ravel", "site  https://h.example/\n files   dist\n"),
        ("good.ravel", "gone /a\n"),
        ("bad.ravel", "gone \"/a\n"),
    ]);
    let (status, out, _) = run(folder.path(), &["fmt", "--check"], "");
    assert_eq!((status, out.as_str()), (1, "edge.ravel is not formatted; run `ravel fmt`\n"));
    let (status, out, _) = run(folder.path(), &["fmt", "edge.ravel", "good.ravel"], "");
    assert_eq!((status, out.as_str()), (0, "edge.ravel\n"));
    assert_eq!(
        fs::read_to_string(folder.path().join("edge.ravel")).unwrap(),
        "site https://h.example/\n  files dist\n"
    );
    assert_eq!(run(folder.path(), &["fmt", "--check"], ""), (0, String::new(), String::new()));
    assert_eq!(run(folder.path(), &["fmt", "-"], "gone   /a # b").1, "gone /a  # b\n");
    assert_eq!(run(folder.path(), &["fmt", "-", "--check"], "gone   /a").0, 1);
    let (status, _, errors) = run(folder.path(), &["fmt", "bad.ravel"], "");
    assert_eq!((status, errors.contains("bad.ravel:1:6")), (2, true), "{errors}");
    let names: Vec<_> =
        fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(names.len(), 3, "nothing is left beside: {names:?}");
    let demo = demo();
    assert_eq!(run(demo.path(), &["fmt", "--check", "edge.ravel", "short-links.ravel"], "").0, 0);
}

/// Places are named from the current folder, as editors, terminals and checks need them.
#[test]
fn places_are_seen_from_the_current_folder() {
    let site = folder(&[
        (
            "docs/edge.ravel",
            "site https://h.example/\n  files dist\ninclude more/a.ravel\nexpect / is gone\nredirect /x -> /nowhere\n",
        ),
        ("docs/more/a.ravel", "include ../b.ravel\nredirect\n  table t.csv\n"),
        ("docs/b.ravel", "redirect /b -> /\n"),
        ("docs/more/t.csv", "old,new\n/t,/\n"),
        ("docs/dist/index.html", "<a href=/broken>x</a>\n"),
    ]);
    let report = |name: &str| fs::read_to_string(site.path().join(name)).unwrap();
    let said = |arguments: &[&str]| {
        let mut all = vec!["--rules", "docs/edge.ravel"];
        all.extend(arguments);
        let (_, said, errors) = run(site.path(), &all, "");
        format!("{said}{errors}")
    };
    for (arguments, places) in [
        (&["explain", "/b", "/t"][..], &["docs/b.ravel:1", "docs/more/t.csv:2"][..]),
        (&["test"], &["docs/edge.ravel:4"]),
        (&["test", "--json"], &["\"docs/edge.ravel\""]),
        (&["check"], &["--> docs/edge.ravel:5:1", "--> docs/dist/index.html:1:4"]),
        (&["check", "--json"], &["\"docs/edge.ravel\"", "\"docs/dist/index.html\""]),
        (&["build", "--as", "list", "out"], &["docs/edge.ravel:1"]),
    ] {
        let said = said(arguments);
        for place in places {
            assert!(said.contains(place), "{arguments:?}: {said}");
        }
        assert!(!said.contains(" edge.ravel"), "{arguments:?}: {said}");
    }
    said(&["check", "--report", "r.sarif"]);
    said(&["test", "--report", "r.xml"]);
    assert!(report("r.sarif").contains("\"docs/dist/index.html\""));
    assert!(report("r.xml").contains("docs/edge.ravel"));
}

/// Whoever reads the output may have seen enough; what was found is in the status.
#[cfg(unix)]
#[test]
fn a_closed_pipe_changes_no_status() {
    let rules: String = (0..3_000)
        .map(|number| {
            format!("redirect /a{number} -> /nowhere-{number}\nexpect /b{number} is gone\n")
        })
        .collect();
    let site = folder(&[
        ("edge.ravel", &format!("site https://h.example/\n  files dist\n{rules}")),
        ("good.ravel", "site https://h.example/\n  files dist\nexpect / serves /index.html\n"),
        ("dist/index.html", "<p>home"),
    ]);
    let status = |arguments: &[&str]| {
        let mut running =
            ravel(site.path()).args(arguments).stdout(Stdio::piped()).spawn().unwrap();
        drop(running.stdout.take());
        running.wait().unwrap().code()
    };
    let urls: Vec<String> = (0..3_000).map(|number| format!("/b{number}")).collect();
    let mut explain = vec!["explain", "--brief", "--fail-on", "missing"];
    explain.extend(urls.iter().map(String::as_str));
    for (arguments, expected) in [
        (&["test"][..], 1),
        (&["check", "--all"], 1),
        (&["diff", "good.ravel"], 1),
        (&explain, 1),
        (&["test", "--rules", "good.ravel"], 0),
        (&["fmt", "--check", "edge.ravel"], 0),
    ] {
        assert_eq!(status(arguments), Some(expected), "{:?}", &arguments[..2]);
    }
}
