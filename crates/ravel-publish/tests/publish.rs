//! What is published decides as the library does, in a JavaScript engine, for random rules and
//! addresses.

mod sites;

use std::io::Write;

use boa_engine::{Context, Source};
use flate2::{Compression, write::GzEncoder};
use proptest::prelude::*;
use ravel::{Edge, FileList, Rules};
use ravel_publish as publish;
use serde_json::Value;
use sites::{
    FILES, Module, SHOWING, answer, readable, request, rule, runner, showing_request, site,
};

#[test]
fn the_module_decides_as_the_library_does() {
    let strategy =
        (site(), prop::collection::vec(rule(), 0..12), prop::collection::vec(request(), 32));
    let result = runner(50).run(&strategy, |(site, rules, requests)| {
        let rules = readable(&site, &rules);
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let mut module = Module::new(&edge);
        for request in requests {
            prop_assert_eq!(module.decide(&request), answer(&edge, &request), "{}", request);
        }
        Ok(())
    });
    result.unwrap_or_else(|error| panic!("{error}"));
}

#[test]
fn the_module_reads_texts_as_the_library_does() {
    let edge = Edge::new(&Rules::parse(SHOWING).unwrap(), FileList::from_iter(FILES));
    let module = std::cell::RefCell::new(Module::new(&edge));
    let result = runner(600).run(&showing_request(), |request| {
        prop_assert_eq!(
            module.borrow_mut().decide(&request),
            answer(&edge, &request),
            "{}",
            request
        );
        Ok(())
    });
    result.unwrap_or_else(|error| panic!("{error}"));
}

/// Reads modules with their requests, and writes what they decide; a location that Node's own
/// parser would change is an error.
const ASK: &str = r#"
import { readFileSync, writeFileSync } from "node:fs";
const answers = [];
for (const [name, requests] of JSON.parse(readFileSync("requests.json", "utf8"))) {
  const { decide } = await import(`./${name}.mjs`);
  answers.push(requests.map((request) => {
    const answer = decide(request);
    const location = answer.headers.find(([name]) => name === "location")?.[1];
    const sent = URL.canParse(`http://${request.host}/`);
    if (sent && location !== undefined && new URL(location).href !== location) throw new Error(JSON.stringify([request, location]));
    return answer;
  }));
}
writeFileSync("answers.json", JSON.stringify(answers));
"#;

