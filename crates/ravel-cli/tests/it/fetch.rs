//! The published module under Node: what storage says reaches the visitor, and what `decide` takes.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::common::{build, demo, repository};
use serde_json::{Value, json};

/// Runs a script beside the module; what it prints is JSON.
fn node(folder: &Path, script: &str) -> Value {
    fs::write(folder.join("script.mjs"), script).unwrap();
    let output = Command::new("node").arg("script.mjs").current_dir(folder).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Asks `handle` for a path, with a method and a range, of a storage that says a status with header
/// fields.
const HANDLED: &str = "
import { handle } from './fetch.mjs';
const out = [];
for (const [method, path, sent, status, said] of CASES) {
  let asked;
  const storage = (name, request) => {
    asked = [name, request?.headers.get('range') ?? null];
    if (status === null) return null;
    return new Response(status === 304 ? null : 'bytes', { status, headers: said });
  };
  const request = new Request('https://lanternferries.example' + path, { method, headers: sent });
  const response = await handle(request, storage);
  const shown = ['etag', 'content-range', 'cache-control', 'content-type', 'vary'].map((name) => response.headers.get(name));
  out.push({ status: response.status, body: await response.text(), shown, asked: asked ?? null });
}
console.log(JSON.stringify(out));
";

#[test]
#[ignore = "needs Node"]
fn what_storage_says_stays_what_it_is() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    let range = json!({ "range": "bytes=0-4" });
    let cases = json!([
        ["GET", "/about", {}, 200, { "etag": "\"1\"", "cache-control": "immutable" }],
        ["HEAD", "/about", {}, 200, { "etag": "\"1\"" }],
        ["GET", "/about", range, 206, { "content-range": "bytes 0-4/9", "vary": "accept-encoding" }],
        ["GET", "/about", {}, 304, { "etag": "\"1\"" }],
        ["GET", "/about", {}, 404, { "content-type": "text/x-storage" }],
        ["GET", "/about", {}, 500, { "cache-control": "no-store" }],
        ["HEAD", "/about", {}, 500, {}],
        ["GET", "/nowhere", range, 200, { "etag": "\"2\"" }],
        ["GET", "/nowhere", {}, 500, {}],
        ["GET", "/summer", {}, 500, {}],
        ["GET", "/about", {}, null, {}],
        ["GET", "/nowhere", {}, null, {}],
    ]);
    let found = node(&out, &HANDLED.replace("CASES", &cases.to_string()));
    let told = |number: usize| {
        let answer = &found[number];
        (
            answer["status"].as_u64().unwrap(),
            answer["body"].as_str().unwrap(),
            answer["asked"].clone(),
        )
    };
    let html = json!("text/html; charset=utf-8");
    let page = json!(["about.html", null]);
    let header = |number: usize, at: usize| found[number]["shown"][at].clone();
    assert_eq!(told(0), (200, "bytes", page.clone()));
    // The rules say how long a file is kept, whatever storage says.
    assert_eq!(
        [header(0, 0), header(0, 2), header(0, 3)],
        [json!("\"1\""), json!("no-cache"), html.clone()]
    );
    assert_eq!(told(1), (200, "", page.clone()));
    assert_eq!(told(2), (206, "bytes", json!(["about.html", "bytes=0-4"])));
    assert_eq!(header(2, 1), "bytes 0-4/9");
    assert!(header(2, 4).as_str().unwrap().contains("accept-encoding"));
    assert_eq!(told(3), (304, "", page.clone()));
    assert_eq!([header(3, 0), header(3, 2)], [json!("\"1\""), json!("no-cache")]);
    // An error of storage is passed on, without what the rules say of the file.
    assert_eq!(told(4), (404, "bytes", page.clone()));
    assert_eq!([header(4, 2), header(4, 3)], [Value::Null, json!("text/x-storage")]);
    assert_eq!(told(5), (500, "bytes", page.clone()));
    assert_eq!(header(5, 2), "no-store");
    assert_eq!(told(6), (500, "", page));
    // The 404 page is wanted whole; where storage has none, there is a line of text.
    assert_eq!(told(7), (404, "bytes", json!(["404.html", null])));
    assert_eq!(header(7, 3), html);
    let (status, body, asked) = told(8);
    assert_eq!((status, asked), (404, json!(["404.html", null])));
    assert!(!body.is_empty() && body != "bytes", "{body}");
    assert_eq!(header(8, 3), "text/plain; charset=utf-8");
    assert_eq!((told(9).0, told(9).2), (302, Value::Null));
    // Storage that gives nothing has no such file.
    for number in [10, 11] {
        let (status, body, _) = told(number);
        assert!(status == 404 && !body.is_empty(), "{status} {body}");
        assert_eq!(header(number, 3), "text/plain; charset=utf-8");
    }
}

