//! `ravel diff`, run as a user runs it: on files and folders, and on real git repositories.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::common::{demo, folder, run};
use serde_json::Value;

const RULES: &str = "site https://h.example/\n  files dist\nredirect /old -> /new\ninclude more.ravel\nredirect permanent\n  table moved.csv\n";
const FILES: [(&str, &str); 4] = [
    ("edge.ravel", RULES),
    ("more.ravel", "redirect /more -> /new\n"),
    ("moved.csv", "old,new\n/moved,/new\n"),
    ("dist/new.html", "<p>new"),
];

/// Runs git in a folder, as somebody whose settings do not matter.
fn git(folder: &Path, arguments: &[&str]) -> String {
    let run = Command::new("git")
        .current_dir(folder)
        .args(["-c", "user.name=A", "-c", "user.email=a@h.example", "-c", "commit.gpgsign=false"])
        .args(["-c", "protocol.file.allow=always", "-c", "init.defaultBranch=main"])
        .args(arguments)
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .output()
        .expect("git runs");
    assert!(run.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&run.stderr));
    String::from_utf8(run.stdout).unwrap()
}

fn commit(folder: &Path, message: &str) {
    git(folder, &["add", "-A"]);
    git(folder, &["commit", "-q", "-m", message]);
}

/// A repository of three commits: the rules as they were, another target, another name of the file.
fn repository() -> tempfile::TempDir {
    let site = folder(&FILES);
    git(site.path(), &["init", "-q"]);
    commit(site.path(), "one");
    fs::write(site.path().join("moved.csv"), "old,new\n/moved,/\n").unwrap();
    fs::write(site.path().join("more.ravel"), "gone /more\n").unwrap();
    commit(site.path(), "two");
    git(site.path(), &["branch", "side"]);
    git(site.path(), &["mv", "edge.ravel", "rules.ravel"]);
    commit(site.path(), "three");
    site
}

/// What differs: kind and path.
fn differences(folder: &Path, arguments: &[&str]) -> (i32, Vec<String>) {
    let (status, out, errors) = run(folder, &[&["diff", "--json"], arguments].concat(), "");
    assert_eq!(errors, "", "{arguments:?}");
    let document: Value = serde_json::from_str(&out).unwrap();
    let word = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let one = |one: &Value| format!("{} {}", word(&one["kind"]), word(&one["example"]["url"]));
    (status, document["differences"].as_array().unwrap().iter().map(one).collect())
}

fn refused(folder: &Path, arguments: &[&str]) -> String {
    let (status, _, errors) = run(folder, &[&["diff"], arguments].concat(), "");
    assert_eq!(status, 2, "{arguments:?}: {errors}");
    errors
}

#[test]
fn files_and_folders_are_compared() {
    let new = folder(&FILES);
    let old = folder(&FILES);
    fs::write(old.path().join("more.ravel"), "redirect /more -> /other\n").unwrap();
    let path = old.path().to_str().unwrap();
    let expected = (1, vec!["found https://h.example/more".to_owned()]);
    assert_eq!(differences(new.path(), &[path]), expected);
    let file = format!("{path}/edge.ravel");
    assert_eq!(differences(new.path(), &[&file, "edge.ravel"]), expected);
    assert_eq!(differences(new.path(), &[".", "edge.ravel"]), (0, vec![]));
    // Only the kinds that are named count.
    let (status, found) = differences(new.path(), &[path, "--fail-on", "missing,loop"]);
    assert_eq!((status, found.len()), (0, 1));
    let (status, found) = differences(new.path(), &[path, "--only", "missing"]);
    assert_eq!((status, found.len()), (1, 0));
    assert!(
        refused(new.path(), &[path, "--only", "mising"]).contains("write one of missing, loop")
    );
    assert!(refused(new.path(), &["nowhere"]).contains("is not"));
}

#[test]
fn built_files_are_those_that_are_named() {
    let site = folder(&FILES);
    fs::write(site.path().join("list"), "new/index.html\n./a.css\n").unwrap();
    fs::create_dir(site.path().join("before")).unwrap();
    fs::write(site.path().join("before/gone.html"), "").unwrap();
    let (_, found) = differences(site.path(), &[".", "--old-files", "before"]);
    assert_eq!(found[0], "missing https://h.example/gone");
    let (_, found) = differences(site.path(), &[".", "--new-files", "list"]);
    assert!(
        found.contains(&"hops https://h.example/new".to_owned())
            || found.contains(&"target https://h.example/new".to_owned()),
        "{found:?}"
    );
}

