//! `ravel check`, on the demo site and on twins of it with mistakes put in.

use std::fs;
use std::path::Path;

use crate::common::{demo, run, schema_errors};
use serde_json::Value;

/// A mistake: a file of the demo, a text in it, and what replaces it; then the finding,
/// and the text of the line it is on.
type Mistake = (&'static str, &'static str, &'static str, &'static str, &'static str);

const RULES: &str = "edge.ravel";
const ZONE: &str = "dns/lanternferries.example.zone";
const NEWS: &str =
    "redirect /news{/story*} -> https://journal.lanternferries.example{/story*} permanent\n";

/// Mistakes that do not touch each other.
const TOGETHER: &[Mistake] = &[
    (
        RULES,
        NEWS,
        "NEWS\nredirect /news/2026/storm -> /offers/summer-2027/\n",
        "unreachable-rule",
        "redirect /news/2026/storm",
    ),
    (
        RULES,
        "# Pages that",
        "redirect /winter{/any*} -> /autumn{/any*}\nredirect /autumn{/any*} -> /winter{/any*}\n# Pages that",
        "redirect-loop",
        "redirect /winter",
    ),
    (
        RULES,
        "  /piers  ->",
        "  /cards -> /fares\n  /cards/ -> /tickets/\n  /piers  ->",
        "redirect-chain",
        "/cards -> /fares",
    ),
    (
        RULES,
        "  /piers  ->",
        "  /harbours -> /ports/atlantis/\n  /harbours/ -> /ports/\n  /piers  ->",
        "redirect-to-missing",
        "/harbours -> /ports/atlantis/",
    ),
    (
        RULES,
        "gone /loyalty",
        "redirect /fleet -> /about\ngone /loyalty",
        "shadowed-file",
        "redirect /fleet -> /about",
    ),
    (
        RULES,
        "gone /loyalty",
        "redirect /deals -> /summer permanent\nredirect /deals/ -> /tickets/\ngone /loyalty",
        "permanent-to-temporary",
        "redirect /deals -> /summer",
    ),
    (
        RULES,
        "rewrite /timetable/today -> /timetable/weekday",
        "rewrite /timetable/today -> /timetable/week-day",
        "missing-file",
        "rewrite /timetable/today",
    ),
    (
        "dist/contact.html",
        "<main>",
        "<main><a href=\"/ticket/\">Fares</a>",
        "broken-link",
        "/ticket/",
    ),
    (
        "dist/contact.html",
        "<main>",
        "<main><script src=\"/book/missing\"></script>",
        "asset-gets-html",
        "/book/missing",
    ),
    (
        "dist/contact.html",
        "<main>",
        "<main><img alt=\"\" src=\"http://images.example/pier.png\">",
        "mixed-content",
        "images.example",
    ),
    (
        "dist/sitemap.xml",
        "example/about<",
        "example/about.html<",
        "canonical-mismatch",
        "about.html",
    ),
    ("dist/.htaccess", "", "none", "unpublished-file", "files"),
    (
        ZONE,
        "   IN AAAA 2001",
        "   IN A 203.0.113.80\n   IN AAAA 2001",
        "stale-address",
        "IN A 203.0.113.80",
    ),
    (
        ZONE,
        "www         IN CNAME",
        "www 3d IN CNAME elsewhere.example. ; to\n; IN CNAME",
        "long-ttl",
        "www 3d",
    ),
    (ZONE, "0 issue \"authority.example\"", "0 issue \";\"", "caa-forbids", "CAA 0 issue"),
    (ZONE, "   IN NS  ns2", "   IN NS  ns3", "nameserver-mismatch", "NS  ns1"),
    (
        ZONE,
        "; The office.",
        "_sip._tcp IN CNAME x.example.",
        "cname-conflict",
        "_sip._tcp IN CNAME",
    ),
];

/// Mistakes each of which changes the whole site.
const ALONE: &[Mistake] = &[
    (ZONE, "   IN A   192.0.2.44", "   IN A   192.0.2", "unreadable-file", "IN A   192.0.2"),
    (
        ZONE,
        "   IN A   192.0.2.44",
        "   IN CNAME lantern.edge-host.example.",
        "cname-at-apex",
        "IN CNAME lantern",
    ),
    (
        RULES,
        "fallback /book{/step*} -> /book/",
        "fallback {/any*} -> /book/",
        "catch-all-fallback",
        "fallback {/any*}",
    ),
    (
        RULES,
        "site https://lanternferries.example/",
        "site https://lanternferries.example/ferries/",
        "link-outside-base",
        "/assets/",
    ),
    (RULES, "headers /assets/{+file}", "headers {/any*}", "html-cached", "set cache-control"),
    (RULES, "  missing /404.html", "  missing /405.html", "missing-file", "missing /405.html"),
    (RULES, "  files   dist ", "  files   . ", "missing-index", "files"),
    (RULES, "fallback /book{/step*} -> /book/", "", "app-without-fallback", ""),
    (RULES, "  alias   www", "  http    allow\n  alias   www", "entry-point-http", "site"),
    (
        RULES,
        "gone /loyalty",
        "redirect {/any*} -> https://lanternferries.example{/any*}\n  when preview\ngone /loyalty",
        "unreachable-rule",
        "redirect {/any*}",
    ),
];

fn put_in(folder: &Path, (file, text, instead, ..): &Mistake) {
    let path = folder.join(file);
    let old = fs::read_to_string(&path).unwrap_or_default();
    assert!(old.contains(text), "{file} has no {text}");
    let hsts = if instead.contains("allow") {
        old.replace("  hsts    180d       # browsers keep to HTTPS for half a year\n", "")
    } else {
        old
    };
    fs::write(&path, hsts.replacen(text, &instead.replace("NEWS\n", NEWS), 1)).unwrap();
}

fn found(folder: &Path) -> Value {
    let (status, out, errors) = run(folder, &["check", "--json", "--notes"], "");
    assert_ne!(status, 2, "{errors}");
    serde_json::from_str(&out).unwrap()
}

/// A finding is there once, on the line that holds a text.
fn has_once(folder: &Path, found: &Value, (file, _, _, code, text): &Mistake) {
    let all = found["findings"].as_array().unwrap();
    let these: Vec<&Value> = all
        .iter()
        .filter(|finding| finding["name"] == *code && place(folder, finding).contains(text))
        .collect();
    assert_eq!(these.len(), 1, "{code} at {text} in {file}: {all:#?}");
}

/// The line that a finding is on; for an HTML file the whole of it, since its lines hold much.
fn place(folder: &Path, finding: &Value) -> String {
    let text =
        fs::read_to_string(folder.join(finding["source"].as_str().unwrap())).unwrap_or_default();
    let number = finding["line"].as_u64().map_or(0, |number| number as usize);
    let line = text.lines().nth(number.saturating_sub(1)).unwrap_or_default();
    format!("{line}\n{}", finding["message"].as_str().unwrap())
}

#[test]
fn the_demo_has_no_findings() {
    let folder = demo();
    let (status, out, _) = run(folder.path(), &["check", "--fail-on", "note"], "");
    assert_eq!(status, 0, "{out}");
}

#[test]
fn each_mistake_is_found_once_at_its_place() {
    let folder = demo();
    TOGETHER.iter().for_each(|mistake| put_in(folder.path(), mistake));
    let report = found(folder.path());
    TOGETHER.iter().for_each(|mistake| has_once(folder.path(), &report, mistake));
    for mistake in ALONE {
        let folder = demo();
        put_in(folder.path(), mistake);
        let report = found(folder.path());
        has_once(folder.path(), &report, mistake);
    }
}

#[test]
#[ignore = "needs Python with `jsonschema`"]
fn sarif_is_what_its_schema_says() {
    let folder = demo();
    TOGETHER.iter().for_each(|mistake| put_in(folder.path(), mistake));
    run(folder.path(), &["check", "--report", "out.sarif"], "");
    let log = serde_json::from_slice(&fs::read(folder.path().join("out.sarif")).unwrap()).unwrap();
    // One pattern of the published schema has a bracket that its own rules want escaped.
    let schema =
        include_str!("../fixtures/sarif-schema-2.1.0.json").replace("{2}]?$", "{2}\\\\]?$");
    assert_eq!(schema_errors(&schema, &log), Vec::<String>::new());
    let mut wrong = log.clone();
    wrong["runs"][0]["results"][0]["level"] = Value::from("severe");
    assert_ne!(schema_errors(&schema, &wrong), Vec::<String>::new());
}

#[test]
fn findings_are_written_for_programs_and_fail_as_they_weigh() {
    let folder = demo();
    put_in(folder.path(), &TOGETHER[3]);
    put_in(folder.path(), &TOGETHER[7]);
    let reports = ["out.sarif", "out.csv", "out.md", "out.html"];
    let reported = reports.iter().flat_map(|report| ["--report", report]);
    let (status, text, _) =
        run(folder.path(), &["check"].into_iter().chain(reported).collect::<Vec<_>>(), "");
    assert_eq!(status, 1);
    for part in [
        "error[redirect-to-missing]: ",
        "/harbours -> /ports/atlantis/",
        "^^^",
        "= note: ",
        "= help: ",
        "2 errors, 0 warnings",
    ] {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    let log: Value =
        serde_json::from_slice(&fs::read(folder.path().join("out.sarif")).unwrap()).unwrap();
    let results = log["runs"][0]["results"].as_array().unwrap();
    let place = &results[0]["locations"][0]["physicalLocation"];
    assert_eq!((results.len(), &results[0]["ruleId"]), (2, &Value::from("redirect-to-missing")));
    assert_eq!(place["artifactLocation"]["uri"], "edge.ravel");
    let rules = fs::read_to_string(folder.path().join(RULES)).unwrap();
    let line = place["region"]["startLine"].as_u64().unwrap() as usize;
    assert!(rules.lines().nth(line - 1).unwrap().contains("/harbours "));

    let csv = fs::read_to_string(folder.path().join("out.csv")).unwrap();
    let records = csv::Reader::from_reader(csv.as_bytes()).into_records().map(Result::unwrap);
    let places: Vec<(String, String)> =
        records.map(|record| (record[1].to_owned(), record[2].to_owned())).collect();
    assert_eq!(places.len(), 2, "{csv}");
    assert_eq!(places[0], ("redirect-to-missing".to_owned(), "edge.ravel".to_owned()));
    let markdown = fs::read_to_string(folder.path().join("out.md")).unwrap();
    assert_eq!(markdown.lines().filter(|line| line.starts_with("| error |")).count(), 2);
    let page = fs::read_to_string(folder.path().join("out.html")).unwrap();
    assert!(page.contains("<h1>2 errors</h1>") && page.contains("/ports/atlantis/"));
    let (status, _, errors) = run(folder.path(), &["check", "--report", "out.xml"], "");
    assert!(status == 2 && errors.contains(".sarif (SARIF 2.1.0), .html (HTML)"), "{errors}");

    // A warning is shown, and fails only where that is wanted.
    let folder = demo();
    put_in(folder.path(), &TOGETHER[2]);
    assert_eq!(run(folder.path(), &["check"], "").0, 0);
    for (list, wanted) in [("warning", 1), ("redirect-chain", 1), ("redirect-loop,broken-link", 0)]
    {
        assert_eq!(run(folder.path(), &["check", "--fail-on", list], "").0, wanted, "{list}");
    }
    let (_, text, _) = run(folder.path(), &["check", "--except", "redirect-chain"], "");
    assert!(text.contains("0 errors, 0 warnings"), "{text}");
}

#[test]
fn a_finding_explains_itself_and_rules_say_who_shadows_them() {
    let folder = demo();
    let (status, text, _) = run(folder.path(), &["check", "--why", "unreachable-rule"], "");
    assert!(status == 0 && text.contains("is unreachable: edge.ravel:2 takes every URL"), "{text}");
    assert!(!text.contains("```") && !text.contains("###"), "{text}");
    for (name, nearest) in [("unreachable-rules", "unreachable-rule"), ("circle", "redirect-loop")]
    {
        let (status, _, errors) = run(folder.path(), &["check", "--why", name], "");
        assert!(status == 2 && errors.contains(&format!("did you mean `{nearest}`?")), "{errors}");
    }

    fs::write(
        folder.path().join("edge.ravel"),
        "site https://lanternferries.example/\nredirect /a/{x} -> /b\n  where x is one of p, q\nredirect /a/{x} -> /c\n",
    )
    .unwrap();
    let report: Value =
        serde_json::from_str(&run(folder.path(), &["check", "--shadowed", "--json"], "").1)
            .unwrap();
    let shadowed = &report["shadowed"][0];
    assert_eq!(
        (shadowed["line"].as_u64(), &shadowed["taken_by"]),
        (Some(4), &serde_json::json!(["edge.ravel:2"]))
    );
    assert_eq!(shadowed["example"]["url"], "https://lanternferries.example/a/a");
}

/// Findings of one cause are one, and not more are shown than can be read; for programs all are.
#[test]
fn a_cause_with_many_findings_is_shown_once() {
    let rows: String = (0..300).map(|row| format!("/old/{row},/new/{row}\n")).collect();
    let rules = "site https://h.example/\n  files dist\n  missing /404.html\n\
                 redirect /old/{page} -> https://other.example/{page}\nredirect\n  table moved.csv\n";
    let folder = crate::common::folder(&[
        ("edge.ravel", rules),
        ("moved.csv", &format!("old,new\n{rows}")),
        ("dist/index.html", ""),
        ("dist/404.html", ""),
    ]);
    let (status, text, _) = run(folder.path(), &["check"], "");
    assert_eq!((status, text.lines().count() < 40), (1, true), "{text}");
    assert!(text.contains("300 rules are unreachable: edge.ravel:4 takes their URLs"), "{text}");
    let (_, text, _) = run(folder.path(), &["check", "--all"], "");
    assert_eq!(text.matches("error[unreachable-rule]").count(), 300);
    assert_eq!(found(folder.path())["findings"].as_array().unwrap().len(), 300);
}

/// One template that writes a name on many pages, one folder that is not there, and the rows of a
/// table into such a folder are one cause each; what happens to stand beside them is not.
#[test]
fn broken_links_have_their_cause() {
    let mut files = vec![
        (
            "edge.ravel".to_owned(),
            "site https://h.example/\n  files dist\nredirect\n  table moved.csv\n".to_owned(),
        ),
        (
            "dist/index.html".to_owned(),
            "<a href=/p0/>first</a><a href=/lost>x</a><a href=/p1/gone>y</a>".to_owned(),
        ),
    ];
    let rows: String = (0..300).map(|row| format!("/old/{row},/new/{row}\n")).collect();
    files.push(("moved.csv".to_owned(), format!("old,new\n{rows}")));
    for page in 0..63 {
        let text =
            format!("<a href=/p{page}/>self</a><img src=NAME.json><img src=/img/{page}.png>");
        files.push((format!("dist/p{page}/index.html"), text));
    }
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (&**name, &**text)).collect();
    let folder = crate::common::folder(&files);
    let (_, text, _) = run(folder.path(), &["check"], "");
    assert_eq!(text.matches("` is a broken link").count(), 4, "{text}");
    assert_eq!(text.matches("62 more like it").count(), 2, "{text}");
    assert_eq!(text.matches("which is missing\n").count(), 1, "{text}");
    assert!(text.contains("300 redirects lead below /new/, where nothing is"), "{text}");
}

/// Rules that cannot be read are reported as well, with paths from the current folder.
#[test]
fn unreadable_rules_are_in_reports() {
    let folder = crate::common::folder(&[(
        "site/edge.ravel",
        "site https://h.example/\nredirct /a -> /b\n",
    )]);
    let arguments = ["check", "--rules", "site/edge.ravel", "--json", "--report", "out.sarif"];
    let (status, out, errors) = run(folder.path(), &arguments, "");
    assert_eq!(status, 2, "{errors}");
    let data: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(data["unreadable"][0]["line"], 2, "{out}");
    let log = fs::read_to_string(folder.path().join("out.sarif")).unwrap();
    assert!(log.contains("\"site/edge.ravel\"") && log.contains("unreadable-rules"), "{log}");
    let arguments = ["test", "--rules", "site/edge.ravel", "--report", "out.xml"];
    assert_eq!(run(folder.path(), &arguments, "").0, 2);
    let results = fs::read_to_string(folder.path().join("out.xml")).unwrap();
    assert!(results.contains("unknown statement"), "{results}");
}