const TAKEN: &str = "
import { decide } from './edge.mjs';
const of = (more) => {
  try {
    return decide({ method: 'GET', scheme: 'https', host: 'lanternferries.example', target: '/about', headers: [], ...more }).status;
  } catch (error) {
    return error instanceof TypeError ? error.message.split(' ')[0] : String(error);
  }
};
const host = 'lanternferries.example';
console.log(JSON.stringify([
  of({}), of({ scheme: 'https:' }), of({ headers: undefined }), of({ headers: null }),
  of({ headers: new Headers({ host }) }), of({ headers: new Map([['host', host]]) }), of({ headers: { host } }),
  of({ headers: { Host: [host], cookie: ['a=1', 'b=2'], other: undefined } }), of({ headers: { host: [host, 'other.example'] } }),
  of({ scheme: 'ftp' }), of({ scheme: undefined }), of({ method: 7 }), of({ host: undefined }), of({ target: null }),
  of({ headers: 'host: a' }), of({ headers: ['host'] }), of({ headers: [['host', 7]] }), of({ headers: { host: 7 } }),
]));
";

#[test]
#[ignore = "needs Node"]
fn decide_takes_what_servers_have_and_names_what_it_cannot_take() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    let good = json!([200, 200, 200, 200, 200, 200, 200, 200, 400]);
    let wrong = json!([
        "scheme", "scheme", "method", "host", "target", "headers", "headers", "headers", "headers"
    ]);
    let found = node(&out, TAKEN);
    assert_eq!(found.as_array().unwrap()[..9], good.as_array().unwrap()[..]);
    assert_eq!(found.as_array().unwrap()[9..], wrong.as_array().unwrap()[..]);
}

/// The block of a language in the document that contains a text.
fn documented(language: &str, part: &str) -> String {
    let document = fs::read_to_string(repository().join("docs/publishing.md")).unwrap();
    document
        .split(&format!("```{language}\n"))
        .filter_map(|rest| rest.split("```").next())
        .find(|block| block.contains(part))
        .unwrap()
        .to_owned()
}

#[test]
#[ignore = "needs Node"]
fn the_documented_handler_answers() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    fs::write(out.join("handler.mjs"), documented("js", "export default")).unwrap();
    let script = "
import handler from './handler.mjs';
const out = [];
for (const path of ['/about', '/summer', '/api/x', '/no-such-page']) {
  const response = await handler.fetch(new Request('https://lanternferries.example' + path));
  out.push([response.status, response.headers.get('location'), (await response.text()).length > 10]);
}
console.log(JSON.stringify(out));
";
    fs::rename(demo.path().join("dist"), out.join("dist")).unwrap();
    let found = node(&out, script);
    let summer = "https://lanternferries.example/offers/summer-2027/";
    let wanted =
        json!([[200, null, true], [302, summer, true], [502, null, true], [404, null, true]]);
    assert_eq!(found, wanted);
}

/// The checks run that program, and compare what it prints.
#[test]
fn the_documented_service_is_the_one_that_is_built() {
    let built = fs::read_to_string(repository().join("embed/src/main.rs")).unwrap();
    assert_eq!(documented("rust", "tower"), built);
}

#[test]
#[ignore = "needs Node"]
fn the_documented_server_answers() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    let server = documented("js", "createServer");
    let chosen = ".listen(0, '127.0.0.1', function () { console.log(this.address().port); });";
    let script = server.replace(".listen(8080);", chosen).replace("dist/", "../dist/");
    assert_ne!(script, server);
    fs::write(out.join("server.mjs"), script).unwrap();
    let mut running = Command::new("node")
        .arg("server.mjs")
        .current_dir(&out)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut port = String::new();
    BufReader::new(running.stdout.take().unwrap()).read_line(&mut port).unwrap();
    let ask = |method: &str, path: &str| {
        let mut stream = TcpStream::connect(("127.0.0.1", port.trim().parse().unwrap())).unwrap();
        write!(
            stream,
            "{method} {path} HTTP/1.1\r\nhost: lanternferries.example\r\nconnection: close\r\n\r\n"
        )
        .unwrap();
        let mut text = String::new();
        stream.read_to_string(&mut text).unwrap();
        text
    };
    let (about, head, summer) =
        (ask("GET", "/about"), ask("HEAD", "/about"), ask("GET", "/summer"));
    running.kill().unwrap();
    running.wait().unwrap();
    let page = fs::read_to_string(demo.path().join("dist/about.html")).unwrap();
    assert!(about.starts_with("HTTP/1.1 200 ") && about.contains(page.trim()), "{about}");
    assert!(head.starts_with("HTTP/1.1 200 ") && head.ends_with("\r\n\r\n"), "{head}");
    assert!(summer.starts_with("HTTP/1.1 302 "), "{summer}");
    assert!(summer.contains("/offers/summer-2027/"), "{summer}");
}
