//! `ravel tally` on logs as they are found: packed, cut in ranges, merged, broken.

use std::fs;
use std::io::Write;
use std::path::Path;

use crate::common::{demo, run};
use flate2::Compression;
use flate2::write::GzEncoder;
use ruzstd::encoding::{CompressionLevel, compress_to_vec};
use serde_json::Value;

const LOG: &str = "access.log.gz";

fn tally(folder: &Path, more: &[&str]) -> (i32, String, String) {
    run(folder, &[&["tally"], more].concat(), "")
}

fn json(folder: &Path, more: &[&str]) -> Value {
    let (_, out, errors) = tally(folder, &[more, &["--json"]].concat());
    assert_eq!(errors, "");
    serde_json::from_str(&out).unwrap()
}

/// The log of the demo, unpacked.
fn unpacked(folder: &Path) -> Vec<u8> {
    let mut log = Vec::new();
    let mut reader = flate2::read::GzDecoder::new(fs::File::open(folder.join(LOG)).unwrap());
    std::io::copy(&mut reader, &mut log).unwrap();
    log
}

#[test]
fn years_of_visitors_are_told_in_a_page() {
    let demo = demo();
    let (status, out, errors) = tally(demo.path(), &[LOG, "--report", "tally.html", "--top", "4"]);
    assert_eq!((status, errors.as_str()), (0, ""));
    for wanted in [
        "19 902 requests of 50 URLs, from 2025-03-01 to 2027-02-28\n",
        "  missing        1 539    7.7 %       13 URLs  404\n",
        "redirect /timetabel/ -> /timetable/ permanent",
        "14 of 22 were used",
        "nobody used edge.ravel:32",
        "lines for a tunnel (CONNECT)",
    ] {
        let all = format!("{out}{}", tally(demo.path(), &[LOG]).1);
        assert!(all.contains(wanted), "no {wanted} in\n{all}");
    }
    // Of clients, nothing is told.
    let page = fs::read_to_string(demo.path().join("tally.html")).unwrap();
    let told = format!("{out}{page}{}", json(demo.path(), &[LOG]));
    assert!(page.contains("<svg") && !told.contains("203.0.113.") && !told.contains("2001:db8"));
    // On the redesign more is missing, and that can be the limit.
    let limits = |rules: &str, limit: &str| {
        tally(demo.path(), &["--rules", rules, LOG, "--fail-on", limit]).0
    };
    assert_eq!(limits("redesign.ravel", "missing=10%"), 1);
    assert_eq!(limits("redesign-kept.ravel", "missing=10%"), 0);
    assert_eq!(limits("redesign-kept.ravel", "loop,missing=1538"), 1);
}

#[test]
fn packed_logs_and_standard_input_are_the_same() {
    let demo = demo();
    let log = unpacked(demo.path());
    fs::write(demo.path().join("plain.log"), &log).unwrap();
    fs::write(demo.path().join("log.zst"), compress_to_vec(&log[..], CompressionLevel::Fastest))
        .unwrap();
    let (first, second) = log.split_at(log.len() / 2 + 7);
    // Members of gzip may follow each other, and lines go over them.
    let packed = [first, second].map(|part| {
        let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
        encoder.write_all(part).unwrap();
        encoder.finish().unwrap()
    });
    fs::write(demo.path().join("two.gz"), packed.concat()).unwrap();
    let wanted = json(demo.path(), &["plain.log"]);
    for source in [LOG, "log.zst", "two.gz"] {
        let mut told = json(demo.path(), &[source]);
        told["sources"] = wanted["sources"].clone();
        assert_eq!(told, wanted, "{source}");
    }
    let text = String::from_utf8(log).unwrap();
    let (status, out, _) = run(demo.path(), &["tally", "-", "--json", "--threads", "3"], &text);
    let mut told: Value = serde_json::from_str(&out).unwrap();
    told["sources"] = wanted["sources"].clone();
    assert_eq!((status, told), (0, wanted));
}

