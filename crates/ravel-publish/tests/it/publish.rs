//! What is published decides as the library does, under Node, for random rules and addresses.

use std::cell::RefCell;
use std::io::Write;

use crate::sites::{
    FILES, Module, SHOWING, answer, readable, request, request_of, rule, runner, showing_request,
    site,
};
use flate2::{Compression, write::GzEncoder};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use ravel::{Edge, FileList, Rules};
use ravel_publish as publish;
use serde_json::{Value, json};

#[test]
#[ignore = "needs Node"]
fn the_module_decides_as_the_library_does() {
    let strategy =
        (site(), prop::collection::vec(rule(), 0..12), prop::collection::vec(request(), 32));
    let node = RefCell::new(Module::start());
    let result = runner(50).run(&strategy, |(site, rules, requests)| {
        let rules = readable(&site, &rules);
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let mut module = node.borrow_mut();
        module.reload(&publish::module(&publish::table(&edge))).unwrap();
        for request in requests {
            prop_assert_eq!(module.decide(&request), answer(&edge, &request), "{}", request);
        }
        Ok(())
    });
    result.unwrap_or_else(|error| panic!("{error}"));
}

#[test]
#[ignore = "needs Node"]
fn the_module_reads_texts_as_the_library_does() {
    let edge = Edge::new(&Rules::parse(SHOWING).unwrap(), FileList::from_iter(FILES));
    let module = RefCell::new(Module::new(&edge));
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
  const { decide } = await import(`./${name}/edge.mjs`);
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

/// The same of what they hand on of a storage that answers with the status of each request.
const HANDLE: &str = r#"
import { readFileSync, writeFileSync } from "node:fs";
const answers = [];
for (const [name, requests] of JSON.parse(readFileSync("requests.json", "utf8"))) {
  const { handle } = await import(`./${name}/fetch.mjs`);
  const of = [];
  for (const { method, url, headers, storage } of requests) {
    const told = { etag: '"1"', "cache-control": "private", "x-storage": "1", "content-type": "x/y" };
    const stored = () => new Response(storage === 304 ? null : "stored", { status: storage, headers: told });
    const response = await handle({ method, url, headers: new Headers(headers) }, stored);
    of.push(response && { status: response.status, headers: [...response.headers], body: await response.text() });
  }
  answers.push(of.map((one) => one ?? null));
}
writeFileSync("answers.json", JSON.stringify(answers));
"#;

/// Random sites with requests for each, and what a script under Node makes of them.
struct NodeRun {
    edges: Vec<Edge>,
    documents: Vec<Value>,
}

impl NodeRun {
    fn add(&mut self, rules: Rules, requests: Vec<Value>) {
        self.documents.push(serde_json::json!([format!("m{}", self.edges.len()), requests]));
        self.edges.push(Edge::new(&rules, FileList::from_iter(FILES)));
    }

    /// Some random sites, each with as many requests.
    fn draw(sites: usize, requests: usize, prepare: impl Fn(Value) -> Option<Value>) -> NodeRun {
        let mut run = NodeRun { edges: Vec::new(), documents: Vec::new() };
        let mut runner = runner(1);
        let rules = (site(), prop::collection::vec(rule(), 0..12));
        let request = request();
        for _ in 0..sites {
            let (site, rules) = rules.new_tree(&mut runner).unwrap().current();
            let asked = (0..requests).map(|_| request.new_tree(&mut runner).unwrap().current());
            let asked = asked.filter_map(&prepare).collect();
            run.add(readable(&site, &rules), asked);
        }
        run
    }

    /// Runs the script, and compares each of its answers.
    fn compare(self, script: &str, mut compare: impl FnMut(&Edge, &Value, &Value)) -> usize {
        let folder = tempfile::TempDir::new().unwrap();
        for (edge, document) in self.edges.iter().zip(&self.documents) {
            let place = folder.path().join(document[0].as_str().unwrap());
            std::fs::create_dir(&place).unwrap();
            let module = publish::module(&publish::table(edge));
            std::fs::write(place.join("edge.mjs"), module).unwrap();
            std::fs::write(place.join("fetch.mjs"), publish::FETCH).unwrap();
        }
        let documents = serde_json::to_string(&self.documents).unwrap();
        std::fs::write(folder.path().join("requests.json"), documents).unwrap();
        std::fs::write(folder.path().join("ask.mjs"), script).unwrap();
        let mut node = std::process::Command::new("node");
        assert!(node.arg("ask.mjs").current_dir(&folder).status().expect("Node runs").success());
        let answers = std::fs::read(folder.path().join("answers.json")).unwrap();
        let answers: Vec<Vec<Value>> = serde_json::from_slice(&answers).unwrap();
        let mut compared = 0;
        for ((edge, document), answers) in self.edges.iter().zip(&self.documents).zip(&answers) {
            for (request, theirs) in document[1].as_array().unwrap().iter().zip(answers) {
                compare(edge, request, theirs);
                compared += 1;
            }
        }
        compared
    }
}

#[test]
#[ignore = "needs Node"]
fn the_module_decides_as_the_library_does_under_node() {
    let mut run = NodeRun::draw(500, 150, Some);
    let mut runner = runner(1);
    let showing = showing_request();
    let showing = (0..30_000).map(|_| showing.new_tree(&mut runner).unwrap().current());
    run.add(Rules::parse(SHOWING).unwrap(), showing.collect());
    let compared = run.compare(ASK, |edge, request, theirs| {
        assert_eq!(*theirs, answer(edge, request), "{request}");
    });
    assert_eq!(compared, 105_000);
}

/// A request as runtimes have it, with what storage will say; none that no client can send.
fn sent(request: Value) -> Option<Value> {
    let text = |name: &str| request[name].as_str().unwrap();
    let url = format!("{}://{}{}", text("scheme"), text("host"), text("target"));
    let url = url::Url::parse(&url).ok()?;
    let has_host = request["headers"].as_array().unwrap().iter().any(|pair| pair[0] == "host");
    let storage = [200, 206, 304, 404, 500][url.as_str().len() % 5];
    let sent = serde_json::json!({ "method": text("method"), "url": url.as_str(), "headers": request["headers"], "storage": storage });
    (!has_host).then_some(sent)
}

/// A status, headers, and a body.
type Handled = (u16, Vec<(String, String)>, String);

/// What the library answers to it, and what storage adds.
fn handled(edge: &Edge, request: &Value) -> Option<Handled> {
    let url = url::Url::parse(request["url"].as_str().unwrap()).unwrap();
    let host = &url[url::Position::BeforeHost..url::Position::AfterPort];
    let target = &url[url::Position::BeforePath..url::Position::AfterQuery];
    let asked = serde_json::json!({ "method": request["method"], "scheme": url.scheme(), "host": host, "target": target, "headers": request["headers"] });
    let decided = edge.answer(&request_of(&asked)).clone();
    let (status, storage) = (decided.status()?, request["storage"].as_u64().unwrap() as u16);
    let rules =
        decided.headers().iter().map(|line| (line.name().to_owned(), line.value().to_owned()));
    let mut headers: Vec<(String, String)> = rules.collect();
    let etag = ("etag".to_owned(), "\"1\"".to_owned());
    let (mut end, mut body) = (status, "stored".to_owned());
    match (decided.file(), status, storage) {
        (None, ..) => body = decided.body().to_owned(),
        (Some(_), 200, 200 | 206 | 304) => {
            headers.push(etag);
            end = storage;
        }
        (Some(_), 200, _) => {
            let told = [("cache-control", "private"), ("content-type", "x/y"), ("x-storage", "1")];
            headers = told.map(|(name, value)| (name.to_owned(), value.to_owned())).into();
            headers.push(etag);
            end = storage;
        }
        (Some(_), _, 200) => headers.push(etag),
        (Some(_), ..) => {
            headers.retain(|(name, _)| name != "content-type");
            headers.push(("content-type".to_owned(), "text/plain; charset=utf-8".to_owned()));
            body = ravel::edge::BODIES.iter().find(|(of, _)| *of == status).unwrap().1.to_owned();
        }
    }
    if request["method"] == "HEAD" || end == 304 {
        body.clear();
    }
    Some((end, headers, body))
}

/// Whatever storage says, a visitor gets it with the headers that the rules have for it.
#[test]
#[ignore = "needs Node"]
fn the_handler_hands_on_what_the_library_and_storage_say() {
    let run = NodeRun::draw(300, 60, sent);
    let compared = run.compare(HANDLE, |edge, request, theirs| {
        let Some((status, headers, body)) = handled(edge, request) else {
            assert!(theirs.is_null(), "{request}");
            return;
        };
        assert_eq!(
            (&theirs["status"], &theirs["body"]),
            (&status.into(), &body.into()),
            "{request}"
        );
        // As a `Headers` lists them: sorted, lines of one name joined.
        let mut joined = std::collections::BTreeMap::<String, String>::new();
        for (name, value) in headers {
            joined
                .entry(name)
                .and_modify(|known| *known = format!("{known}, {value}"))
                .or_insert(value);
        }
        let wanted: Vec<Value> =
            joined.into_iter().map(|(name, value)| serde_json::json!([name, value])).collect();
        assert_eq!(theirs["headers"], Value::from(wanted), "{request}");
    });
    assert!(compared > 8_000, "{compared}");
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
    assert!(size <= 8192, "{size} bytes");
}

/// A table that says what the module does not know is refused when it is loaded.
#[test]
#[ignore = "needs Node"]
fn what_is_not_known_throws_at_load() {
    let rules = Rules::parse(
        "site https://h.example/\n  alias w.example\n  languages en, de\nredirect /plain -> /b\n\
         redirect /a/{x}?k={k}&l=1 -> /{x}\n  where x is one of a, b\n  when cookie c is 1\n  when language is de\n\
         headers /a/{x}\n  where x matches \"a\"\n  when header x-h contains b\n  set x-a: 1\nfallback /f{/x*} -> /b\n",
    )
    .unwrap();
    let table = publish::table(&Edge::new(&rules, FileList::from_iter(["b.html"])));
    let mut node = Module::start();
    let mut loads = |table: &Value| node.reload(&publish::module(table)).is_ok();
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

/// What each kind of rule is in the table: from where, with which tests, to where.
#[test]
fn rules_are_these_documents() {
    let cases: &[(&str, &str, Value)] = &[
        ("redirect /a -> /b", "/stages/redirects/rules/0", json!(["/a", "/b", 302])),
        (
            "redirect /a?k={k} -> https://away.example/{k}#f 307\n  where k is one of 1",
            "/stages/redirects/rules/0",
            json!({"do":"redirect","path":"/a","query":[["k","capture"]],"status":307,"tests":[[0,"capture",0,"one of",["1"]]],"to":{"fragment":"f","host":"away.example","path":["/",0],"scheme":"https"}}),
        ),
        (
            "redirect /a/{x} -> /b/{x} permanent drop query\n  when cookie c is 1",
            "/stages/redirects/rules/0",
            json!({"do":"redirect","drop":true,"path":["/a/",0],"status":301,"tests":[[0,"cookie","c","one of",["1"]]],"to":{"path":["/b/",0]}}),
        ),
        (
            "gone /a{/x*}\n  when not header x-h contains v",
            "/stages/redirects/rules/0",
            json!({"do":"gone","path":["/a",2],"tests":[[1,"header","x-h","contains","v"]]}),
        ),
        (
            "elsewhere /a/{+x} \"them\"\n  when language is de",
            "/stages/redirects/rules/0",
            json!({"do":"elsewhere","path":["/a/",1],"tests":[[0,"language","accept-language","one of",["de"]]]}),
        ),
        (
            "rewrite /a -> /b\n  when method is GET",
            "/stages/rewrites/rules/0",
            json!({"do":"rewrite","path":"/a","tests":[[0,"method",null,"one of",["GET"]]],"to":{"path":"/b"}}),
        ),
        (
            "fallback /a{/x*} -> /b even files",
            "/stages/fallbacks/rules/0",
            json!({"do":"fallback even files","path":["/a",2],"to":{"path":"/b"}}),
        ),
        (
            "missing /a{/x*} -> /404.html",
            "/stages/missing/rules/0",
            json!({"do":"missing","path":["/a",2],"to":{"path":"/404.html"}}),
        ),
        (
            "headers /a on all type text/html\n  set x-a: 1\n  add x-b: 2\n  drop x-c",
            "/stages/headers/rules/0",
            json!({"do":"headers","on":"all","ops":[["set","x-a","1"],["add","x-b","2"],["drop","x-c"]],"path":"/a","tests":[[0,"type",null,"one of",["text/html"]]]}),
        ),
        (
            "redirect https://{l}.p.example/{x} -> /{x}",
            "/stages/redirects/rules/0",
            json!({"do":"redirect","host":"p.example","label":true,"path":["/",0],"schemes":["http","https"],"status":302,"to":{"path":["/",1]}}),
        ),
    ];
    for (rule, place, expected) in cases {
        let site = "site https://h.example/\n  preview *.p.example\n  languages en, de\n";
        let rules = Rules::parse(&format!("{site}{rule}\n")).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(["b.html", "404.html"]));
        let table = publish::table(&edge);
        assert_eq!(table.pointer(place), Some(expected), "{rule}: {table}");
    }
}
