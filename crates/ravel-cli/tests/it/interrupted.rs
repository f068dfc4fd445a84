//! `ravel tally` where its sources change while they are read, never end, or are not waited for.
#![cfg(target_os = "linux")]

use std::fs::{self, OpenOptions};
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use serde_json::Value;

const LINE: &str = "192.0.2.1 - - [26/Nov/2026:10:00:00 +0000] \"GET /a HTTP/1.1\" 200 512 \"-\" \"Firefox/140\"\n";
/// Enough for a second or so.
const LINES: u64 = 600_000;
/// Of the signals that a process catches, as Linux shows them.
const INTERRUPT: u64 = 1 << (2 - 1);

fn site() -> tempfile::TempDir {
    let rules = "site https://h.example/\n  files dist\n";
    crate::common::folder(&[("edge.ravel", rules), ("dist/index.html", "")])
}

fn tally(site: &Path, more: &[&str]) -> Child {
    Command::new(env!("CARGO_BIN_EXE_ravel"))
        .args(["tally", "--json", "--threads", "1"])
        .args(more)
        .current_dir(site)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap()
}

fn signal(child: &Child, name: &str) {
    let kill = format!("kill {name} {}", child.id());
    let done = Command::new("sh").args(["-c", &kill]).status().unwrap();
    assert!(done.success());
}

/// Waits for a number that the system keeps of a process.
fn wait_for(child: &Child, file: &str, key: &str, wanted: impl Fn(&str) -> bool) {
    let begun = Instant::now();
    let path = format!("/proc/{}/{file}", child.id());
    loop {
        let text = fs::read_to_string(&path).unwrap();
        let value = text.lines().find_map(|line| line.strip_prefix(key)).expect("a value").trim();
        if wanted(value) {
            return;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "{key} {value}");
        thread::sleep(Duration::from_millis(1));
    }
}

/// The status, the report, and the warnings.
fn end(child: Child) -> (Option<i32>, Value, String) {
    let done = child.wait_with_output().unwrap();
    let told = serde_json::from_slice(&done.stdout).unwrap_or(Value::Null);
    (done.status.code(), told, String::from_utf8(done.stderr).unwrap())
}

/// Stops a tally in the middle of a log, does something to it, and lets it go on.
fn in_the_middle(site: &Path, change: impl FnOnce(&Path)) -> (Option<i32>, Value, String) {
    let log = site.join("access.log");
    fs::write(&log, LINE.repeat(LINES as usize)).unwrap();
    let child = tally(site, &["access.log"]);
    let has_begun = |read: &str| read.parse::<u64>().unwrap() > 4 << 20;
    wait_for(&child, "io", "rchar:", has_begun);
    signal(&child, "-STOP");
    change(&log);
    signal(&child, "-CONT");
    end(child)
}

#[test]
fn a_log_that_grows_is_counted_as_far_as_it_was() {
    let site = site();
    let (status, told, said) = in_the_middle(site.path(), |log| {
        let mut log = OpenOptions::new().append(true).open(log).unwrap();
        log.write_all(LINE.repeat(3).as_bytes()).unwrap();
    });
    assert_eq!((status, told["requests"].as_u64()), (Some(0), Some(LINES)));
    let more = 3 * LINE.len();
    assert!(said.contains(&format!("it grew by {more} bytes while it was read")), "{said}");
}

#[test]
fn a_log_that_becomes_shorter_is_said() {
    let site = site();
    let (status, told, said) = in_the_middle(site.path(), |log| {
        OpenOptions::new().write(true).open(log).unwrap().set_len(LINE.len() as u64 * 10).unwrap();
    });
    let counted = told["requests"].as_u64().unwrap();
    assert!(status == Some(0) && 10 < counted && counted < LINES, "{counted}");
    assert!(said.contains("became shorter while it was read: lines are missing"), "{said}");
}

/// The lines that a pipe has brought are shown on Ctrl-C, though it is still open.
#[test]
fn a_pipe_is_counted_as_far_as_it_came() {
    let site = site();
    // A thread more says nothing of what it has done yet; that the signal is caught does.
    let is_caught = |mask: &str| u64::from_str_radix(mask, 16).unwrap() & INTERRUPT != 0;
    for (input, missing) in [(LINE.repeat(5), 5), ("/a\n/b\n".to_owned(), 2)] {
        let mut child = tally(site.path(), &["-"]);
        let mut pipe = child.stdin.take().unwrap();
        pipe.write_all(input.as_bytes()).unwrap();
        wait_for(&child, "status", "SigCgt:", is_caught);
        thread::sleep(Duration::from_millis(300));
        signal(&child, "-INT");
        let (status, told, said) = end(child);
        assert_eq!((status, said.as_str()), (Some(0), ""));
        assert_eq!(
            (told["stopped"].as_bool(), told["requests"].as_u64()),
            (Some(true), Some(missing))
        );
        drop(pipe);
    }
    // Nobody takes a part for a pass.
    let mut child = tally(site.path(), &["-", "--fail-on", "missing"]);
    let pipe = child.stdin.take();
    wait_for(&child, "status", "SigCgt:", is_caught);
    signal(&child, "-INT");
    let (status, _, said) = end(child);
    assert_eq!(status, Some(2));
    assert!(said.contains("stopped before all was read: no limit of `--fail-on`"), "{said}");
    drop(pipe);
    // What is not all is not kept for later.
    let mut child = tally(site.path(), &["-", "--partial", "part"]);
    let mut pipe = child.stdin.take().unwrap();
    pipe.write_all(LINE.as_bytes()).unwrap();
    wait_for(&child, "status", "SigCgt:", is_caught);
    signal(&child, "-INT");
    let (status, _, said) = end(child);
    assert_eq!(status, Some(2));
    assert!(said.contains("stopped before all was read: `part` is not written"), "{said}");
    assert!(!site.path().join("part").exists());
    drop(pipe);
}

/// A file that is a pipe is read as far as it goes, once.
#[test]
fn what_another_program_writes_is_read_to_its_end() {
    let site = site();
    let pipe = site.path().join("pipe");
    assert!(Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let child = tally(site.path(), &["pipe"]);
    let mut writer = OpenOptions::new().write(true).open(&pipe).unwrap();
    for _ in 0..3 {
        writer.write_all(LINE.as_bytes()).unwrap();
        thread::sleep(Duration::from_millis(120));
    }
    drop(writer);
    let (status, told, said) = end(child);
    assert_eq!((status, told["requests"].as_u64(), said.as_str()), (Some(0), Some(3), ""));
    let mut rest = String::new();
    let mut child = tally(site.path(), &["pipe", "--range", "0+10"]);
    let writer = OpenOptions::new().write(true).open(&pipe).unwrap();
    child.stderr.take().unwrap().read_to_string(&mut rest).unwrap();
    drop(writer);
    assert_eq!(child.wait().unwrap().code(), Some(2));
    assert!(rest.contains("`pipe` is not a file: there are no ranges of it"), "{rest}");
}
