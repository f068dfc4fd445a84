//! `ravel check`, on the demo site and on twins of it with mistakes put in.

mod common;

use std::fs;
use std::path::Path;

use common::{demo, run};
use serde_json::Value;

/// A mistake: a file of the demo, a text in it, and what stands there instead; then the finding,
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
        "never-acts",
        "redirect /news/2026/storm",
    ),
    (
        RULES,
        "# Pages that",
        "redirect /winter{/any*} -> /autumn{/any*}\nredirect /autumn{/any*} -> /winter{/any*}\n# Pages that",
        "circle",
        "redirect /winter",
    ),
    (
        RULES,
        "  /piers  ->",
        "  /cards -> /fares\n  /cards/ -> /tickets/\n  /piers  ->",
        "chain",
        "/cards -> /fares",
    ),
    (
        RULES,
        "  /piers  ->",
        "  /harbours -> /ports/atlantis/\n  /harbours/ -> /ports/\n  /piers  ->",
        "ends-missing",
        "/harbours -> /ports/atlantis/",
    ),
    (
        RULES,
        "gone /loyalty",
        "redirect /fleet -> /about\ngone /loyalty",
        "hides-file",
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
        "no-such-file",
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
        "gets-page",
        "/book/missing",
    ),
    (
        "dist/contact.html",
        "<main>",
        "<main><img alt=\"\" src=\"http://images.example/pier.png\">",
        "plain-content",
        "images.example",
    ),
    ("dist/sitemap.xml", "example/about<", "example/about.html<", "not-canonical", "about.html"),
    ("dist/.htaccess", "", "none", "left-out", "files"),
    (
        ZONE,
        "   IN AAAA 2001",
        "   IN A 203.0.113.80\n   IN AAAA 2001",
        "address-left-over",
        "IN A 203.0.113.80",
    ),
    (
        ZONE,
        "www         IN CNAME",
        "www 3d IN CNAME elsewhere.example. ; to\n; IN CNAME",
        "long-life",
        "www 3d",
    ),
    (ZONE, "0 issue \"authority.example\"", "0 issue \";\"", "caa-forbids", "CAA 0 issue"),
    (ZONE, "   IN NS  ns2", "   IN NS  ns3", "nameservers-differ", "NS  ns1"),
    (
        ZONE,
        "; The office.",
        "_sip._tcp IN CNAME x.example.",
        "cname-beside-others",
        "_sip._tcp IN CNAME",
    ),
];

/// Mistakes each of which changes the whole site.
const ALONE: &[Mistake] = &[
    (ZONE, "   IN A   192.0.2.44", "   IN A   192.0.2", "unreadable", "IN A   192.0.2"),
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
        "fallback-everywhere",
        "fallback {/any*}",
    ),
    (
        RULES,
        "site https://lanternferries.example/",
        "site https://lanternferries.example/ferries/",
        "outside-base",
        "/assets/",
    ),
    (RULES, "headers /assets/{+file}", "headers {/any*}", "page-kept", "set cache-control"),
    (RULES, "  missing /404.html", "  missing /405.html", "no-such-file", "missing /405.html"),
    (RULES, "  files   dist ", "  files   . ", "no-index", "files"),
    (RULES, "fallback /book{/step*} -> /book/", "", "app-without-fallback", ""),
    (RULES, "  alias   www", "  http    allow\n  alias   www", "way-in-plain", "site"),
    (
        RULES,
        "gone /loyalty",
        "redirect {/any*} -> https://lanternferries.example{/any*}\n  when preview\ngone /loyalty",
        "never-acts",
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
    let (status, out, errors) = run(folder, &["check", "--json"], "");
    assert_ne!(status, 2, "{errors}");
    serde_json::from_str(&out).unwrap()
}

/// A finding is there once, on the line that holds a text.
fn has_once(folder: &Path, found: &Value, (file, _, _, code, text): &Mistake) {
    let all = found["findings"].as_array().unwrap();
    let these: Vec<&Value> = all
        .iter()
        .filter(|finding| finding["code"] == *code && place(folder, finding).contains(text))
        .collect();
    assert_eq!(these.len(), 1, "{code} at {text} in {file}: {all:#?}");
}

