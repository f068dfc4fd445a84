//! What `ravel build` writes: in a folder that nobody loses, the same each time, under Node, and in
//! Chromium with nothing but a file server behind it.

mod common;

use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use common::{build, contents, demo, folder, repository, run};
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{Value, json};

#[test]
fn the_table_is_what_its_schema_says() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    let schema: Value =
        serde_json::from_slice(&fs::read(repository().join("docs/table.schema.json")).unwrap())
            .unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let table: Value = serde_json::from_slice(&fs::read(out.join("table.json")).unwrap()).unwrap();
    let errors: Vec<String> = validator
        .iter_errors(&table)
        .map(|error| format!("{}: {error}", error.instance_path()))
        .collect();
    assert!(errors.is_empty(), "{errors:#?}");
    let mut wrong = table.clone();
    wrong["stages"]["redirects"]["rules"][0][2] = json!("301");
    assert!(!validator.is_valid(&wrong));
}

#[test]
fn files_say_what_they_can_not_do() {
    let demo = demo();
    let (status, out, errors) = run(demo.path(), &["build", "--as", "files", "out", "--json"], "");
    assert_eq!(status, 0, "{errors}");
    let data: Value = serde_json::from_str(&out).unwrap();
    let done = |what: &str| {
        let rule = data["rules"]
            .as_array()
            .unwrap()
            .iter()
            .find(|rule| rule["what"].as_str().unwrap().starts_with(what));
        rule.unwrap_or_else(|| panic!("{what} is not among {}", data["rules"]))["done"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let cases = [
        ("redirect /summer", "nearly"),
        ("redirect /news{/story*}", "nearly"),
        ("gone /loyalty", "not"),
        ("elsewhere /api", "not"),
        ("rewrite /timetable/today", "exactly"),
        ("fallback /book{/step*}", "nearly"),
        ("headers /assets", "not"),
        ("hsts", "not"),
    ];
    for (what, expected) in cases {
        assert_eq!(done(what), expected, "{what}");
    }
    let page = fs::read_to_string(demo.path().join("out/summer/index.html")).unwrap();
    for part in [
        "<link rel=\"canonical\" href=\"https://lanternferries.example/offers/summer-2027/\">",
        "content=\"noindex\"",
        "0; url=/offers/summer-2027/",
        "<a href=\"/offers/summer-2027/\">",
    ] {
        assert!(page.contains(part), "{part} is not in {page}");
    }
}

/// Rules full of what could break out of a script, a page, or a table.
const HOSTILE: &str = "site https://harbour.example/\n  files dist\n  missing /404.html\n\
    redirect /a -> \"/x?q=%22%3E%3C/script%3E&r='\\\\\"\n\
    redirect /__proto__ -> /constructor\n\
    redirect \"/</script><script>alert(1)</script>\" -> /b\n\
    redirect /c -> \"https://away.example/?x=</script><!--&y=\u{2028}\u{2029}\"\n\
    redirect /{constructor}/p -> /q/{constructor}\n\
    headers {/any*} on all\n  set x-hostile: </script>'\"`${alert(1)}\n";

#[test]
fn hostile_texts_stay_where_they_are_put() {
    let site = folder(&[
        ("edge.ravel", HOSTILE),
        ("dist/index.html", "<p>home"),
        (
            "dist/404.html",
            "<!doctype html><html><head><title>No</title></head><body>no such page</body></html>",
        ),
    ]);
    let (module, files) =
        (build(site.path(), "module", "module"), build(site.path(), "files", "files"));
    let text = fs::read_to_string(module.join("edge.mjs")).unwrap();
    assert!(!text.contains("</script") && !text.contains(['\u{2028}', '\u{2029}']));
    let missing = fs::read_to_string(files.join("404.html")).unwrap();
    assert_eq!((missing.matches("<script").count(), missing.matches("</script>").count()), (1, 1));
    for (name, bytes) in contents(&files) {
        let page = String::from_utf8(bytes).unwrap();
        if name.ends_with("index.html") && name != "index.html" {
            assert_eq!(
                (page.matches("<script").count(), page.matches("</script>").count()),
                (1, 1),
                "{name}: {page}"
            );
            assert!(
                !page.contains("alert(1)</script>") && !page.contains(['\u{2028}', '\u{2029}']),
                "{name}: {page}"
            );
        }
    }
}

/// Runs a script under Node in a folder.
fn node(folder: &Path, script: &str) -> String {
    let output = Command::new("node")
        .args(["--input-type=module", "-e", script])
        .current_dir(folder)
        .output()
        .expect("node runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
#[ignore = "needs Node"]
fn node_decides_as_the_command_does() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    let rules = fs::read_to_string(demo.path().join("edge.ravel")).unwrap();
    let expected = rules
        .lines()
        .filter_map(|line| line.strip_prefix("expect "))
        .filter(|line| !line.starts_with("every") && !line.starts_with("POST"));
    let asked: Vec<String> = expected
        .map(|line| line.split_whitespace().next().unwrap())
        .map(|address| {
            if address.starts_with('/') {
                format!("https://lanternferries.example{address}")
            } else {
                address.to_owned()
            }
        })
        .collect();
    assert!(asked.len() > 25);
    let script = format!(
        "import {{ decide }} from './edge.mjs';\n\
         import {{ handle }} from './fetch.mjs';\n\
         const out = [];\n\
         for (const text of {}) {{\n\
           const url = new URL(text);\n\
           out.push(decide({{ method: 'GET', scheme: url.protocol.slice(0, -1), host: url.host, target: url.pathname + url.search, headers: [] }}));\n\
         }}\n\
         const response = await handle(new Request('https://lanternferries.example/book/seat/14A'), (name) => new Response('file ' + name));\n\
         out.push([response.status, await response.text(), response.headers.get('cache-control')]);\n\
         const head = await handle(new Request('https://lanternferries.example/summer', {{ method: 'HEAD' }}), () => null);\n\
         out.push([head.status, await head.text(), head.headers.get('location')]);\n\
         const other = await handle(new Request('https://lanternferries.example/api/x'), () => null);\n\
         out.push(other === undefined);\n\
         console.log(JSON.stringify(out));",
        json!(asked)
    );
    let found: Vec<Value> = serde_json::from_str(&node(&out, &script)).unwrap();
    for (address, found) in asked.iter().zip(&found) {
        let (_, said, _) = run(demo.path(), &["explain", "--json", address], "");
        let said: Value = serde_json::from_str(&said).unwrap();
        let first = &said["answers"][0];
        assert_eq!(
            (&found["outcome"], &found["status"], &found["file"]),
            (&first["outcome"], &first["status"], &first["file"]),
            "{address}"
        );
        let pairs: Vec<Value> = first["headers"]
            .as_array()
            .unwrap()
            .iter()
            .map(|header| json!([header["name"], header["value"]]))
            .collect();
        assert_eq!(found["headers"], json!(pairs), "{address}");
    }
    let after = &found[asked.len()..];
    assert_eq!(after[0], json!([200, "file book/index.html", "no-cache"]));
    assert_eq!(after[1], json!([302, "", "https://lanternferries.example/offers/summer-2027/"]));
    assert_eq!(after[2], json!(true));
}

/// Code that uses the module, as its types let it.
const TYPED: &str = "\
import { decide, hasHost, site } from './edge.mjs';
import { handle } from './fetch.mjs';
const answer = decide({ method: 'GET', scheme: 'https', host: 'h.example', target: '/', headers: new Headers() });
const status: number | null = answer.status;
const [name, value]: [string, string] = answer.headers[0]!;
const outcome: 'file' | 'loop' | string = answer.outcome;
export const shown: string[] = [site(), String(hasHost('h.example')), String(status), name, value, outcome, answer.file ?? ''];
export const answered = (request: Request): Promise<Response | undefined> => handle(request, async (file) => new Response(file));
// @ts-expect-error: a scheme that there is not
decide({ method: 'GET', scheme: 'ftp', host: 'h.example', target: '/' });
// @ts-expect-error: a status may be none
export const wrong: number = answer.status;
";

#[test]
#[ignore = "needs the TypeScript compiler"]
fn the_types_are_those_of_the_module() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    fs::write(out.join("use.mts"), TYPED).unwrap();
    for (module, resolution) in [("nodenext", "nodenext"), ("esnext", "bundler")] {
        let arguments = [
            "--strict",
            "--noEmit",
            "--target",
            "es2022",
            "--lib",
            "es2022,dom,dom.iterable",
            "--module",
            module,
        ];
        let mut tsc = Command::new("tsc");
        let output = tsc
            .args(arguments)
            .args(["--moduleResolution", resolution, "use.mts"])
            .current_dir(&out)
            .output();
        let output = output.expect("tsc runs");
        assert!(
            output.status.success(),
            "{resolution}: {}",
            String::from_utf8_lossy(&output.stdout)
        );
    }
}

/// A file server with nothing but "404.html on a miss".
fn plain_server(root: PathBuf) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let root = root.clone();
            std::thread::spawn(move || drop(serve(stream, &root)));
        }
    });
    address
}

