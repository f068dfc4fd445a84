//! What rules files are read as.

use ravel::Rules;
use ravel::program::Stage;

/// Every rule of a stage in canonical form, each with its line.
fn read(stage: Stage, text: &str) -> Vec<String> {
    let load = |name: &str| match name {
        "moved.csv" => Ok("old,new,status\n/a,/b,\n/c,/d,302\n\n\"/e,f\",/g,308\n"),
        "columns.csv" => Ok("by, new ,\"old\"\r\nIda,/b,/a\r\n\"two\nlines\",/d,/c\r\n"),
        "gone.csv" => Ok("old\n/x\n/y/{z}\n"),
        "sub/one.ravel" => {
            Ok("# comment\nredirect /one -> /1\ninclude two.ravel\ninclude ../three.ravel\n")
        }
        "sub/two.ravel" => Ok("redirect\n  table t.csv\n"),
        "sub/t.csv" => Ok("old,new\n/two,/2\n"),
        "three.ravel" => Ok("gone /three\n"),
        _ => Err("there is no such file"),
    };
    let site = "site https://h.example/\n  languages en, de\n  alias w.example, a.w.example\n  preview *.p.example\n";
    let load = |name: &str| load(name).map(|text| text.as_bytes().to_vec());
    let rules = Rules::parse_with(&format!("{site}{text}"), load)
        .unwrap_or_else(|problems| panic!("{text}\n{problems}"));
    let name = |line: ravel::language::Line| match line.source() {
        0 => (line.number() - 4).to_string(),
        source => format!("{}:{}", rules.sources()[usize::from(source)], line.number()),
    };
    rules.rules(stage).iter().map(|rule| format!("{} {rule}", name(rule.line()))).collect()
}

#[test]
fn rules_and_their_lines() {
    let cases: &[(Stage, &str, &[&str])] = &[
        (Stage::Redirect, "redirect /a -> /b", &["1 redirect /a -> /b"]),
        (Stage::Redirect, "redirect /a -> /b temporary", &["1 redirect /a -> /b"]),
        (
            Stage::Redirect,
            "redirect /a -> /b 301 drop query # x",
            &["1 redirect /a -> /b permanent drop query"],
        ),
        (Stage::Redirect, "redirect \"/a\"   ->\t\"/b c\"", &["1 redirect /a -> /b%20c"]),
        (Stage::Redirect, "redirect /a/./b/../c -> /%7E", &["1 redirect /a/c -> /~"]),
        (
            Stage::Redirect,
            "redirect /[x] -> /caf\u{e9}?q=\u{e9}#\u{e9}",
            &["1 redirect /%5Bx%5D -> /caf%C3%A9?q=%C3%A9#%C3%A9"],
        ),
        (
            Stage::Redirect,
            "redirect /a?b=c+d&e={f}&g -> /h",
            &["1 redirect /a?b=c%20d&e={f}&g -> /h"],
        ),
        (
            Stage::Redirect,
            "redirect https://w.example -> /",
            &["1 redirect https://w.example/ -> /"],
        ),
        (
            Stage::Redirect,
            "redirect https://{x}.w.example/a -> https://{x}.o.example",
            &["1 redirect https://{x}.w.example/a -> https://{x}.o.example/"],
        ),
        (
            Stage::Redirect,
            "redirect https://{x}.p.example{/r*} -> {/r*}",
            &["1 redirect https://{x}.p.example{/r*} -> {/r*}"],
        ),
        (
            Stage::Redirect,
            "redirect permanent\n  /a -> /b\n\n  # between\n  /c -> /d 302\n",
            &["2 redirect /a -> /b permanent", "5 redirect /c -> /d"],
        ),
        (
            Stage::Redirect,
            "redirect 308 drop query\n  /a -> /b\n  http://w.example/c -> /d 307",
            &[
                "2 redirect /a -> /b 308 drop query",
                "3 redirect http://w.example/c -> /d 307 drop query",
            ],
        ),
        (
            Stage::Redirect,
            "redirect permanent\n  /z -> /y\n  table moved.csv\n  /q -> /r",
            &[
                "2 redirect /z -> /y permanent",
                "moved.csv:2 redirect /a -> /b permanent",
                "moved.csv:3 redirect /c -> /d",
                "moved.csv:5 redirect /e,f -> /g 308",
                "4 redirect /q -> /r permanent",
            ],
        ),
        (
            Stage::Redirect,
            "redirect\n  table columns.csv",
            &["columns.csv:2 redirect /a -> /b", "columns.csv:3 redirect /c -> /d"],
        ),
        (
            Stage::Redirect,
            "gone\n  table gone.csv\n  {/x*}/old",
            &["gone.csv:2 gone /x", "gone.csv:3 gone /y/{z}", "3 gone {/x*}/old"],
        ),
        (
            Stage::Redirect,
            "include sub/one.ravel\nredirect /a -> /b",
            &[
                "sub/one.ravel:2 redirect /one -> /1",
                "sub/t.csv:2 redirect /two -> /2",
                "three.ravel:1 gone /three",
                "2 redirect /a -> /b",
            ],
        ),
        (
            Stage::Redirect,
            "elsewhere /a\nelsewhere /b \"who, \\\"they\\\"\"",
            &["1 elsewhere /a", "2 elsewhere /b \"who, \\\"they\\\"\""],
        ),
        (
            Stage::Rewrite,
            "rewrite\n  /a -> /b\n  /c/{x} -> /d/{x}",
            &["2 rewrite /a -> /b", "3 rewrite /c/{x} -> /d/{x}"],
        ),
        (
            Stage::Fallback,
            "fallback /a{/x*} -> /a/ even files\nfallback even files\n  /b -> /c",
            &["1 fallback /a{/x*} -> /a/ even files", "3 fallback /b -> /c even files"],
        ),
        (Stage::Missing, "missing {/x*} -> /none.html", &["1 missing {/x*} -> /none.html"]),
        (
            Stage::Headers,
            "headers /a on all\n  set x: 1\nheaders /b\n  drop y",
            &["1 headers /a on all", "3 headers /b"],
        ),
    ];
    for (stage, text, expected) in cases {
        assert_eq!(read(*stage, text), *expected, "{text}");
    }
    let mixed =
        "site https://h.example/\r\n\tfiles\t\"a b\"   # c\r\n\r\nredirect /a -> /b\t# d\r\n";
    let rules = Rules::parse(&format!("\u{feff}{mixed}")).unwrap();
    assert_eq!(
        (rules.site().files(), rules.rules(Stage::Redirect)[0].line().number()),
        (Some("a b"), 4)
    );
}

