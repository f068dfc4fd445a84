//! The module under Node.

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use ravel::Edge;
use ravel_publish as publish;
use serde_json::{Value, json};

/// Reads lines: a module to load, or a request to decide; writes a line for each.
const ANSWER: &str = r#"
let decide;
require("node:readline").createInterface({ input: process.stdin }).on("line", (line) => {
  const { load, asked } = JSON.parse(line);
  try {
    if (load !== undefined) decide = new Function(`"use strict";${load}\nreturn decide;`)();
    console.log(JSON.stringify({ answer: load === undefined ? decide(asked) : null }));
  } catch (error) {
    console.log(JSON.stringify({ error: String(error) }));
  }
});
"#;

/// A module that is loaded.
pub(crate) struct Module {
    node: Child,
    lines: ChildStdin,
    answers: BufReader<ChildStdout>,
}

impl Module {
    pub(crate) fn new(edge: &Edge) -> Module {
        let mut module = Module::start();
        module.reload(&publish::module(&publish::table(edge))).unwrap();
        module
    }

    /// Node with no module yet.
    pub(crate) fn start() -> Module {
        let mut node = Command::new("node");
        node.args(["-e", ANSWER]).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut node = node.spawn().expect("Node runs");
        let (lines, answers) = (node.stdin.take().unwrap(), node.stdout.take().unwrap());
        Module { node, lines, answers: BufReader::new(answers) }
    }

    /// Loads a module in place of the one that is there; an error is what it throws.
    pub(crate) fn reload(&mut self, text: &str) -> Result<(), Value> {
        self.tell(&json!({ "load": text.replace("\nexport ", "\n") })).map(drop)
    }

    fn tell(&mut self, line: &Value) -> Result<Value, Value> {
        writeln!(self.lines, "{line}").unwrap();
        let mut told = String::new();
        self.answers.read_line(&mut told).unwrap();
        let told: Value = serde_json::from_str(&told).unwrap();
        told.get("answer").cloned().ok_or(told)
    }

    pub(crate) fn decide(&mut self, request: &Value) -> Value {
        let told = self.tell(&json!({ "asked": request }));
        told.unwrap_or_else(|error| panic!("{error}: {request}"))
    }
}

impl Drop for Module {
    fn drop(&mut self) {
        let _ = self.node.kill();
        let _ = self.node.wait();
    }
}
