//! Files that rules name: how deep they include one another, and where links and `../` may lead.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::common::{folder, run};
use tempfile::TempDir;

/// A text in one line.
fn words(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A folder in which each of `count` files includes the next one, and the last one `last`.
fn chain(count: usize, last: &str) -> TempDir {
    let site = folder(&[("edge.ravel", "site https://h.example/\ninclude f/1.ravel\n")]);
    fs::create_dir(site.path().join("f")).unwrap();
    for number in 1..=count {
        let next = format!("{}.ravel", number + 1);
        let next = if number == count { last } else { &next };
        fs::write(site.path().join(format!("f/{number}.ravel")), format!("include {next}\n"))
            .unwrap();
    }
    fs::write(site.path().join("f/end.ravel"), "gone /old\n").unwrap();
    site
}

#[test]
fn deep_includes_are_an_error_and_a_circle_is_named() {
    let said = |site: &TempDir| run(site.path(), &["explain", "--brief", "/old"], "");
    assert!(said(&chain(62, "end.ravel")).1.contains("410"));
    for (count, last, expected) in [
        (64, "end.ravel", "is included through more than 64 files"),
        (20_000, "end.ravel", "is included through more than 64 files"),
        (40, "7.ravel", "`f/7.ravel` includes itself"),
        (300, "7.ravel", "`f/7.ravel` includes itself"),
        (20_000, "../edge.ravel", "`edge.ravel` includes itself"),
    ] {
        let (status, _, errors) = said(&chain(count, last));
        assert!(status == 2 && errors.contains(expected), "{count} {last}: {status} {errors}");
    }
}

#[test]
fn zones_that_include_one_another_are_an_error() {
    let site = folder(&[(
        "edge.ravel",
        "site https://h.example/\ndomain h.example\n  address 192.0.2.1\n  zone z/0.zone\n",
    )]);
    fs::create_dir(site.path().join("z")).unwrap();
    for number in 0..3_000 {
        let start = if number == 0 { "@ 1h SOA ns1 hm 1 2h 15m 2w 30m\n@ 1h NS ns1\n" } else { "" };
        let text = format!("{start}$INCLUDE {}.zone\n", number + 1);
        fs::write(site.path().join(format!("z/{number}.zone")), text).unwrap();
    }
    let (status, said, errors) = run(site.path(), &["check"], "");
    assert!((1..=2).contains(&status), "{status}");
    let said = words(&format!("{said}{errors}"));
    for expected in ["through 64 other files", "more than 64 files include one another"] {
        assert!(said.contains(expected), "{said}");
    }
}

#[cfg(unix)]
fn link(to: impl AsRef<Path>, at: &Path) {
    std::os::unix::fs::symlink(to, at).unwrap();
}

/// A repository with the rules in `site`, files beside it, and files outside.
#[cfg(unix)]
fn repository() -> (TempDir, std::path::PathBuf) {
    let all = folder(&[
        ("repo/site/edge.ravel", "site https://h.example/\n"),
        ("repo/shared/more.ravel", "gone /old\n"),
        ("repo/shared/moved.csv", "old,new\n/a,/b\n"),
        ("outside.ravel", "gone /outside\n"),
    ]);
    link("../shared/more.ravel", &all.path().join("repo/site/inside.ravel"));
    link("../../outside.ravel", &all.path().join("repo/site/out.ravel"));
    let rules = all.path().join("repo/site");
    (all, rules)
}

#[cfg(unix)]
#[test]
fn what_rules_name_stays_in_the_repository() {
    let (all, rules) = repository();
    let say = |statements: &str| {
        fs::write(rules.join("edge.ravel"), format!("site https://h.example/\n{statements}\n"))
            .unwrap();
        let (status, said, errors) =
            run(&rules, &["explain", "--brief", "/old", "/a", "/outside"], "");
        (status, words(&format!("{said}{errors}")))
    };
    // Without a repository: the folder of the rules file.
    let (status, said) = say("include ../shared/more.ravel");
    assert!(
        status == 2
            && said
                .contains("is outside of the folder of the rules file, which is in no repository"),
        "{said}"
    );
    let (status, said) = say("include inside.ravel");
    assert!(
        status == 2
            && said.contains("it is a link that leads to `")
            && said.contains("shared/more.ravel`, and that"),
        "{said}"
    );
    // In one: all of it.
    let git = |arguments: &[&str]| {
        let done =
            Command::new("git").arg("-C").arg(all.path().join("repo")).args(arguments).output();
        assert!(done.unwrap().status.success(), "{arguments:?}");
    };
    git(&["init", "-q"]);
    for statements in ["include ../shared/more.ravel", "include inside.ravel"] {
        let (status, said) = say(statements);
        assert!(status == 0 && said.contains("410"), "{statements}: {said}");
    }
    let (status, said) = say("redirect\n  table ../shared/moved.csv");
    assert!(status == 0 && said.contains("goes to https://h.example/b"), "{said}");
    for (statements, expected) in [
        ("include out.ravel", "it is a link that leads to"),
        ("include ../../outside.ravel", "outside of the repository"),
        ("redirect\n  table ../../outside.csv", "cannot read"),
    ] {
        let (status, said) = say(statements);
        assert!(status == 2 && said.contains(expected), "{statements}: {said}");
    }
    // A revision is read so, too.
    let commit = ["-c", "user.name=a", "-c", "user.email=a@h.example", "commit", "-qm", "a"];
    say("include inside.ravel");
    git(&["add", "."]);
    git(&commit);
    let (status, said, errors) = run(&rules, &["diff", "HEAD"], "");
    assert_eq!(status, 0, "{said}{errors}");
    fs::write(rules.join("edge.ravel"), "site https://h.example/\ninclude out.ravel\n").unwrap();
    git(&["add", "."]);
    git(&commit);
    fs::write(rules.join("edge.ravel"), "site https://h.example/\n").unwrap();
    let (status, said, errors) = run(&rules, &["diff", "HEAD"], "");
    let said = words(&format!("{said}{errors}"));
    assert!(
        status == 2
            && said
                .contains("it is a link that leads to `../outside.ravel`, out of the repository"),
        "{said}"
    );
}
