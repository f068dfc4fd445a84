//! A tally on Apache Spark is what one process counts, to the byte, also where an executor is killed
//! in the middle.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{demo, repository, run};

/// The processes of which the command line has a text.
fn processes(text: &str) -> Vec<String> {
    let entries = fs::read_dir("/proc").unwrap().filter_map(Result::ok);
    let found = entries.filter(|entry| {
        fs::read(entry.path().join("cmdline"))
            .is_ok_and(|line| String::from_utf8_lossy(&line).contains(text))
    });
    let numbers = found.map(|entry| entry.file_name().into_string().unwrap());
    numbers.filter(|name| name.bytes().all(|byte| byte.is_ascii_digit())).collect()
}

fn count(folder: &Path) -> usize {
    fs::read_dir(folder).unwrap().count()
}

#[test]
#[ignore = "installs Spark with pip, and needs Java"]
fn an_executor_that_is_killed_loses_nothing() {
    let demo = demo();
    let site = demo.path();
    let mut log = Vec::new();
    let packed = fs::File::open(site.join("access.log.gz")).unwrap();
    std::io::copy(&mut flate2::read::GzDecoder::new(packed), &mut log).unwrap();
    fs::write(site.join("access.log"), &log).unwrap();
    let python = site.join("python");
    let made = Command::new("python3").args(["-m", "venv"]).arg(&python).status().unwrap();
    assert!(made.success());
    let mut install = Command::new(python.join("bin/pip"));
    assert!(install.args(["install", "--quiet", "pyspark==4.3.0"]).status().unwrap().success());
    // What is counted takes a while, and leaves a mark.
    let marks = site.join("marks");
    fs::create_dir(&marks).unwrap();
    let slow = site.join("slow");
    let script = format!(
        "#!/bin/sh\nmktemp {}/XXXXXX > /dev/null\nsleep 2\nexec {} \"$@\"\n",
        marks.display(),
        env!("CARGO_BIN_EXE_ravel")
    );
    fs::write(&slow, script).unwrap();
    fs::set_permissions(&slow, fs::Permissions::from_mode(0o755)).unwrap();
    let path = std::env::var("PATH").unwrap_or_default();
    let mut cluster = Command::new(python.join("bin/spark-submit"))
        .args(["--master", "local-cluster[2,1,1024]"])
        .arg(repository().join("integrations/spark/tally.py"))
        .args(["--ravel", slow.to_str().unwrap(), "--partial", "cluster.tally"])
        .args(["--part", "500000", "access.log", "access.log.gz"])
        .current_dir(site)
        .env("PATH", format!("{}:{path}", python.join("bin").display()))
        .env("PYSPARK_PYTHON", python.join("bin/python"))
        .env("SPARK_LOCAL_IP", "127.0.0.1")
        .stdout(Stdio::null())
        .stderr(Stdio::from(fs::File::create(site.join("errors")).unwrap()))
        .spawn()
        .unwrap();
    // Both executors are there, and some parts are counted: then one of them is killed.
    let start = Instant::now();
    let executors = loop {
        assert!(start.elapsed() < Duration::from_secs(240), "no executors");
        assert!(cluster.try_wait().unwrap().is_none(), "{}", said(site));
        let found = processes("CoarseGrainedExecutorBackend");
        if found.len() >= 2 && count(&marks) >= 4 {
            break found;
        }
        std::thread::sleep(Duration::from_millis(50));
    };
    let killed = Command::new("kill").args(["-9", &executors[0]]).status().unwrap();
    assert!(killed.success());
    assert!(cluster.wait().unwrap().success(), "{}", said(site));
    let errors = fs::read_to_string(site.join("errors")).unwrap();
    assert!(errors.contains("Lost executor"), "{}", said(site));
    let (status, _, errors) =
        run(site, &["tally", "access.log", "access.log.gz", "--partial", "one.tally"], "");
    assert_eq!((status, errors.as_str()), (0, ""));
    let both = ["cluster.tally", "one.tally"].map(|name| fs::read(site.join(name)).unwrap());
    assert!(both[0] == both[1], "they are not the same");
    let (_, out, _) = run(site, &["tally", "--merge", "cluster.tally"], "");
    assert!(out.starts_with("39 804 requests of 50 URLs"), "{out}");
}

fn said(site: &Path) -> String {
    let all = fs::read_to_string(site.join("errors")).unwrap();
    let lines: Vec<&str> = all.lines().collect();
    lines[lines.len().saturating_sub(40)..].join("\n")
}