#[test]
#[ignore = "needs git"]
fn revisions_are_read_with_their_tables_and_includes() {
    let site = repository();
    let at = site.path();
    let (status, found) = differences(at, &["main~2:edge.ravel", "rules.ravel"]);
    let kinds = ["missing https://h.example/moved", "status https://h.example/more"];
    assert_eq!((status, found), (1, kinds.map(str::to_owned).to_vec()));
    let found = kinds.map(str::to_owned).to_vec();
    assert_eq!(differences(at, &["main~2:edge.ravel", "main~1:edge.ravel"]).1, found);
    assert_eq!(differences(at, &["main~2:./edge.ravel", "side:edge.ravel"]).1, found);
    assert_eq!(differences(at, &["side:edge.ravel", "main:rules.ravel"]), (0, vec![]));
    // The rules file of the working tree is the new edition, and a revision alone is the same file.
    assert_eq!(differences(at, &["--rules", "rules.ravel", "HEAD"]), (0, vec![]));
    let errors = refused(at, &["--rules", "rules.ravel", "side"]);
    assert!(errors.contains("it has `edge.ravel`, `more.ravel`: write `side:PATH`"), "{errors}");
    fs::write(at.join("rules.ravel"), "redirct /a -> /b\n").unwrap();
    commit(at, "broken");
    let errors = refused(at, &["main:rules.ravel", "main~1:rules.ravel"]);
    assert!(errors.contains("--> main:rules.ravel:1:1"), "{errors}");
    git(at, &["checkout", "-q", "main~1", "--", "rules.ravel"]);
    // From a folder below, paths are those of the repository.
    let below = at.join("dist");
    assert_eq!(differences(&below, &["--rules", "../rules.ravel", "HEAD~1"]), (0, vec![]));
}

#[test]
#[ignore = "needs git"]
fn what_is_a_path_is_a_path() {
    let site = repository();
    let at = site.path();
    fs::write(at.join("side"), "site https://h.example/\n  files dist\n").unwrap();
    let (_, found) = differences(at, &["side", "rules.ravel"]);
    assert_eq!(found.len(), 3, "{found:?}");
    assert_eq!(differences(at, &["git:side:edge.ravel", "rules.ravel"]), (0, vec![]));
    let (_, out, _) = run(at, &["diff", "git:side:edge.ravel", "rules.ravel"], "");
    assert!(out.starts_with("side:edge.ravel → rules.ravel\nno differences\n"), "{out}");
}

#[test]
#[ignore = "needs git"]
fn a_revision_without_built_files_takes_those_of_the_other() {
    let site = folder(&FILES);
    let at = site.path();
    fs::write(at.join(".gitignore"), "dist\n").unwrap();
    git(at, &["init", "-q"]);
    commit(at, "one");
    let (_, out, _) = run(at, &["diff", "HEAD"], "");
    assert!(
        out.contains("HEAD:edge.ravel has no built files: those of edge.ravel are used\n"),
        "{out}"
    );
    let errors = refused(at, &["HEAD", "HEAD"]);
    assert!(errors.contains("--old-files"), "{errors}");
    assert_eq!(differences(at, &["HEAD", "HEAD", "--old-files", "dist"]), (0, vec![]));
}

#[test]
#[ignore = "needs git"]
fn what_is_not_a_revision_is_refused_with_what_to_do() {
    let unborn = folder(&FILES);
    git(unborn.path(), &["init", "-q"]);
    assert!(refused(unborn.path(), &["HEAD"]).contains("this branch has no commit yet"));
    let none = folder(&FILES);
    assert!(refused(none.path(), &["HEAD"]).contains("is not in a git repository"));
    let site = repository();
    let shallow = tempfile::TempDir::new().unwrap();
    let from = format!("file://{}", site.path().display());
    git(shallow.path(), &["clone", "-q", "--depth", "1", &from, "clone"]);
    let clone = shallow.path().join("clone");
    assert_eq!(differences(&clone, &["HEAD:rules.ravel", "rules.ravel"]), (0, vec![]));
    let errors = refused(&clone, &["HEAD~1:edge.ravel", "rules.ravel"]);
    assert!(errors.contains("git fetch --unshallow"), "{errors}");
    assert!(refused(site.path(), &["no-such", "rules.ravel"]).contains("a git revision"));
}

#[test]
#[ignore = "needs git"]
fn a_submodule_is_a_repository_of_its_own() {
    let site = repository();
    let outer = tempfile::TempDir::new().unwrap();
    git(outer.path(), &["init", "-q"]);
    let from = site.path().to_str().unwrap();
    git(outer.path(), &["submodule", "--quiet", "add", from, "site"]);
    commit(outer.path(), "outer");
    let inner = outer.path().join("site");
    assert_eq!(differences(&inner, &["HEAD:rules.ravel", "rules.ravel"]), (0, vec![]));
    // From outside, the rules file says which repository is meant.
    let rules = ["--rules", "site/rules.ravel"];
    assert_eq!(differences(outer.path(), &[&rules[..], &["HEAD"]].concat()), (0, vec![]));
    let (_, found) = differences(outer.path(), &[&rules[..], &["HEAD~2:edge.ravel"]].concat());
    assert_eq!(found.len(), 2, "{found:?}");
}

