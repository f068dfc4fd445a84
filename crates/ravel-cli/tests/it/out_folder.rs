//! The folder that `ravel build` writes: whole at every moment, and nothing of others is lost.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

use crate::common::{build, contents, demo, run};

/// What is beside the folders that were built, but for the lists of what was made.
fn beside(folder: &Path) -> Vec<String> {
    let names = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name());
    names
        .map(|name| name.to_string_lossy().into_owned())
        .filter(|name| name.starts_with('.') && !name.ends_with(".made"))
        .collect()
}

#[test]
fn builds_are_the_same_and_hold_what_is_published() {
    let demo = demo();
    for kind in ["module", "files"] {
        let (one, two) = (build(demo.path(), kind, "one"), build(demo.path(), kind, "two"));
        assert_eq!(contents(&one), contents(&two), "{kind}");
        // What a build has made, a build may replace.
        build(demo.path(), kind, "two");
        assert_eq!(contents(&one), contents(&two), "{kind}");
    }
    build(demo.path(), "module", "one");
    let names: Vec<String> = contents(&demo.path().join("one")).into_keys().collect();
    let made = [
        "edge.d.mts",
        "edge.d.ts",
        "edge.mjs",
        "fetch.d.mts",
        "fetch.d.ts",
        "fetch.mjs",
        "service-worker.mjs",
        "table.json",
    ];
    assert_eq!(names, made);
    assert_eq!(beside(demo.path()), Vec::<String>::new());
}

#[test]
fn what_is_read_is_not_written() {
    let demo = demo();
    fs::write(demo.path().join("file"), "").unwrap();
    let cases = [
        ("dist", "is in the folder of files that is read"),
        ("dist/out", "is in the folder of files that is read"),
        (".", "holds the site itself"),
        ("file", "is not a folder"),
    ];
    for (out, expected) in cases {
        let (status, said, errors) = run(demo.path(), &["build", "--as", "files", out], "");
        assert_eq!(status, 2, "{out}: {said}");
        assert!(errors.contains(expected), "{out}: {errors}");
    }
    assert_eq!(beside(demo.path()), Vec::<String>::new());
}

#[test]
fn files_of_others_are_lost_only_if_that_is_written() {
    let demo = demo();
    let notes = |out: &str| demo.path().join(out).join("notes/thesis.txt");
    let put = |out: &str| {
        fs::create_dir_all(notes(out).parent().unwrap()).unwrap();
        fs::write(notes(out), "three years").unwrap();
    };
    // A folder that no build has made, and one that a build has made.
    put("mine");
    build(demo.path(), "module", "built");
    let before = contents(&demo.path().join("built"));
    put("built");
    for out in ["mine", "built"] {
        let (status, said, errors) = run(demo.path(), &["build", "--as", "module", out], "");
        assert_eq!(status, 2, "{said}");
        assert!(errors.contains("changed since: `notes/thesis.txt`"), "{errors}");
        assert!(errors.contains("--replace"), "{errors}");
        assert_eq!(fs::read_to_string(notes(out)).unwrap(), "three years");
    }
    assert!(!demo.path().join(".mine.made").exists(), "a refused build leaves nothing");
    for out in ["mine", "built"] {
        let arguments = ["build", "--as", "module", out, "--replace"];
        assert_eq!(run(demo.path(), &arguments, "").0, 0);
        assert_eq!(contents(&demo.path().join(out)), before);
    }
    // What was made and is gone is made anew.
    fs::remove_file(demo.path().join("built/table.json")).unwrap();
    build(demo.path(), "module", "built");
    assert_eq!(contents(&demo.path().join("built")), before);
}

/// Builds where a file of somebody's stands in the way.
fn refused(folder: &Path, name: &str) {
    let before = contents(folder);
    let (status, said, errors) = run(folder, &["build", "--as", "files", "out"], "");
    assert_eq!(status, 2, "{said}");
    assert!(errors.contains(&format!("changed since: {name};")), "{errors}");
    assert_eq!(contents(folder), before, "a refused build changes nothing");
}

#[test]
fn what_was_edited_by_hand_is_not_overwritten() {
    let demo = demo();
    let page = build(demo.path(), "files", "out").join("about.html");
    let text = fs::read_to_string(&page).unwrap();
    fs::write(&page, text.replace("</body>", "<p>By hand.</p></body>")).unwrap();
    refused(demo.path(), "`about.html`");
    fs::write(&page, text).unwrap();
    build(demo.path(), "files", "out");
}

