//! The binary and the demo site, as tests use them.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use tempfile::TempDir;

pub(crate) fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A folder of its own with the demo site in it.
pub(crate) fn demo() -> TempDir {
    let folder = TempDir::new().unwrap();
    copy(&repository().join("demo/lantern-ferries"), folder.path());
    folder
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let place = to.join(entry.file_name());
        match entry.file_type().unwrap().is_dir() {
            true => copy(&entry.path(), &place),
            false => drop(fs::copy(entry.path(), place).unwrap()),
        }
    }
}

/// A folder with these files in it.
pub(crate) fn folder(files: &[(&str, &str)]) -> TempDir {
    let folder = TempDir::new().unwrap();
    for (name, text) in files {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    folder
}

pub(crate) fn ravel(folder: &Path) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_ravel"));
    command.current_dir(folder).env_remove("CLICOLOR_FORCE").env_remove("COLUMNS");
    command
}

/// Runs `ravel` with these arguments and this standard input: its exit status, output and errors.
pub(crate) fn run(folder: &Path, arguments: &[&str], input: &str) -> (i32, String, String) {
    let mut command = ravel(folder);
    command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    // The command may end without reading.
    let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
    told(child.wait_with_output().unwrap())
}

fn told(output: Output) -> (i32, String, String) {
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

/// Every file of a folder, by its name.
pub(crate) fn contents(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    fn walk(folder: &Path, root: &Path, out: &mut BTreeMap<String, Vec<u8>>) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => walk(&path, root, out),
                false => drop(out.insert(
                    path.strip_prefix(root).unwrap().display().to_string(),
                    fs::read(&path).unwrap(),
                )),
            }
        }
    }
    let mut out = BTreeMap::new();
    walk(folder, folder, &mut out);
    out
}

/// Builds the site of a folder into a folder in it.
pub(crate) fn build(folder: &Path, kind: &str, out: &str) -> PathBuf {
    let (status, said, errors) = run(folder, &["build", "--as", kind, out], "");
    assert_eq!(status, 0, "{said}{errors}");
    folder.join(out)
}

/// A package of a registry, unpacked in a folder.
pub(crate) fn fetch(package: &str, folder: &Path) {
    let packed = Command::new("npm")
        .args(["pack", "--silent", package])
        .current_dir(folder)
        .output()
        .unwrap();
    assert!(packed.status.success(), "{package}: {}", String::from_utf8_lossy(&packed.stderr));
    let archive = String::from_utf8(packed.stdout).unwrap();
    let unpacked =
        Command::new("tar").args(["xzf", archive.trim()]).current_dir(folder).status().unwrap();
    assert!(unpacked.success());
}

/// What is wrong with a document by a schema, as Python's `jsonschema` finds it: a line an error.
pub(crate) fn schema_errors(schema: &str, document: &serde_json::Value) -> Vec<String> {
    const VALIDATE: &str = "import json, jsonschema, sys\n\
        schema, document = map(json.loads, sys.stdin)\n\
        kind = jsonschema.validators.validator_for(schema)\n\
        kind.check_schema(schema)\n\
        for error in kind(schema).iter_errors(document): print(error.json_path, repr(error.message))\n";
    let schema: serde_json::Value = serde_json::from_str(schema).unwrap();
    let mut python = Command::new("python3");
    python.args(["-c", VALIDATE]).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut python = python.spawn().expect("Python runs");
    write!(python.stdin.take().unwrap(), "{schema}\n{document}\n").unwrap();
    let output = python.wait_with_output().unwrap();
    assert!(output.status.success(), "it needs the package `jsonschema`");
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
}