fn serve(mut stream: TcpStream, root: &Path) -> std::io::Result<()> {
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") && stream.read(&mut byte)? > 0 {
        head.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    let target = head.split(' ').nth(1).unwrap_or("/").split('?').next().unwrap_or("/");
    let path = percent_encoding::percent_decode_str(target).decode_utf8_lossy().into_owned();
    let place = root.join(path.trim_start_matches('/'));
    let (status, place) = match (place.is_dir(), path.ends_with('/')) {
        (true, false) => {
            let query = head
                .split(' ')
                .nth(1)
                .and_then(|target| target.split_once('?'))
                .map_or(String::new(), |(_, query)| format!("?{query}"));
            return stream.write_all(
                format!("HTTP/1.1 301 Moved\r\nlocation: {target}/{query}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n")
                    .as_bytes(),
            );
        }
        (true, true) => ("200 OK", place.join("index.html")),
        (false, _) => ("200 OK", place),
    };
    let (status, place) = if place.is_file() && !path.contains("..") {
        (status, place)
    } else {
        ("404 Not Found", root.join("404.html"))
    };
    let bytes = fs::read(&place).unwrap_or_default();
    let kind = ravel::files::content_type(&place.to_string_lossy()).replace("; charset=utf-8", "");
    stream.write_all(
        format!("HTTP/1.1 {status}\r\ncontent-type: {kind}\r\ncontent-length: {}\r\ncache-control: max-age=31536000\r\nconnection: close\r\n\r\n", bytes.len())
            .as_bytes(),
    )?;
    stream.write_all(&bytes)
}