/// The result of the command for known URLs, in a folder with two editions.
fn known(urls: &[(&str, &str)], arguments: &[&str], input: &str) -> (i32, Value, String) {
    let site = folder(&FILES);
    let rules = RULES.replace("/old -> /new", "/old{/x*} -> /new");
    fs::write(site.path().join("new.ravel"), rules).unwrap();
    for (name, text) in urls {
        fs::create_dir_all(site.path().join(name).parent().unwrap()).unwrap();
        fs::write(site.path().join(name), text).unwrap();
    }
    let all = [&["diff", "edge.ravel", "new.ravel", "--json"], arguments].concat();
    let (status, out, errors) = run(site.path(), &all, input);
    (status, serde_json::from_str(&out).unwrap_or_default(), errors)
}

#[test]
fn known_urls_are_counted_in_the_differences() {
    let table =
        "url,visits\n/old/a,7\n/old/b,30\n/old/b,5\n/new,9\nhttps://else.example/,1\nnews,2\n";
    let (status, document, errors) = known(&[("urls.csv", table)], &["--urls", "urls.csv"], "");
    assert_eq!(status, 1);
    assert!(errors.contains("1 line cannot be read:\n         urls.csv: line 7: "), "{errors}");
    let wanted = serde_json::json!({
        "urls": 4, "hits": 52, "differing_urls": 2, "differing_hits": 42, "outside": 1, "unread": 1,
    });
    assert_eq!(document["known"], wanted);
    let first = &document["differences"][0];
    assert_eq!((&first["urls"], &first["hits"]), (&Value::from(2), &Value::from(42)), "{first}");
    // The columns may have other names; standard input is a source, too.
    let other = table.replace("url,visits", "where,n");
    let named = ["--urls", "-", "--url", "where", "--count", "n"];
    let (_, document, _) = known(&[], &named, &other);
    assert_eq!(document["known"], wanted);
}

#[test]
fn sitemaps_of_an_index_are_those_beside_it() {
    let map =
        |path: &str| format!("<urlset><url><loc>https://h.example{path}</loc></url></urlset>");
    let index = "<sitemapindex><sitemap><loc>https://h.example/maps/a.xml</loc></sitemap>\
                 <sitemap><loc>https://h.example/b.xml?v=1</loc></sitemap></sitemapindex>";
    let (a, b) = (map("/old/a"), map("/new"));
    let files = [("s/index.xml", index), ("s/a.xml", &*a), ("s/b.xml", &*b)];
    let (_, document, errors) = known(&files, &["--urls", "s/index.xml"], "");
    assert_eq!(errors, "");
    assert_eq!(document["known"]["urls"], 2);
    assert_eq!(document["known"]["differing_urls"], 1);
    let (status, _, errors) = known(&files[..2], &["--urls", "s/index.xml"], "");
    assert_eq!(status, 2);
    let why =
        "`s/index.xml` names https://h.example/b.xml?v=1, and there is no such file beside it";
    assert!(errors.contains(why), "{errors}");
}

#[test]
fn sources_that_cannot_be_read_are_refused() {
    let index = "<sitemapindex><sitemap><loc>/a.xml</loc></sitemap></sitemapindex>";
    for (source, input, wanted) in [
        ("none.txt", "", "cannot read `none.txt`: No such file"),
        ("dist", "", "`dist` is a folder; name a list, a table or a sitemap"),
        ("-", "", "`--urls` names no URL"),
        ("-", "news\n", "standard input: line 1: expected a URL"),
        ("-", "<rss/>", "standard input: not a sitemap"),
        ("-", index, "standard input is an index that names /a.xml"),
    ] {
        let (status, _, errors) = known(&[], &["--urls", source], input);
        assert!(status == 2 && errors.contains(wanted), "{source}: {errors}");
    }
}

#[test]
fn reports_say_the_same() {
    let demo = demo();
    let at = demo.path();
    let rules = fs::read_to_string(at.join("edge.ravel")).unwrap();
    fs::write(
        at.join("new.ravel"),
        rules.replace("fallback /book{/step*}", "fallback /kiosk{/step*}"),
    )
    .unwrap();
    let arguments =
        ["diff", "edge.ravel", "new.ravel", "--report", "diff.md", "--report", "diff.html"];
    let (status, out, errors) = run(at, &arguments, "");
    assert_eq!((status, errors.as_str()), (1, ""));
    assert!(out.contains("missing  /book{/step*}\n"), "{out}");
    let markdown = fs::read_to_string(at.join("diff.md")).unwrap();
    assert!(markdown.starts_with("**Ravel: 2 differences: 1 missing, 1 found**\n"), "{markdown}");
    assert!(markdown.contains("<summary><b>missing</b> <code>/book{/step*}</code></summary>"));
    let page = fs::read_to_string(at.join("diff.html")).unwrap();
    let headings = page.split("<article").skip(1).map(|article| {
        let heading = article.split_once("<h2").unwrap().1.split_once("</h2>").unwrap().0;
        heading.split_once("<code>").unwrap().1.split_once("</code>").unwrap().0
    });
    let shown: Vec<&str> = headings.collect();
    assert_eq!(shown, ["/book{/step*}", "/kiosk{/step*}"]);
}
