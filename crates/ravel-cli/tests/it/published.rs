//! What `ravel build` writes: the same each time, within its schemas and types, and under Node.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::common::{build, contents, demo, folder, repository, run, schema_errors};
use serde_json::{Value, json};

#[test]
#[ignore = "needs Python with `jsonschema`"]
fn the_table_is_what_its_schema_says() {
    let demo = demo();
    let out = build(demo.path(), "module", "out");
    let schema = fs::read_to_string(repository().join("docs/table.schema.json")).unwrap();
    let table: Value = serde_json::from_slice(&fs::read(out.join("table.json")).unwrap()).unwrap();
    assert_eq!(schema_errors(&schema, &table), Vec::<String>::new());
    let mut wrong = table.clone();
    wrong["stages"]["redirects"]["rules"][0][2] = json!("301");
    assert_ne!(schema_errors(&schema, &wrong), Vec::<String>::new());
}

#[test]
fn files_say_what_they_cannot_do() {
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
        ("redirect /summer", "partially"),
        ("redirect /news{/story*}", "partially"),
        ("gone /loyalty", "partially"),
        ("elsewhere /api", "not"),
        ("rewrite /timetable/today", "partially"),
        ("fallback /book{/step*}", "partially"),
        ("missing /404.html", "fully"),
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