#[test]
fn a_record_is_void_where_the_folder_is_another() {
    let demo = demo();
    let out = build(demo.path(), "files", "out");
    fs::remove_dir_all(&out).unwrap();
    // Another folder takes the place, with another identity.
    fs::create_dir(demo.path().join("other")).unwrap();
    fs::create_dir(&out).unwrap();
    fs::write(out.join("index.html"), "of another generator").unwrap();
    refused(demo.path(), "`index.html`");
}

#[cfg(unix)]
#[test]
fn names_with_line_feeds_are_known_again() {
    let demo = demo();
    fs::write(demo.path().join("dist/a\nb.html"), "<p>A page</p>").unwrap();
    let whole = contents(&build(demo.path(), "files", "out"));
    assert!(whole.contains_key("a\nb.html"), "{:?}", whole.keys());
    assert_eq!(contents(&build(demo.path(), "files", "out")), whole);
}

#[cfg(unix)]
#[test]
fn a_page_for_its_owner_alone_is_said() {
    use std::os::unix::fs::PermissionsExt;

    let demo = demo();
    let page = demo.path().join("dist/about.html");
    fs::set_permissions(page, fs::Permissions::from_mode(0o600)).unwrap();
    let (_, said, _) = run(demo.path(), &["build", "--as", "files", "out"], "");
    assert!(said.contains("about.html is for its owner alone (mode 600): "), "{said}");
    let (_, said, _) = run(demo.path(), &["build", "--as", "files", "out", "--json"], "");
    assert!(said.contains("\"private\": [\n    \"about.html\"\n  ]"), "{said}");
}

#[test]
fn what_is_no_record_is_not_overwritten() {
    let demo = demo();
    fs::write(demo.path().join(".out.made"), "made of clay\n").unwrap();
    let (status, _, errors) = run(demo.path(), &["build", "--as", "files", "out"], "");
    assert_eq!(status, 2);
    assert!(errors.contains(".out.made`, where"), "{errors}");
    assert_eq!(fs::read_to_string(demo.path().join(".out.made")).unwrap(), "made of clay\n");
}

/// Folders of a user's that have names like those that builds have used.
const LIKE_OURS: [&str; 5] =
    [".out.old", ".out.building", ".out.made.new", ".out.0123456789abcdef", ".out.made.d"];

fn put_folders_like_ours(folder: &Path) {
    for name in LIKE_OURS {
        fs::create_dir(folder.join(name)).unwrap();
        fs::write(folder.join(name).join("thesis.txt"), name).unwrap();
    }
}

fn are_folders_like_ours_there(folder: &Path) {
    for name in LIKE_OURS {
        assert_eq!(fs::read_to_string(folder.join(name).join("thesis.txt")).unwrap(), name);
        fs::remove_dir_all(folder.join(name)).unwrap();
    }
    assert_eq!(beside(folder), Vec::<String>::new());
}

#[test]
fn folders_of_a_user_with_names_like_those_of_builds_stay() {
    let demo = demo();
    put_folders_like_ours(demo.path());
    fs::create_dir(demo.path().join("out")).unwrap();
    fs::write(demo.path().join("out/mine"), "").unwrap();
    refused(demo.path(), "`mine`");
    fs::remove_dir_all(demo.path().join("out")).unwrap();
    for _ in 0..2 {
        // None is taken for the folder that is missing, either.
        assert!(contents(&build(demo.path(), "files", "out")).contains_key("index.html"));
        fs::remove_dir_all(demo.path().join("out")).unwrap();
    }
    are_folders_like_ours_there(demo.path());
}

