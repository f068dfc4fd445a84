//! `ravel domain`: what it says, what it writes, and whether other tools agree.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};

use crate::common::{demo, folder, ravel, run};
use serde_json::Value;

const SWITCH: &str = "2027-03-01T06:00:00Z";

fn json(folder: &Path, arguments: &[&str]) -> (i32, Value) {
    let (status, out, errors) = run(folder, &[&["domain"], arguments, &["--json"]].concat(), "");
    (status, serde_json::from_str(&out).unwrap_or_else(|error| panic!("{error}: {out}{errors}")))
}

#[test]
fn the_demo_is_well_and_was_not() {
    let demo = demo();
    let (status, out, _) = run(demo.path(), &["domain"], "");
    assert_eq!(status, 0, "{out}");
    assert!(
        out.contains("7 as needed; 0 errors")
            && out.contains("no `domain` statement covers lantern-ferries.example"),
        "{out}"
    );

    let (status, data) = json(demo.path(), &["plan", SWITCH, "--zone", "dns/before.zone"]);
    assert_eq!(status, 1);
    let domain = &data["domains"][0];
    let actions: Vec<&str> = domain["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["action"].as_str().unwrap())
        .collect();
    assert_eq!(
        actions,
        ["keep", "remove", "add", "remove", "change", "add", "add", "keep", "keep"]
    );
    let codes: Vec<&str> = domain["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["name"].as_str().unwrap())
        .collect();
    assert_eq!(codes, ["stale-address", "cname-at-apex", "long-ttl", "caa-forbids", "long-ttl"]);
    let www = &domain["cut_over"]["at_once"]["hosts"][1];
    assert_eq!(
        (&www["last_old"], &www["https"]),
        (&Value::from("2027-03-04T06:00:00Z"), &Value::Null)
    );
    let www = &domain["cut_over"]["in_order"]["hosts"][1];
    assert_eq!(
        (&www["last_old"], &www["gap"]),
        (&Value::from("2027-03-01T06:05:00Z"), &Value::Null)
    );
}

#[test]
fn the_zone_that_is_written_is_the_one_that_is_needed() {
    let demo = demo();
    let before = fs::read_to_string(demo.path().join("dns/before.zone")).unwrap();
    let (status, out, _) =
        run(demo.path(), &["domain", "write", "new.zone", "--zone", "dns/before.zone"], "");
    assert_eq!(status, 0);
    assert!(out.contains("new.zone is the zone as it must be, with serial 2026110704"), "{out}");
    let new = fs::read_to_string(demo.path().join("new.zone")).unwrap();
    let kept = before.lines().filter(|line| new.contains(line)).count();
    assert_eq!(before.lines().count() - kept, 4, "serial, two removed, one changed:\n{new}");
    let again = ["domain", "write", "new.zone", "--zone", "dns/before.zone"];
    let (status, _, errors) = run(demo.path(), &again, "");
    assert!(status == 2 && errors.contains("add `--replace`"), "{errors}");
    assert_eq!(run(demo.path(), &[&again[..], &["--replace"]].concat(), "").0, 0);
    let (_, data) = json(demo.path(), &["--zone", "new.zone"]);
    let rows = data["domains"][0]["rows"].as_array().unwrap();
    assert!(rows.iter().all(|row| row["action"] == "keep"), "{rows:?}");
}

#[test]
#[ignore = "needs named-checkzone"]
fn a_name_server_loads_the_zone_that_is_written() {
    let demo = demo();
    run(demo.path(), &["domain", "write", "new.zone", "--zone", "dns/before.zone"], "");
    for zone in ["new.zone", "dns/lanternferries.example.zone"] {
        let checked = Command::new("named-checkzone")
            .args(["-i", "local", "-k", "fail", "lanternferries.example"])
            .arg(demo.path().join(zone))
            .output()
            .expect("named-checkzone runs");
        let said = String::from_utf8_lossy(&checked.stdout).into_owned();
        assert!(checked.status.success() && said.contains("OK"), "{zone}: {said}");
    }
}

#[test]
fn a_picture_is_written() {
    let demo = demo();
    let arguments = ["domain", "plan", SWITCH, "--zone", "dns/before.zone", "--report", "plan.svg"];
    let (_, _, errors) = run(demo.path(), &arguments, "");
    let picture = fs::read_to_string(demo.path().join("plan.svg")).expect(&errors);
    let mut reader = quick_xml::Reader::from_str(&picture);
    let mut texts = Vec::new();
    loop {
        match reader.read_event().unwrap() {
            quick_xml::events::Event::Eof => break,
            quick_xml::events::Event::Text(text) => texts.push(text.as_ref().to_owned()),
            _ => {}
        }
    }
    for wanted in [
        "www.lanternferries.example",
        "either",
        "+1 d",
        "get the certificate issued",
        "At once: cut-over at 2027-03-01T06:00:00Z",
    ] {
        assert!(texts.iter().any(|text| text == wanted), "{wanted}: {texts:?}");
    }
    assert!(picture.matches("<rect").count() > 12);
}

#[test]
fn servers_are_asked_and_compared() {
    let demo = demo();
    let before_rules = fs::read_to_string(demo.path().join("edge.ravel"))
        .unwrap()
        .replace("dns/lanternferries.example.zone", "dns/before.zone");
    fs::write(demo.path().join("before.ravel"), before_rules).unwrap();
    let serve = |rules: &str| {
        let mut command = ravel(demo.path());
        let ports = ["--http", "0", "--https", "0", "--inspect", "0", "--dns", "0", "--json"];
        let mut child = command
            .args(["serve", "--rules", rules, "--authority", "ca"])
            .args(ports)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let line = BufReader::new(child.stdout.take().unwrap()).lines().next().unwrap().unwrap();
        let began: Value = serde_json::from_str(&line).unwrap();
        (child, began["dns"].as_str().unwrap().to_owned())
    };
    let (mut old, before) = serve("before.ravel");
    let (mut new, now) = serve("edge.ravel");
    let (status, out, errors) =
        run(demo.path(), &["domain", "ask", &before, &now, "127.0.0.1:1"], "");
    let (_, data) = json(demo.path(), &["ask", &now, "[::1]:1"]);
    old.kill().unwrap();
    new.kill().unwrap();
    assert_eq!(status, 1, "{out}{errors}");
    assert!(out.contains(&format!("{now}  says what is needed")), "{out}");
    assert!(out.contains("127.0.0.1:1  does not answer"), "{out}");
    // Wider than the terminal, a row is folded.
    let www = &out[out.find("\nwww.").unwrap()..];
    let www = www.split("\n*.").next().unwrap();
    assert!(
        www.contains("parked.former-host.example.  3 d")
            && www.contains("lantern.edge-host.example.  1 h"),
        "{www}"
    );
    let servers = &data["domains"][0]["servers"];
    assert!(
        servers[0]["answers"].as_array().unwrap().iter().all(|answer| answer["as_needed"] == true),
        "{servers}"
    );
    assert!(servers[1]["error"].is_string());
    old.wait().unwrap();
    new.wait().unwrap();
}

#[test]
fn what_can_not_be_done_is_said() {
    let demo = demo();
    fs::write(demo.path().join("broken.zone"), "@ 60 SOA a b 1 2 3 4 5\nwww A 192.0.2\n").unwrap();
    let without = folder(&[("edge.ravel", "site https://harbour.example/\n")]);
    let no_zone = folder(&[(
        "edge.ravel",
        "site https://harbour.example/\ndomain harbour.example\n  address 192.0.2.1\n",
    )]);
    // The ends of time are no trouble.
    for moment in
        ["9999-12-31T23:59:59Z", "0000-01-01T00:00:00Z", "2027-03-01T06:00:00.123456789+23:59"]
    {
        let (status, out, errors) = run(
            demo.path(),
            &["domain", "plan", moment, "--zone", "dns/before.zone", "--report", "end.svg"],
            "",
        );
        assert!(status == 1 && out.contains("in order"), "{moment}: {errors}");
    }
    let cases: &[(&Path, &[&str], &str)] = &[
        (
            demo.path(),
            &["--zone", "broken.zone"],
            "`broken.zone` line 2: expected an IPv4 address, found `192.0.2`",
        ),
        (demo.path(), &["--zone", "none.zone"], "`none.zone`: cannot read it"),
        (demo.path(), &["--domain", "other.example"], "unknown domain; the rules have `lantern"),
        (demo.path(), &["--ca", "ca.pem"], "`--ca` is for a domain whose certificate is known"),
        (demo.path(), &["ask", "--step", "1"], "so it has no steps"),
        (demo.path(), &["plan", "tomorrow"], "write date, time and offset"),
        (demo.path(), &["ask", "ns1.dns-host.example"], "write an IP address"),
        (
            demo.path(),
            &["plan", SWITCH, "--report", "x.png"],
            "this command writes reports as .svg (a picture), .html",
        ),
        (without.path(), &[], "the rules have no `domain` statement"),
        (no_zone.path(), &["plan", SWITCH], "name its file with `zone FILE`"),
    ];
    for (folder, arguments, expected) in cases {
        let (status, out, errors) = run(folder, &[&["domain"], *arguments].concat(), "");
        assert_eq!(status, 2, "{arguments:?}: {out}{errors}");
        assert!(errors.contains(expected), "{arguments:?}: {errors}");
    }
}

/// Certificates that `openssl` makes are judged as browsers do.
#[test]
#[ignore = "needs openssl"]
fn certificates_of_openssl_are_judged_right() {
    let site = folder(&[
        (
            "edge.ravel",
            "site https://harbour.example/\n  alias www.harbour.example\n  preview *.preview.harbour.example\n\
         domain harbour.example\n  host site.host.example\n  address 192.0.2.1\n  certificate site.pem\n  zone harbour.zone\n",
        ),
        (
            "harbour.zone",
            "$TTL 60\n@ SOA a b 1 2 3 4 5\n@ NS a\n@ A 192.0.2.1\nwww CNAME site.host.example.\n*.preview CNAME site.host.example.\n",
        ),
    ]);
    let at = |name: &str| site.path().join(name).to_str().unwrap().to_owned();
    let openssl = |arguments: &[&str]| {
        let output = Command::new("openssl").args(arguments).output().expect("openssl runs");
        assert!(
            output.status.success(),
            "{arguments:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
    };
    openssl(&[
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        &at("ca.key"),
        "-out",
        &at("ca.pem"),
        "-subj",
        "/CN=Quay Authority",
        "-days",
        "3650",
    ]);
    openssl(&[
        "req",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        &at("site.key"),
        "-out",
        &at("site.csr"),
        "-subj",
        "/CN=harbour.example",
    ]);
    let all = "DNS:harbour.example,DNS:www.harbour.example,DNS:*.preview.harbour.example";
    let cases: &[(&str, &str, &str, &[&str])] = &[
        (all, "20200101000000Z", "20400101000000Z", &[]),
        (
            "DNS:harbour.example,DNS:*.preview.harbour.example",
            "20200101000000Z",
            "20400101000000Z",
            &["`www.harbour.example`"],
        ),
        (
            "DNS:harbour.example,DNS:*.harbour.example,DNS:*.preview.harbour.example",
            "20200101000000Z",
            "20400101000000Z",
            &[],
        ),
        (
            "DNS:*.harbour.example",
            "20200101000000Z",
            "20400101000000Z",
            &[
                "`harbour.example`: `*.harbour.example` covers one label only",
                "`*.preview.harbour.example`",
            ],
        ),
        (all, "20200101000000Z", "20210101000000Z", &["expired on 2021-01-01T00:00:00Z"]),
        (all, "20390101000000Z", "20400101000000Z", &["not valid before 2039-01-01T00:00:00Z"]),
    ];
    for (names, from, until, expected) in cases {
        // `x509` takes no dates of its own everywhere; `ca` does.
        fs::write(at("ca.cnf"), format!(
            "[ca]\ndefault_ca=d\n[d]\nnew_certs_dir={0}\ndatabase={0}/index\nserial={0}/serial\ndefault_md=sha256\npolicy=p\nx509_extensions=e\nunique_subject=no\n\
             [p]\ncommonName=supplied\n[e]\nsubjectAltName={names}\n", site.path().display())).unwrap();
        fs::write(at("index"), "").unwrap();
        fs::write(at("serial"), "01\n").unwrap();
        openssl(&[
            "ca",
            "-batch",
            "-notext",
            "-config",
            &at("ca.cnf"),
            "-cert",
            &at("ca.pem"),
            "-keyfile",
            &at("ca.key"),
            "-in",
            &at("site.csr"),
            "-out",
            &at("leaf.pem"),
            "-startdate",
            from,
            "-enddate",
            until,
        ]);
        let chain = fs::read_to_string(at("leaf.pem")).unwrap()
            + &fs::read_to_string(at("ca.pem")).unwrap();
        fs::write(at("site.pem"), chain).unwrap();
        let messages = |data: &Value| -> Vec<String> {
            let found = data["domains"][0]["findings"].as_array().unwrap().iter();
            found.map(|finding| finding["message"].as_str().unwrap().to_owned()).collect()
        };
        let (status, data) = json(site.path(), &["--ca", &at("ca.pem")]);
        let found = messages(&data);
        // This machine trusts other authorities, or none.
        let untrusted = messages(&json(site.path(), &[]).1);
        let more = |what: &&String| !found.contains(what);
        assert!(
            untrusted
                .iter()
                .filter(more)
                .all(|what| what.contains("`CN=Quay Authority`, which is none"))
        );
        assert_eq!(found.len(), expected.len(), "{names} {from}: {found:?}");
        assert!(
            expected.iter().all(|text| found.iter().any(|what| what.contains(text))),
            "{names} {from}: {found:?}"
        );
        assert_eq!(status, i32::from(!expected.is_empty()));
    }
}
