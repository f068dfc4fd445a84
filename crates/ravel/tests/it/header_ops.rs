//! The headers of an answer, against a list to which each statement is applied in turn.

use proptest::prelude::*;
use ravel::{Edge, FileList, Request, Rules};

#[derive(Debug, Clone)]
enum Op {
    Set(&'static str, &'static str),
    Add(&'static str, &'static str),
    Drop(&'static str),
}

/// A `headers` statement: its pattern, what follows it, and its lines.
#[derive(Debug, Clone)]
struct Statement {
    pattern: &'static str,
    on: &'static str,
    types: &'static str,
    ops: Vec<Op>,
}

/// What is asked, with what it gets: the status, the type, and what `headers … on` calls it.
struct Case {
    path: &'static str,
    status: u16,
    content_type: &'static str,
    kind: &'static str,
    location: Option<&'static str>,
    cached: Option<&'static str>,
}

const HTML: &str = "text/html; charset=utf-8";
const TEXT: &str = "text/plain; charset=utf-8";

const fn case(
    path: &'static str,
    status: u16,
    content_type: &'static str,
    kind: &'static str,
) -> Case {
    let cached = match status {
        404 | 410 => Some("no-cache"),
        _ => None,
    };
    Case { path, status, content_type, kind, location: None, cached }
}

const CASES: [Case; 7] = [
    Case { cached: Some("no-cache"), ..case("/a", 200, HTML, "served") },
    case("/b/pic.png", 200, "image/png", "served"),
    case("/none", 404, HTML, "missing"),
    case("/gone", 410, HTML, "missing"),
    Case { location: Some("https://h.example/a"), ..case("/to", 302, TEXT, "redirects") },
    Case {
        location: Some("https://h.example/a"),
        cached: Some("max-age=86400"),
        ..case("/for-ever", 301, TEXT, "redirects")
    },
    Case {
        location: Some("https://h.example/a"),
        cached: Some("max-age=3600"),
        ..case("/a.html", 301, TEXT, "redirects")
    },
];

impl Statement {
    fn text(&self) -> String {
        let lines = self.ops.iter().map(|op| match op {
            Op::Set(name, value) => format!("  set {name}: {value}\n"),
            Op::Add(name, value) => format!("  add {name}: {value}\n"),
            Op::Drop(name) => format!("  drop {name}\n"),
        });
        let behind = [("on", self.on), ("type", self.types)]
            .into_iter()
            .filter(|(_, words)| !words.is_empty())
            .map(|(word, words)| format!(" {word} {words}"));
        format!(
            "headers {}{}\n{}",
            self.pattern,
            behind.collect::<String>(),
            lines.collect::<String>()
        )
    }

    fn is_for(&self, case: &Case) -> bool {
        let matches = match self.pattern {
            "{/any*}" => true,
            "/b{/x*}" => case.path.starts_with("/b/"),
            literal => literal == case.path,
        };
        let on = if self.on.is_empty() { "served" } else { self.on };
        let essence = case.content_type.split(';').next().unwrap();
        let of_type = self.types.is_empty()
            || self.types.split(", ").any(|range| match range.strip_suffix('*') {
                Some(kind) => essence.starts_with(kind),
                None => range.eq_ignore_ascii_case(essence),
            });
        matches && (on == "all" || on == case.kind) && of_type
    }
}

fn statement() -> impl Strategy<Value = Statement> {
    let name = || prop::sample::select(vec!["x-a", "x-b", "cache-control", "content-type"]);
    let value = || prop::sample::select(vec!["one", "two, three", "no-store"]);
    let op = prop_oneof![
        (name(), value()).prop_map(|(name, value)| Op::Set(name, value)),
        (name(), value()).prop_map(|(name, value)| Op::Add(name, value)),
        name().prop_map(Op::Drop),
    ];
    (
        prop::sample::select(vec!["{/any*}", "/a", "/b{/x*}", "/to"]),
        prop::sample::select(vec!["", "served", "missing", "redirects", "all"]),
        prop::sample::select(vec!["", "", "text/html", "image/*", "TEXT/plain, image/png"]),
        prop::collection::vec(op, 1..4),
    )
        .prop_map(|(pattern, on, types, ops)| Statement { pattern, on, types, ops })
}

proptest! {
    #![proptest_config(ravel_testing::config(1_500))]

    #[test]
    fn statements_act_in_order(statements in prop::collection::vec(statement(), 0..5)) {
        let text: String = statements.iter().map(Statement::text).collect();
        let text = format!(
            "site https://h.example/\n  missing /404\nredirect /to -> /a\nredirect /for-ever -> /a permanent\ngone /gone\n{text}"
        );
        // Some names are the edge's own: a file that says so is refused.
        let Ok(rules) = Rules::parse(&text) else { return Ok(()) };
        let edge = Edge::new(&rules, FileList::from_iter(["a.html", "b/pic.png", "404.html"]));
        for case in &CASES {
            let mut expected: Vec<(&str, &str)> = case.location.iter().map(|to| ("location", *to)).collect();
            expected.push(("content-type", case.content_type));
            for op in statements.iter().filter(|one| one.is_for(case)).flat_map(|one| &one.ops) {
                match op {
                    Op::Set(name, value) => {
                        expected.retain(|(known, _)| known != name);
                        expected.push((name, value));
                    }
                    Op::Add(name, value) => expected.push((name, value)),
                    Op::Drop(name) => expected.retain(|(known, _)| known != name),
                }
            }
            if !expected.iter().any(|(name, _)| *name == "cache-control") {
                expected.extend(case.cached.map(|cached| ("cache-control", cached)));
            }
            let answer = edge.answer(&Request::get(&format!("https://h.example{}", case.path)).unwrap()).clone();
            let got: Vec<(&str, &str)> = answer.headers().iter().map(|header| (header.name(), header.value())).collect();
            prop_assert_eq!(answer.status(), Some(case.status), "{}\n{}", case.path, text);
            prop_assert_eq!(got, expected, "{}\n{}", case.path, text);
        }
    }
}
