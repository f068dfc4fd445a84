//! What `ravel domain` says before there is a zone, and the zones that it writes.

use std::fs;

use crate::common::{demo, folder, run};
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
        readme.contains("## 3. 2027-03-01T06:00:00Z, 2 d 23 h later")
            && readme.contains("- publish `step-2.zone`, serial 2027030100:"),
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

/// A zone that moves to other name servers, on files and on servers.
#[test]
fn a_move_to_other_name_servers_is_planned_step_by_step_and_asked_for() {
    let rules = "site https://www.h.example/\n  alias h.example\ndomain h.example\n  host edge.host.example\n  \
                 address 192.0.2.44\n  nameservers ns1.new.example, ns2.new.example\n  zone h.zone\n";
    let zone = "$TTL 1h\n@ SOA ns.old.example. host 7 2h 15m 2w 30m\n@ 1d NS ns.old.example.\n@ A 203.0.113.80\n\
                www CNAME old.host.example.\n";
    let stated = format!("{rules}  parent-ttl 1h\n");
    let site = folder(&[("edge.ravel", rules), ("stated.ravel", &stated), ("h.zone", zone)]);
    let plan = ["domain", "plan", SWITCH, "--report", "plan.html", "--report", "plan.svg"];
    let (_, out, errors) = run(site.path(), &plan, "");
    for wanted in [
        "copy the zone to ns1.new.example, ns2.new.example",
        "let the registry delegate the domain to ns1.new.example, ns2.new.example",
        "+2 d  step 3",
        "ns.old.example is not asked any more",
        "    − h.example. 300 NS ns.old.example.",
        "    + h.example. 86400 NS ns2.new.example.",
        "a TTL of 2 d is assumed for the delegation",
    ] {
        assert!(out.contains(wanted), "{wanted}: {out}{errors}");
    }
    let page = fs::read_to_string(site.path().join("plan.html")).unwrap();
    let elements = |name: &str| page.matches(&format!("</{name}>")).count();
    assert_eq!((elements("li"), elements("svg"), elements("details")), (3, 1, 3), "{out}");
    assert!(elements("ins") > 4 && elements("script") == 0);
    let (_, out, _) = run(site.path(), &["domain", "plan", SWITCH, "--rules", "stated.ravel"], "");
    assert!(out.contains("+1 h  step 3") && !out.contains("assumed"), "{out}");

    let write = ["domain", "write", "--steps", "steps", "--at", SWITCH];
    let (status, _, errors) = run(site.path(), &write, "");
    assert_eq!(status, 0, "{errors}");
    let readme = fs::read_to_string(site.path().join("steps/README.md")).unwrap();
    assert!(
        readme.contains("- let the registry delegate the domain to ns1.new.example"),
        "{readme}"
    );
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let serve = |file: &str| {
        let text = fs::read_to_string(site.path().join(file)).unwrap();
        let zone = ravel_dns::Zone::parse("h.example", &text).unwrap();
        let at = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
        let server = runtime.block_on(ravel_serve::NameServer::bind(zone, at)).unwrap();
        let address = server.address().to_string();
        runtime.spawn(async move { server.run(std::future::pending()).await });
        address
    };
    let stages: Vec<String> =
        ["h.zone", "steps/step-1.zone", "steps/step-2.zone", "steps/step-3.zone"].map(serve).into();
    // Each step is visible where its zone stands; the last raises what the second brought.
    for (step, visible) in [("1", &[1][..]), ("2", &[2]), ("3", &[2, 3])] {
        for (number, server) in stages.iter().enumerate() {
            let (status, out, errors) =
                run(site.path(), &["domain", "ask", "--step", step, server], "");
            let wanted = i32::from(!visible.contains(&number));
            assert_eq!(status, wanted, "step {step} at {number}: {out}{errors}");
        }
    }
    let (status, _, errors) = run(site.path(), &["domain", "ask", "--step", "4", &stages[0]], "");
    assert!(status == 2 && errors.contains("changes in 3 steps"), "{errors}");
}
