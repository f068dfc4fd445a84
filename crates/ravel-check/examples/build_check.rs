//! The end of a build script: the build fails when an expectation of the rules fails.
//!
//! `build_check RULES FOLDER` reads a rules file and the folder of built files; without arguments,
//! the demo site's.

use std::fs;
use std::path::Path;
use std::process::ExitCode;

use ravel::{Edge, FileList, Rules};

fn main() -> ExitCode {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/lantern-ferries");
    let mut arguments = std::env::args().skip(1).map(std::path::PathBuf::from);
    let rules = arguments.next().unwrap_or_else(|| demo.join("edge.ravel"));
    let folder = arguments.next().unwrap_or_else(|| demo.join("dist"));
    match failed_expectations(&rules, &folder) {
        Ok(0) => ExitCode::SUCCESS,
        Ok(_) => ExitCode::FAILURE,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::from(2)
        }
    }
}

fn failed_expectations(path: &Path, folder: &Path) -> Result<usize, Box<dyn std::error::Error>> {
    let text = fs::read_to_string(path)?;
    let beside = path.parent().unwrap_or(Path::new("."));
    let rules = Rules::parse_with(&text, |name| fs::read(beside.join(name)))?;
    let mut names = Vec::new();
    list(folder, "", &mut names)?;
    let edge = Edge::new(&rules, FileList::from_iter(names));
    let mut failed = 0;
    for verdict in ravel_check::verify_all(&edge) {
        for failure in verdict.failures() {
            failed += 1;
            println!(
                "line {}: {} {}, but {}",
                verdict.line().number(),
                verdict.asked(),
                failure.expected(),
                failure.got()
            );
        }
    }
    println!("{} expectations, {failed} failed", rules.expectations().len());
    Ok(failed)
}

fn list(folder: &Path, prefix: &str, names: &mut Vec<String>) -> std::io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let name = format!("{prefix}{}", entry.file_name().to_string_lossy());
        match entry.file_type()?.is_dir() {
            true => list(&entry.path(), &format!("{name}/"), names)?,
            false => names.push(name),
        }
    }
    Ok(())
}
