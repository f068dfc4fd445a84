//! Results as data say what the library says of them.

use proptest::prelude::*;
use ravel::edge::{HeaderChange, Step};
use ravel::expect::verify;
use ravel::finding::{Finding, FindingPlace};
use ravel::rules::Code;
use ravel::{Edge, FileList, Request, Rules};
use serde_json::{Value, json};

const RULES: &str = "site https://h.example/\n  alias www.h.example\n  preview *.p.example\n  missing /404.html\n  \
    languages en, de\nredirect /a/{x} -> /b/{x}\nredirect /to/{x} -> https://o.example/{x}\nredirect /l1 -> /l2\nredirect /l2 -> /l1\n\
    redirect /c -> /d\n  when cookie c is \"1\"\ngone /gone\nelsewhere /api{/x*}\nrewrite /r/{x} -> /b/{x}.html\n\
    fallback /app{/x*} -> /index.html\nheaders /{+x} on all\n  set x-a: 1\n  add vary: origin\n";

fn edge() -> (Rules, Edge) {
    let rules = Rules::parse(RULES).unwrap_or_else(|problems| panic!("{problems}"));
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "404.html", "b/1.html"]));
    (rules, edge)
}

fn place(rules: &Rules, line: Option<ravel::language::Line>) -> [Value; 2] {
    [json!(line.map(|line| rules.source(line))), json!(line.map(|line| line.number()))]
}

proptest! {
    #![proptest_config(ravel_testing::config(600))]

    #[test]
    fn a_walk_as_data(
        scheme in prop::sample::select(vec!["http", "https"]),
        host in prop::sample::select(vec!["h.example", "www.h.example", "x.p.example", "other.example"]),
        path in prop::sample::select(vec![
            "/", "/a/1", "/a/9?q=1", "/to/x", "/l1", "/c", "/gone", "/api/x", "/r/1", "/app/x", "/b/1.html", "/nowhere", "//a", "/%41",
        ]),
        cookie in any::<bool>(),
        method in prop::sample::select(vec!["GET", "HEAD", "POST"]),
    ) {
        let (rules, edge) = edge();
        let mut request = Request::new(method.parse().unwrap(), &format!("{scheme}://{host}{path}")).unwrap();
        if cookie {
            request = request.with_header(http::header::COOKIE, "c=1".parse().unwrap());
        }
        let walk = edge.walk(&request);
        let data = serde_json::to_value(rules.data(&walk)).unwrap();
        prop_assert_eq!(&data["hops"], &json!(walk.hops()));
        prop_assert_eq!(&data["ends"]["url"], walk.url());
        prop_assert_eq!(&data["ends"]["outcome"], walk.outcome().as_str());
        prop_assert_eq!(data["answers"].as_array().unwrap().len(), walk.answers().len());
        for ((url, why), answer) in walk.answers().iter().zip(data["answers"].as_array().unwrap()) {
            prop_assert_eq!(&answer["url"], url);
            prop_assert_eq!(&answer["outcome"], why.answer().outcome().as_str());
            prop_assert_eq!(&answer["status"], &json!(why.answer().status()));
            prop_assert_eq!(&answer["location"], &json!(why.answer().location()));
            prop_assert_eq!(&answer["file"], &json!(why.answer().file()));
            let headers: Vec<Value> = why.answer().headers().iter().map(|header| {
                let [source, line] = place(&rules, header.line());
                json!({ "name": header.name(), "value": header.value(), "source": source, "line": line })
            }).collect();
            prop_assert_eq!(&answer["headers"], &json!(headers));
            for (step, changed) in why.headers().iter().zip(answer["header_changes"].as_array().unwrap()) {
                prop_assert_eq!(&changed["name"], step.name());
                let value = match step.change() {
                    HeaderChange::Set(value) | HeaderChange::Added(value) => json!(value),
                    _ => Value::Null,
                };
                prop_assert_eq!(&changed["value"], &value);
            }
            prop_assert_eq!(answer["steps"].as_array().unwrap().len(), why.steps().len());
            for (words, step) in why.words().zip(answer["steps"].as_array().unwrap()) {
                let [source, line] = place(&rules, words.line());
                prop_assert_eq!((&step["source"], &step["line"]), (&source, &line));
                prop_assert_eq!(&step["subject"], &words.subject());
                prop_assert_eq!(&step["result"], &words.result());
                match words.step() {
                    Step::Rule(rule, _) => prop_assert_eq!(&step["rule"], &json!(rule.index())),
                    Step::File(file) => prop_assert_eq!(&step["file"], &json!(file)),
                    Step::Method(method) => prop_assert_eq!(&step["method"], method.as_str()),
                    _ => prop_assert!(step["step"].is_string()),
                }
            }
        }
    }
}

#[test]
fn verdicts_and_findings_as_data() {
    let text = format!("{RULES}expect /gone is gone\nexpect /a/1 is missing\n");
    let rules = Rules::parse(&text).unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "b/1.html"]));
    let verdicts: Vec<_> = rules.expectations().iter().map(|one| verify(&edge, one)).collect();
    let data = serde_json::to_value(rules.data(&*verdicts)).unwrap();
    assert_eq!(data[0]["holds"], true);
    assert_eq!(data[0]["decided"], json!({ "source": "edge.ravel", "line": 12 }));
    assert_eq!(data[1]["failures"].as_array().unwrap().len(), verdicts[1].failures().len());
    assert_eq!(data[1]["failures"][0]["expected"], verdicts[1].failures()[0].expected());

    let line = rules.expectations()[0].line();
    let places = [
        FindingPlace::Line(line),
        FindingPlace::File { name: "a.html".into(), at: Some((7, 90..95)) },
        FindingPlace::File { name: "a.html".into(), at: None },
        FindingPlace::Named { by: line, name: "h.zone".into(), number: Some(3) },
    ];
    for place in places {
        let finding = Finding::at(Code::RedirectChain, place.clone(), "what")
            .with_note("visitor")
            .with_example("https://h.example/")
            .with_lines([line]);
        let data = serde_json::to_value(rules.data(&finding)).unwrap();
        let expected = json!({
            "name": "redirect-chain",
            "severity": "warning",
            "source": place.file(&rules),
            "line": place.number(),
            "message": "what",
            "note": "visitor",
            "help": null,
            "example": { "method": "GET", "url": "https://h.example/", "headers": [] },
            "lines": [rules.line_name(line)],
        });
        assert_eq!(data, expected);
    }
}
