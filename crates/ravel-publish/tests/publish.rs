//! What is published decides as the library does, in a JavaScript engine, for random rules and
//! addresses.

mod sites;

use std::io::Write;

use boa_engine::{Context, JsString, JsValue, Source, js_string};
use flate2::{Compression, write::GzEncoder};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use ravel::{Edge, FileList, Rules};
use ravel_publish as publish;
use serde_json::Value;
use sites::{FILES, SHOWING, answer, readable, request, rule, showing_request, site};

/// The module in an engine.
struct Module(Context);

impl Module {
    fn new(edge: &Edge) -> Module {
        let text = publish::module(&publish::table(edge)).replace("\nexport ", "\n");
        let mut context = Context::default();
        context.eval(Source::from_bytes(text.as_bytes())).unwrap_or_else(|error| panic!("{error}"));
        Module(context)
    }

    fn decide(&mut self, request: &Value) -> Value {
        let global = self.0.global_object();
        let text = JsValue::from(JsString::from(request.to_string().as_str()));
        global.set(js_string!("asked"), text, true, &mut self.0).unwrap();
        let answer = self.0.eval(Source::from_bytes("JSON.stringify(decide(JSON.parse(asked)))"));
        let answer = answer.unwrap_or_else(|error| panic!("{error}: {request}"));
        serde_json::from_str(&answer.as_string().unwrap().to_std_string().unwrap()).unwrap()
    }
}

/// A runner that tries the same cases every time.
fn runner(cases: u32) -> TestRunner {
    let config =
        Config { cases, failure_persistence: None, max_shrink_iters: 400, ..Config::default() };
    let rng = proptest::test_runner::TestRng::deterministic_rng(
        proptest::test_runner::RngAlgorithm::ChaCha,
    );
    TestRunner::new_with_rng(config, rng)
}

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

#[test]
fn pages_stand_where_file_servers_show_them() {
    let cases: &[(&str, &str)] = &[
        ("/summer", "summer/index.html"),
        ("/summer/", "summer/index.html"),
        ("/a/b.html", "a/b.html"),
        ("/caf%C3%A9", "caf\u{e9}/index.html"),
        ("/two%20words", "two words/index.html"),
        ("/__proto__", "__proto__/index.html"),
        // What is sent as another type, is no name of a file, or would be hidden is left to the
        // missing page.
        ("/old.php", ""),
        ("/data.json", ""),
        ("/a%2Fb", ""),
        ("/a//b", ""),
        ("/.hidden", ""),
        ("/bad%FF", ""),
        // A file stands where a folder would have to be, or a folder where the file would.
        ("/plain/more", ""),
        ("/folder.html", ""),
    ];
    for (path, expected) in cases {
        let rules =
            Rules::parse(&format!("site https://h.example/\nredirect {path} -> /\n")).unwrap();
        let edge =
            Edge::new(&rules, FileList::from_iter(["index.html", "plain", "folder.html/x.txt"]));
        let published = publish::files(&edge, &publish::table(&edge), None);
        let pages: Vec<&str> = published
            .pages()
            .keys()
            .map(String::as_str)
            .filter(|name| *name != "404.html")
            .collect();
        let expected: Vec<&str> =
            Some(*expected).filter(|name| !name.is_empty()).into_iter().collect();
        assert_eq!(pages, expected, "{path}");
        assert_eq!(published.limits()[0].exactness(), publish::Exactness::Near, "{path}");
    }
}

#[test]
fn what_a_script_can_not_see_is_not_promised() {
    let rules = Rules::parse(
        "site https://h.example/\n  languages en, de\nredirect /a{/r*} -> /b\n  when header x-a\nredirect /b{/r*} -> /c\n  when cookie c\n\
         redirect /c{/r*} -> /d\n  when not method is POST\nfallback /app -> /shell\nfallback /deep{/r*} -> /shell\nrewrite /w{/r*} -> /shell\nrewrite /v -> /shell\n",
    )
    .unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "shell.html", "d.html"]));
    let published = publish::files(
        &edge,
        &publish::table(&edge),
        Some("<!DOCTYPE html><HTML><HEAD lang=en><title>x</title>"),
    );
    let done: Vec<(&str, &str)> = published.limits()[1..]
        .iter()
        .map(|limit| (limit.what(), limit.exactness().name()))
        .collect();
    assert_eq!(
        done,
        [
            ("redirect /a{/r*} -> /b", "not"),
            ("redirect /b{/r*} -> /c", "nearly"),
            ("redirect /c{/r*} -> /d", "not"),
            ("fallback /app -> /shell", "exactly"),
            ("fallback /deep{/r*} -> /shell", "nearly"),
            ("rewrite /w{/r*} -> /shell", "nearly"),
            ("rewrite /v -> /shell", "exactly"),
        ]
    );
    assert_eq!(published.pages()["app/index.html"], publish::Page::Copy("shell.html".into()));
    let publish::Page::Text(missing) = &published.pages()["404.html"] else { panic!() };
    assert!(
        missing
            .starts_with("<!DOCTYPE html><HTML><HEAD lang=en><meta charset=\"utf-8\">\n<script>")
            && missing.ends_with("<title>x</title>")
    );
}