#[test]
#[ignore = "needs Node"]
fn the_module_decides_as_the_library_does_under_node() {
    let mut runner = runner(1);
    let folder = std::env::temp_dir().join(format!("ravel-node-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let mut edges = Vec::new();
    let mut documents = Vec::new();
    let mut add = |rules: Rules, requests: Vec<Value>| {
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let name = format!("m{}", edges.len());
        std::fs::write(folder.join(format!("{name}.mjs")), publish::module(&publish::table(&edge)))
            .unwrap();
        documents.push(serde_json::json!([name, requests]));
        edges.push(edge);
    };
    let mut draw = |strategy: BoxedStrategy<Value>, count| -> Vec<Value> {
        use proptest::strategy::ValueTree;
        (0..count).map(|_| strategy.new_tree(&mut runner).unwrap().current()).collect()
    };
    let rules = (site(), prop::collection::vec(rule(), 0..12))
        .prop_map(|(site, rules)| serde_json::json!([site, rules]))
        .boxed();
    for rules in draw(rules, 500) {
        let texts: Vec<String> = rules[1]
            .as_array()
            .unwrap()
            .iter()
            .map(|rule| rule.as_str().unwrap().to_owned())
            .collect();
        add(readable(rules[0].as_str().unwrap(), &texts), draw(request().boxed(), 150));
    }
    add(Rules::parse(SHOWING).unwrap(), draw(showing_request().boxed(), 30_000));
    std::fs::write(folder.join("requests.json"), serde_json::to_string(&documents).unwrap())
        .unwrap();
    std::fs::write(folder.join("ask.mjs"), ASK).unwrap();
    let status = std::process::Command::new("node")
        .arg("ask.mjs")
        .current_dir(&folder)
        .status()
        .expect("Node runs");
    assert!(status.success());
    let answers: Vec<Vec<Value>> =
        serde_json::from_slice(&std::fs::read(folder.join("answers.json")).unwrap()).unwrap();
    let mut compared = 0;
    for ((edge, document), answers) in edges.iter().zip(&documents).zip(&answers) {
        for (request, theirs) in document[1].as_array().unwrap().iter().zip(answers) {
            assert_eq!(*theirs, answer(edge, request), "{request}");
            compared += 1;
        }
    }
    assert_eq!(compared, 105_000);
    std::fs::remove_dir_all(&folder).unwrap();
}

/// What is published besides the table can be read by people.
#[test]
fn the_interpreter_is_small() {
    let edge = Edge::new(&Rules::parse("site https://h.example/\n").unwrap(), FileList::default());
    let module = publish::module(&publish::table(&edge));
    let interpreter: Vec<&str> =
        module.lines().filter(|line| !line.starts_with("const table = ")).collect();
    let widest = interpreter.iter().map(|line| line.chars().count()).max();
    assert!(
        interpreter.len() <= 550 && widest <= Some(100),
        "{} lines of {widest:?} columns",
        interpreter.len()
    );
    let mut gzip = GzEncoder::new(Vec::new(), Compression::best());
    gzip.write_all(interpreter.join("\n").as_bytes()).unwrap();
    let size = gzip.finish().unwrap().len();
    assert!(size <= 8000, "{size} bytes");
}

/// A table that says what the module does not know is refused when it is loaded.
#[test]
fn what_is_not_known_throws_at_load() {
    let rules = Rules::parse(
        "site https://h.example/\n  alias w.example\n  languages en, de\nredirect /plain -> /b\n\
         redirect /a/{x}?k={k}&l=1 -> /{x}\n  where x is one of a, b\n  when cookie c is 1\n  when language is de\n\
         headers /a/{x}\n  where x matches \"a\"\n  when header x-h contains b\n  set x-a: 1\nfallback /f{/x*} -> /b\n",
    )
    .unwrap();
    let table = publish::table(&Edge::new(&rules, FileList::from_iter(["b.html"])));
    let loads = |table: &Value| {
        let text = publish::module(table).replace("\nexport ", "\n");
        Context::default().eval(Source::from_bytes(text.as_bytes())).is_ok()
    };
    assert!(loads(&table));
    let changes: [(&str, Value); 14] = [
        ("/version", 1.into()),
        ("/hosts/w.example/0/0", "mirror".into()),
        ("/addresses/0/2", 7.into()),
        ("/stages/redirects/rules/0/2", "302".into()),
        ("/stages/redirects/rules/1/do", "rewrite".into()),
        ("/stages/redirects/rules/1/path/1", 3.into()),
        ("/stages/redirects/rules/1/query/0/1", "equals".into()),
        ("/stages/redirects/rules/1/tests/0/1", "country".into()),
        ("/stages/redirects/rules/1/tests/0/3", "like".into()),
        ("/stages/redirects/rules/1/tests/2/0", 2.into()),
        ("/stages/redirects/rules/1/tests/1/3", "like".into()),
        ("/stages/headers/rules/0/on", "errors".into()),
        ("/stages/headers/rules/0/ops/0/0", "merge".into()),
        ("/stages/fallbacks/rules/0/do", "fallback to app".into()),
    ];
    for (place, value) in changes {
        let mut changed = table.clone();
        // The third of an address is left out where it is 0.
        if place == "/addresses/0/2" {
            changed["addresses"][0].as_array_mut().unwrap().truncate(2);
            changed["addresses"][0].as_array_mut().unwrap().push(0.into());
        }
        let known = changed.pointer_mut(place).unwrap_or_else(|| panic!("{place} in {table}"));
        *known = value;
        assert!(!loads(&changed), "{place}");
    }
    let mut more = table.clone();
    more["stages"]["proxies"] = more["stages"]["missing"].clone();
    assert!(!loads(&more));
}