#[test]
fn conditions_as_they_are_read() {
    let cases = [
        "where x is digits",
        "where x is digits 4",
        "where x is digits 1..6",
        "where x is digits 3..",
        "where x is one of a, b",
        "where x is not one of a, b",
        "where x matches \"[a-z]+(-[0-9]{2})?\"",
        "when language is de, en",
        "when cookie beta",
        "when cookie beta is on",
        "when header save-data",
        "when header save-data is on",
        "when header user-agent contains Lynx",
        "when host is w.example, h.example",
        "when scheme is http",
        "when method is GET, POST",
        "when header accept is one of a/b, \"c d\"",
        "when header accept is not one of a, b",
        "when cookie lab is not one of on, off",
        "when cookie lab contains x",
        "when preview",
        "when no file",
        "when not preview",
        "when not language is de",
    ];
    for condition in cases {
        let text = format!(
            "site https://h.example/\n  languages en, de\n  alias w.example\nredirect /{{x}} -> /a\n  {condition}\n"
        );
        let rules = Rules::parse(&text).unwrap_or_else(|problems| panic!("{problems}"));
        let tests = rules.rules(Stage::Redirect)[0].tests();
        let written = tests.iter().map(|test| test.written(rules.site().languages()));
        assert_eq!(written.collect::<Vec<_>>(), [condition]);
    }
}

#[test]
fn wheres_look_at_decoded_text_as_a_whole() {
    let holds = |condition: &str, sent: &str| {
        let rules = Rules::parse(&format!(
            "site https://h.example/\nredirect /a/{{x}} -> /b\n  where x {condition}\n"
        ))
        .unwrap();
        let edge = ravel::Edge::new(&rules, ravel::FileList::default());
        edge.answer(&ravel::Request::get(&format!("https://h.example/a/{sent}")).unwrap()).status()
            == Some(302)
    };
    let cases = [
        ("is digits", "007", true),
        ("is digits", "7a", false),
        ("is digits", "\u{0667}", false),
        ("is digits 2", "12", true),
        ("is digits 2", "123", false),
        ("is digits 2..3", "1234", false),
        ("is digits 2..", "123456789", true),
        ("is one of a, \"b c\"", "b%20c", true),
        ("is one of a, \"b c\"", "b", false),
        ("is not one of a, b", "c", true),
        ("is not one of a, b", "%61", false),
        ("matches \"[a-c]+\"", "abc", true),
        ("matches \"[a-c]+\"", "abcd", false),
        ("matches \"a|ab\"", "ab", true),
        ("matches \"(?i)abc\"", "ABC", true),
        ("matches \"a.c\"", "a%20c", true),
        ("matches \"a*?\"", "aaa", true),
        ("matches \"\"", "a", false),
    ];
    for (condition, sent, expected) in cases {
        assert_eq!(holds(condition, sent), expected, "{condition}: {sent}");
    }
}

#[test]
fn every_problem_is_reported_in_order() {
    let text = "redirect /x -> /y\nsite https://h.example/ now\n  pages tody\n  index a/b\n  hops two\n  ignore words\n  http down\n\
                redirect /a -> /b 999\n  where x is digits\n  when wind is strong\ngone\n  /ok\n  nonsense\n  /a#b\n\
                headers /a on tuesdays\n  put x: 1\n  set x: \u{7}\n";
    let problems = Rules::parse(text).unwrap_err();
    let lines: Vec<u32> = problems.iter().map(|problem| problem.place().line().number()).collect();
    let mut sorted = lines.clone();
    sorted.sort_unstable();
    assert_eq!(lines, sorted);
    assert_eq!(lines, [1, 2, 3, 4, 5, 6, 7, 8, 10, 13, 14, 15, 16, 17], "{problems}");
    assert!(problems.iter().all(
        |problem| !problem.kind().to_string().is_empty() && !problem.kind().remedy().is_empty()
    ));
}