struct Ending(Child);

impl Drop for Ending {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

async fn browser(home: &Path) -> (Client, Ending) {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let driver = Command::new("chromedriver")
        .arg(format!("--port={port}"))
        .env("HOME", home)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromedriver runs");
    let driver = Ending(driver);
    let arguments = [
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
    ];
    let capabilities = json!({ "goog:chromeOptions": { "args": arguments } });
    let Value::Object(capabilities) = capabilities else { unreachable!() };
    for _ in 0..100 {
        let mut builder =
            ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new());
        let client = builder
            .capabilities(capabilities.clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await;
        if let Ok(client) = client {
            return (client, driver);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("chromedriver does not answer");
}

/// Where a browser ends, and what the page's heading says.
async fn ends(client: &Client, base: &str, path: &str, wanted: &str) -> (String, String) {
    client.goto(&format!("{base}{path}")).await.unwrap();
    let mut found = (String::new(), String::new());
    for _ in 0..60 {
        let url = client.current_url().await.unwrap().to_string();
        let heading = match client.find(Locator::Css("h1")).await {
            Ok(heading) => heading.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        };
        found = (url.strip_prefix(base).unwrap_or(&url).to_owned(), heading);
        if found.0 == wanted && !found.1.is_empty() && found.1 != "This page has moved" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    found
}

/// What is asked, and where a browser must end.
const WAYS: &[(&str, &str)] = &[
    ("/summer", "/offers/summer-2027/"),
    ("/summer?from=poster#map", "/offers/summer-2027/?from=poster#map"),
    ("/fares", "/tickets/"),
    ("/prices.html", "/tickets/"),
    ("/terms,%20conditions.html", "/legal/terms"),
    ("/q/7", "/book/"),
    ("/sailings.php?from=skerry&utm=mail", "/ports/skerry/?utm=mail"),
    ("/sailings.php?from=atlantis", "/timetable/"),
    ("/book/seat/14A", "/book/seat/14A"),
    ("/no-such-page", "/no-such-page"),
];

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs Chromium and ChromeDriver"]
async fn a_file_server_and_a_browser_end_where_they_should() {
    let demo = demo();
    let site = plain_server(build(demo.path(), "files", "site"));
    let worker = demo.path().join("worker");
    let module = build(demo.path(), "module", "module");
    for (name, bytes) in contents(&demo.path().join("dist")).into_iter().chain(contents(&module)) {
        let path = worker.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    let worker_folder = worker.clone();
    let worker = plain_server(worker);
    let (client, _driver) = browser(demo.path()).await;
    let heading = |path: &str| {
        let text = fs::read_to_string(demo.path().join("dist").join(path)).unwrap();
        let (_, rest) = text.split_once("<h1").unwrap();
        rest.split_once('>').unwrap().1.split_once("</h1>").unwrap().0.to_owned()
    };
    let lost = heading("404.html");
    // With the service worker, and with the pages that are made for file servers.
    for (name, address) in [("service worker", worker), ("files", site)] {
        let base = format!("http://localhost:{}", address.port());
        client.goto(&format!("{base}/")).await.unwrap();
        if name == "service worker" {
            let register = "const done = arguments[0];\
                navigator.serviceWorker.register('/service-worker.mjs', { type: 'module', updateViaCache: 'none' }).then(() => navigator.serviceWorker.ready).then(() => \
                setTimeout(() => done('ready'), 300), (error) => done(String(error)));";
            let said = client.execute_async(register, Vec::new()).await.unwrap();
            assert_eq!(said, json!("ready"));
        }
        for (asked, wanted) in WAYS {
            let (url, heading) = ends(&client, &base, asked, wanted).await;
            assert_eq!(url, *wanted, "{name}: {asked}");
            match *asked {
                "/no-such-page" => assert_eq!(heading, lost, "{name}: {asked}"),
                // The app has started there, and shows the seat.
                "/book/seat/14A" => assert_eq!(heading, "Seat 14A", "{name}: {asked}"),
                _ => assert_ne!(heading, lost, "{name}: {asked}"),
            }
        }
        if name == "service worker" {
            // New rules are there at the second visit, though every answer may be kept for a year.
            let rules = fs::read_to_string(demo.path().join("edge.ravel")).unwrap();
            let more = format!("{rules}\nredirect /of-another-version -> /about 302\n");
            fs::write(demo.path().join("edge.ravel"), more).unwrap();
            for (name, bytes) in contents(&build(demo.path(), "module", "module")) {
                fs::write(worker_folder.join(name), bytes).unwrap();
            }
            client.goto(&format!("{base}/")).await.unwrap();
            // A browser looks for a new worker some time after a visit.
            let wait = "const done = arguments[0];\
                const ask = (left) => fetch('/of-another-version').then(({ redirected }) =>\
                redirected || left === 0 ? done(redirected) : setTimeout(ask, 250, left - 1)); ask(100);";
            let taken = client.execute_async(wait, Vec::new()).await.unwrap();
            assert_eq!(taken, json!(true), "the worker of the new rules has not come");
            let (url, _) = ends(&client, &base, "/of-another-version", "/about").await;
            assert_eq!(url, "/about");
        }
        if let Some(folder) = std::env::var_os("RAVEL_PICTURES") {
            client.goto(&format!("{base}/no-such-page")).await.unwrap();
            fs::write(
                Path::new(&folder).join(format!("{name}.png")),
                client.screenshot().await.unwrap(),
            )
            .unwrap();
        }
    }
    client.close().await.unwrap();
}