#[cfg(unix)]
#[test]
fn a_repository_stays_whatever_is_written() {
    let demo = demo();
    let head = demo.path().join("out/.git/HEAD");
    fs::create_dir_all(head.parent().unwrap()).unwrap();
    fs::write(&head, "ref: refs/heads/main\n").unwrap();
    for (kind, replace) in [("module", false), ("files", false), ("files", true)] {
        if replace {
            fs::write(demo.path().join("out/other"), "").unwrap();
        }
        let mut arguments = vec!["build", "--as", kind, "out"];
        arguments.extend(replace.then_some("--replace"));
        let (status, said, errors) = run(demo.path(), &arguments, "");
        assert_eq!(status, 0, "{kind}: {said}{errors}");
        assert_eq!(fs::read_to_string(&head).unwrap(), "ref: refs/heads/main\n", "{kind}");
        assert!(!demo.path().join("out/other").exists());
    }
    // As if a build had been interrupted between the exchange and the move.
    fs::create_dir(demo.path().join(".out.left")).unwrap();
    fs::rename(demo.path().join("out/.git"), demo.path().join(".out.left/.git")).unwrap();
    leave(demo.path(), ".out.left", false);
    build(demo.path(), "files", "out");
    assert!(head.exists());
    // As if it had been, on a system that cannot exchange two folders, before the new one came.
    fs::rename(demo.path().join("out"), demo.path().join(".out.left")).unwrap();
    leave(demo.path(), ".out.left", true);
    build(demo.path(), "files", "out");
    assert!(head.exists());
    assert_eq!(beside(demo.path()), Vec::<String>::new());
}

#[cfg(unix)]
/// Notes a folder as one that a build has left.
fn leave(folder: &Path, place: &str, set_aside: bool) {
    use std::os::unix::fs::MetadataExt;

    let record = folder.join(".out.made");
    let data = fs::metadata(folder.join(place)).unwrap();
    let mut noted: serde_json::Value = serde_json::from_slice(&fs::read(&record).unwrap()).unwrap();
    noted["leftovers"] = serde_json::json!([
        { "place": place, "id": [data.dev(), data.ino()], "set_aside": set_aside }
    ]);
    fs::write(record, noted.to_string()).unwrap();
}

#[cfg(unix)]
#[test]
fn a_symbolic_link_stays_one() {
    let demo = demo();
    fs::create_dir_all(demo.path().join("releases/3")).unwrap();
    std::os::unix::fs::symlink("releases/3", demo.path().join("current")).unwrap();
    for _ in 0..2 {
        build(demo.path(), "module", "current");
        assert!(demo.path().join("current").is_symlink());
        assert!(demo.path().join("releases/3/edge.mjs").is_file());
    }
    assert_eq!(beside(demo.path()), Vec::<String>::new());
    assert_eq!(beside(&demo.path().join("releases")), Vec::<String>::new());
}

/// The rules of the demo, and others, so that two builds differ in many files.
fn versions(folder: &Path) -> [String; 2] {
    let rules = fs::read_to_string(folder.join("edge.ravel")).unwrap();
    [rules.clone(), format!("{rules}\nredirect /of-another-version -> / 302\n")]
}

#[test]
fn a_build_that_is_killed_leaves_the_old_folder_or_the_new_one() {
    let demo = demo();
    let (path, rules) = (demo.path(), demo.path().join("edge.ravel"));
    let versions = versions(path);
    let whole: Vec<BTreeMap<String, Vec<u8>>> = versions
        .iter()
        .map(|version| {
            fs::write(&rules, version).unwrap();
            contents(&build(path, "files", "out"))
        })
        .collect();
    assert_ne!(whole[0], whole[1]);
    let start = Instant::now();
    build(path, "files", "out");
    let length = start.elapsed();
    put_folders_like_ours(path);
    let (mut old, mut new) = (0, 0);
    for round in 0..100_u32 {
        fs::write(&rules, &versions[round as usize % 2]).unwrap();
        let before = contents(&path.join("out"));
        let mut running = Command::new(env!("CARGO_BIN_EXE_ravel"))
            .args(["build", "--as", "files", "out"])
            .current_dir(path)
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        // Moments all over the time that a build takes, and somewhat later.
        sleep(length * ((round * 37) % 100) / 80 + Duration::from_micros(u64::from(round)));
        let _ = running.kill();
        running.wait().unwrap();
        let after = contents(&path.join("out"));
        assert!(whole.contains(&after), "round {round}: neither the old folder nor the new one");
        match after == before {
            true => old += 1,
            false => new += 1,
        }
    }
    assert!(old > 0 && new > 0, "{old} old, {new} new");
    fs::write(&rules, &versions[0]).unwrap();
    assert_eq!(contents(&build(path, "files", "out")), whole[0]);
    are_folders_like_ours_there(path);
}
