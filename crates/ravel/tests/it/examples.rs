//! The examples run, and say what they are for.

use std::process::Command;

#[test]
fn examples_run() {
    let cases = [
        ("first", "fallback /book{/step*} -> /book/: matched"),
        (
            "short_links",
            "/s/skerry?by=mail  302 https://lanternferries.example/ports/skerry/?by=mail",
        ),
        ("build_check", " expectations, 0 failed"),
        ("changed_answers", "missing /summer"),
        ("domain_switch", "lanternferries.example is reached by all 48 h after the switch"),
        ("edge_module", "edge.mjs has "),
        ("live_requests", "https://lanternferries.example/timetables.html asked 3 times"),
    ];
    for (name, words) in cases {
        // From the workspace, so that what was built for the tests serves here too.
        let workspace = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
        let run = Command::new(env!("CARGO"))
            .args(["run", "-q", "--example", name])
            .current_dir(workspace)
            .output()
            .unwrap();
        let out = String::from_utf8_lossy(&run.stdout);
        assert!(
            run.status.success() && out.contains(words),
            "{name}: {out}{}",
            String::from_utf8_lossy(&run.stderr)
        );
    }
}