#[test]
fn ranges_and_partial_results_make_the_whole() {
    let demo = demo();
    let log = unpacked(demo.path());
    fs::write(demo.path().join("plain.log"), &log).unwrap();
    let partial = |name: &str, more: &[&str]| {
        let (status, out, errors) = tally(demo.path(), &[&["--partial", name], more].concat());
        assert_eq!((status, out.as_str(), errors.as_str()), (0, "", ""));
        fs::read(demo.path().join(name)).unwrap()
    };
    let whole = partial("whole", &["plain.log"]);
    let cuts = [0, 1, 777_777, 777_778, 2_000_000, log.len()];
    let mut parts = Vec::new();
    for (number, cut) in cuts.windows(2).enumerate() {
        let name = format!("part-{number}");
        let range = format!("{}+{}", cut[0], cut[1] - cut[0]);
        partial(&name, &["plain.log", "--range", &range]);
        parts.push(name);
    }
    parts.reverse();
    let names: Vec<&str> = parts.iter().map(String::as_str).collect();
    assert!(partial("all", &[&["--merge"], &names[..]].concat()) == whole);
    assert_eq!(json(demo.path(), &["--merge", "all"])["requests"], 19_902);
    // What cannot be merged is refused by its name.
    let text = String::from_utf8(whole).unwrap();
    let write = |name: &str, text: &str| fs::write(demo.path().join(name), text).unwrap();
    write("cut", &text[..text.len() / 2]);
    write("newer", &text.replacen("ravel-tally 1", "ravel-tally 9", 1));
    write("changed", &text.replacen("200:", "200;", 1));
    for (file, more, wanted) in [
        ("cut", &[][..], "`cut` is cut short"),
        ("newer", &[], "`newer` is a partial result of version 9"),
        ("changed", &[], "`changed` has a line"),
        ("edge.ravel", &[], "`edge.ravel` is not a partial result"),
        ("whole", &["--rules", "redesign.ravel"], "`whole` was counted with other rules"),
        ("whole", &["--no-query"], "`whole` was counted with other rules"),
        ("none", &[], "`none` cannot be read"),
    ] {
        let (status, _, errors) = tally(demo.path(), &[more, &["--merge", file]].concat());
        assert!(status == 2 && errors.contains(wanted), "{file}: {errors}");
    }
}

#[test]
fn what_cannot_run_says_what_to_do() {
    let demo = demo();
    let site = demo.path();
    fs::write(site.join("list"), "5 /fares\n/none\nno url\n").unwrap();
    let told = json(site, &["list"]);
    assert_eq!((&told["requests"], &told["unread"]), (&6.into(), &1.into()));
    assert_eq!(told["missing"][0]["url"], "https://lanternferries.example/none");
    fs::write(site.join("there"), "").unwrap();
    for (more, wanted) in [
        (&["dist"][..], "`dist` is a folder; name the files in it"),
        (&["nowhere"], "cannot read `nowhere`"),
        (&[LOG, "--range", "0+5"], "is compressed: there are no ranges of it"),
        (&["list", "--range", "0+5"], "is no access log"),
        (&["list", LOG, "--range", "0+5"], "a range is of one source"),
        (&[LOG, "--at", "lantern"], "`lantern` is not an origin"),
        (&[LOG, "--memory", "1KiB"], "`--merge` where there is more"),
        (&[LOG, "--memory", "1KiB", "--threads", "1"], "`--merge` where there is more"),
        (&[LOG, "--memory", "much"], "write a number with `KiB`"),
        (&[LOG, "--fail-on", "lost"], "write one of file, redirect"),
        (&[LOG, "--fail-on", "missing=-1"], "is no number of requests and no share"),
        (&[LOG, "--suggest", "there"], "`there` is there already"),
    ] {
        let (status, _, errors) = tally(site, more);
        assert!(status == 2 && errors.contains(wanted), "{more:?}: {errors}");
    }
    // Suggestions are rules that can be added.
    let (status, _, errors) = tally(site, &[LOG, "--suggest", "more.ravel"]);
    assert_eq!((status, errors.as_str()), (0, ""));
    let more = fs::read_to_string(site.join("more.ravel")).unwrap();
    assert!(more.contains("/Fleet -> /fleet  # the only page of that name"), "{more}");
    let rules = fs::read_to_string(site.join("edge.ravel")).unwrap();
    fs::write(site.join("edge.ravel"), format!("{rules}\n{more}")).unwrap();
    let (_, out, _) = run(site, &["explain", "--brief", "/Fleet"], "");
    assert!(out.contains("in 1 hop: 200 fleet.html"), "{out}");
}

/// A header that rules look at is taken from the log that has it; another is said.
#[test]
fn what_hangs_on_headers_is_said() {
    let log = |agent: &str| {
        format!(
            "192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"GET /a HTTP/1.1\" 200 5 \"-\" \"{agent}\"\n"
        )
    };
    let rules = "site https://h.example/\n  files dist\n  languages en, de\nredirect /a -> /\n  when header user-agent contains Lynx\n\
        redirect /b -> /\n  when language is de\n";
    let site = crate::common::folder(&[
        ("edge.ravel", rules),
        ("dist/index.html", ""),
        ("lynx.log", &log("Lynx/2.9").repeat(2)),
        ("fox.log", &log("Firefox/140").repeat(3)),
        ("list", "/a\n/b\n"),
    ]);
    let told = json(site.path(), &["lynx.log", "fox.log", "list"]);
    let endings: Vec<(&str, u64)> = told["endings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["ending"].as_str().unwrap(), one["requests"].as_u64().unwrap()))
        .collect();
    assert_eq!(endings, [("redirect", 2), ("depends", 2), ("missing", 3)]);
    let names: Vec<&Value> =
        told["headers"].as_array().unwrap().iter().map(|one| &one["name"]).collect();
    assert_eq!(names, ["accept-language", "user-agent"]);
}
