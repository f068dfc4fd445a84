//! What `ravel domain` says before there is a zone, and the zones that it writes.

mod common;

use std::fs;

use common::{demo, folder, run};
use serde_json::Value;

const SWITCH: &str = "2027-03-01T06:00:00Z";

/// Before there is a zone, or a build.
#[test]
fn what_to_enter_is_said_before_there_is_a_zone() {
    let site = folder(&[(
        "edge.ravel",
        "site https://www.h.example/\n  files not-built\n  alias h.example\ndomain h.example\n  host \
         edge.host.example\n  address 192.0.2.44\n  verification _o \"p-1\"\n  verification _c cname \
         x.host.example\n",
    )]);
    let (status, out, errors) = run(site.path(), &["domain"], "");
    assert_eq!(status, 0, "{out}{errors}");
    let rows: Vec<Vec<&str>> =
        out.lines().skip(3).take(4).map(|line| line.split_whitespace().collect()).collect();
    assert_eq!(
        rows,
        [
            ["_o", "_o.h.example.", "TXT", "p-1", "3600"],
            ["_c", "_c.h.example.", "CNAME", "x.host.example.", "3600"],
            ["www", "www.h.example.", "CNAME", "edge.host.example.", "3600"],
            ["@", "h.example.", "A", "192.0.2.44", "3600"],
        ]
    );
    let (_, zone, _) = run(site.path(), &["domain", "--format", "zone"], "");
    assert!(zone.contains("_o.h.example.\t3600\tIN\tTXT\t\"p-1\"\n"), "{zone}");
    let (_, table, _) = run(site.path(), &["domain", "--format", "csv"], "");
    assert!(
        table.contains("h.example,www,www.h.example.,CNAME,edge.host.example.,3600\n"),
        "{table}"
    );
    let (_, data, _) = run(site.path(), &["domain", "--format", "json"], "");
    let data: Value = serde_json::from_str(&data).unwrap();
    assert_eq!(data["domains"][0]["entries"].as_array().unwrap().len(), 4);
    for refused in [&["--format", "csv", "--json"][..], &["plan", SWITCH], &["write", "new.zone"]] {
        assert_eq!(run(site.path(), &[&["domain"], refused].concat(), "").0, 2, "{refused:?}");
    }
}

/// Each step's zone is a file, and the README says when.
#[test]
fn the_zones_of_all_steps_are_written() {
    let demo = demo();
    let write =
        ["domain", "write", "--steps", "steps", "--at", SWITCH, "--zone", "dns/before.zone"];
    let (status, out, errors) = run(demo.path(), &write, "");
    assert_eq!(status, 0, "{errors}");
    assert!(
        out.contains("− www.lanternferries.example. 300 CNAME parked.former-host.example."),
        "{out}"
    );
    let readme = fs::read_to_string(demo.path().join("steps/README.md")).unwrap();
    assert!(
        readme.contains("At 2027-03-01T06:00:00Z, 3 d after the step before. Serial 2027030100."),
        "{readme}"
    );
    let (_, data, _) = run(demo.path(), &["domain", "--zone", "steps/step-3.zone", "--json"], "");
    let data: Value = serde_json::from_str(&data).unwrap();
    let rows = data["domains"][0]["rows"].as_array().unwrap();
    assert!(rows.iter().all(|row| row["action"] == "keep"), "{rows:?}");
    let (status, _, errors) = run(demo.path(), &write, "");
    assert!(status == 2 && errors.contains("add `--replace`"), "{errors}");
}

/// What is written of a signed zone has no signatures.
#[test]
fn a_signed_zone_is_not_written_by_mistake() {
    let site = folder(&[
        (
            "edge.ravel",
            "site https://h.example/\ndomain h.example\n  address 192.0.2.44\n  zone h.zone\n",
        ),
        (
            "h.zone",
            "@ 1h SOA ns1 hostmaster 7 2h 15m 2w 30m\n@ 1h NS ns1\nns1 1h A 192.0.2.53\n@ 1h A \
             203.0.113.80\n@ 1h DNSKEY 257 3 13 AAAA\n",
        ),
    ]);
    let (status, _, errors) = run(site.path(), &["domain", "write", "new.zone"], "");
    assert!(status == 2 && errors.contains("the zone is signed (line 5)"), "{errors}");
    let (status, _, errors) = run(site.path(), &["domain", "write", "new.zone", "--unsigned"], "");
    assert_eq!(status, 0, "{errors}");
    // Nothing has to change any more, so nothing is left to sign.
    let again = ["domain", "--zone", "new.zone"];
    assert_eq!(run(site.path(), &again, "").0, 0);
    let more = ["domain", "write", "more.zone", "--zone", "new.zone"];
    assert_eq!(run(site.path(), &more, "").0, 0);
}