/// The line that a finding is on; for an HTML file the whole of it, since its lines hold much.
fn place(folder: &Path, finding: &Value) -> String {
    let text =
        fs::read_to_string(folder.join(finding["source"].as_str().unwrap())).unwrap_or_default();
    let number = finding["line"].as_u64().map_or(0, |number| number as usize);
    let line = text.lines().nth(number.saturating_sub(1)).unwrap_or_default();
    format!("{line}\n{}", finding["what"].as_str().unwrap())
}

#[test]
fn the_demo_has_no_problem() {
    let folder = demo();
    let (status, out, _) = run(folder.path(), &["check", "--strict"], "");
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
fn findings_are_written_for_programs_and_fail_as_they_weigh() {
    let folder = demo();
    put_in(folder.path(), &TOGETHER[3]);
    put_in(folder.path(), &TOGETHER[7]);
    let (status, text, _) = run(folder.path(), &["check", "--sarif", "out.sarif"], "");
    assert_eq!(status, 1);
    for part in [
        "problem ends-missing",
        "/harbours -> /ports/atlantis/",
        "‾‾‾",
        "visitors",
        "instead",
        "2 problems, 0 pieces of advice",
    ] {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    // One pattern of the published schema has a bracket that its own rules want escaped.
    let schema = include_str!("fixtures/sarif-schema-2.1.0.json").replace("{2}]?$", "{2}\\\\]?$");
    let schema: Value = serde_json::from_str(&schema).unwrap();
    let log: Value =
        serde_json::from_slice(&fs::read(folder.path().join("out.sarif")).unwrap()).unwrap();
    let errors: Vec<String> = jsonschema::validator_for(&schema)
        .unwrap()
        .iter_errors(&log)
        .map(|error| error.to_string())
        .collect();
    assert!(errors.is_empty(), "{errors:#?}");
    let results = log["runs"][0]["results"].as_array().unwrap();
    let place = &results[0]["locations"][0]["physicalLocation"];
    assert_eq!((results.len(), &results[0]["ruleId"]), (2, &Value::from("ends-missing")));
    assert_eq!(place["artifactLocation"]["uri"], "edge.ravel");
    let rules = fs::read_to_string(folder.path().join(RULES)).unwrap();
    let line = place["region"]["startLine"].as_u64().unwrap() as usize;
    assert!(rules.lines().nth(line - 1).unwrap().contains("/harbours "));

    // Advice is shown, and fails only where that is wanted.
    let folder = demo();
    put_in(folder.path(), &TOGETHER[2]);
    assert_eq!(run(folder.path(), &["check"], "").0, 0);
    assert_eq!(run(folder.path(), &["check", "--strict"], "").0, 1);
}

#[test]
fn a_finding_explains_itself_and_rules_say_what_is_left_of_them() {
    let folder = demo();
    let (status, text, _) = run(folder.path(), &["check", "--why", "never-acts"], "");
    assert!(status == 0 && text.contains("never acts: edge.ravel:2 takes every address"), "{text}");
    assert!(!text.contains("```") && !text.contains("###"), "{text}");
    assert_eq!(run(folder.path(), &["check", "--why", "no-such-name"], "").0, 2);

    fs::write(
        folder.path().join("edge.ravel"),
        "site https://lanternferries.example/\nredirect /a/{x} -> /b\n  where x is one of p, q\nredirect /a/{x} -> /c\n",
    )
    .unwrap();
    let report: Value =
        serde_json::from_str(&run(folder.path(), &["check", "--left", "--json"], "").1).unwrap();
    let left = &report["left"][0];
    assert_eq!(
        (left["line"].as_u64(), &left["taken_by"]),
        (Some(4), &serde_json::json!(["edge.ravel:2"]))
    );
    assert_eq!(left["example"], "https://lanternferries.example/a/a");
}
