//! The examples run, and say what they are for.

use std::path::PathBuf;
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
        ("first_rules", "site https://"),
        ("live_requests", "https://lanternferries.example/timetables.html asked 3 times"),
        ("mount", "/book/seat/14A: 200 OK"),
    ];
    for (name, words) in cases {
        let run = built(name).output().unwrap();
        let out = String::from_utf8_lossy(&run.stdout);
        assert!(
            run.status.success() && out.contains(words),
            "{name}: {out}{}",
            String::from_utf8_lossy(&run.stderr)
        );
    }
}

/// An example that `cargo test` has built; where only some of it was built, Cargo builds it.
fn built(name: &str) -> Command {
    let own = std::env::current_exe().unwrap();
    let examples = own.parent().and_then(|deps| deps.parent()).unwrap().join("examples");
    let example: PathBuf = examples.join(name).with_extension(std::env::consts::EXE_EXTENSION);
    let workspace = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let mut command = match example.exists() {
        true => Command::new(example),
        false => {
            let mut cargo = Command::new(env!("CARGO"));
            cargo.args(["run", "-q", "--example", name]);
            cargo
        }
    };
    command.current_dir(workspace);
    command
}
