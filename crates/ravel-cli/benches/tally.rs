//! What a tally costs, beside a database that only extracts and counts the paths of the same log.
//!
//! `cargo bench -p ravel-cli --bench tally`; it needs Python with the package `duckdb`.

#[path = "../../ravel-traffic/examples/access_log.rs"]
#[allow(dead_code, reason = "an example has a main function")]
mod access_log;

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const LINES: u64 = 3_000_000;
const PATHS: u64 = 200_000;
const ROUNDS: usize = 7;

/// The faster of two extractions of the paths, with two threads, in seconds; importing it is not
/// counted.
const DATABASE: &str = r#"
import duckdb, sys, time
source = f"read_csv('{sys.argv[1]}', delim='\x01', header=false, quote='', escape='', columns={{'line': 'VARCHAR'}})"
extractions = ["split_part(line, '\"', 2)", "regexp_extract(line, '\"[A-Z]+ ([^ ]+)', 1)"]
best = None
for extract in extractions:
    database = duckdb.connect()
    database.execute("SET threads = 2")
    begun = time.perf_counter()
    rows = database.execute(f"SELECT {extract} AS path, count(*) FROM {source} GROUP BY path").fetchall()
    took = time.perf_counter() - begun
    best = took if best is None else min(best, took)
    assert len(rows) > 1
print(best)
"#;

/// Seconds, and the most memory that was resident, in KiB.
fn tally(site: &Path, log: &Path) -> (f64, u64) {
    let begun = Instant::now();
    let mut child = Command::new(env!("CARGO_BIN_EXE_ravel"))
        .args(["tally", "--json", "--threads", "2"])
        .arg(log)
        .current_dir(site)
        .stdout(Stdio::null())
        .spawn()
        .expect("ravel");
    let status = format!("/proc/{}/status", child.id());
    let mut most = 0;
    loop {
        if let Ok(text) = fs::read_to_string(&status) {
            let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
            let number = line.and_then(|line| line.trim().split(' ').next()?.parse().ok());
            most = most.max(number.unwrap_or(0));
        }
        if let Some(status) = child.try_wait().expect("a child") {
            assert!(status.success());
            return (begun.elapsed().as_secs_f64(), most);
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

fn database(log: &Path) -> Option<f64> {
    let told = Command::new("python3").args(["-c", DATABASE]).arg(log).output().ok()?;
    String::from_utf8(told.stdout).ok()?.trim().parse().ok()
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

fn main() {
    let site = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo/lantern-ferries");
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR"));
    let log = folder.join("large.log");
    let mut out = BufWriter::new(File::create(&log).expect("a log"));
    access_log::large(&mut out, LINES, PATHS).and_then(|()| out.flush()).expect("a log");
    drop(out);
    let bytes = fs::metadata(&log).expect("a log").len();
    println!("{LINES} lines of {PATHS} distinct paths, {} MB", bytes / 1_000_000);
    let (mut ours, mut theirs, mut memory) = (Vec::new(), Vec::new(), 0);
    for _ in 0..ROUNDS {
        let (took, most) = tally(&site, &log);
        ours.push(took);
        memory = memory.max(most);
        theirs.extend(database(&log));
    }
    let ours = median(ours);
    println!("tally {ours:.2} s, {} MiB resident at most", memory / 1024);
    match theirs.is_empty() {
        true => println!("no database: install `duckdb` for python3"),
        false => {
            let theirs = median(theirs);
            println!("database {theirs:.2} s; ratio {:.2}", ours / theirs);
        }
    }
    let _ = fs::remove_file(log);
}
