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

/// What people write who know another notation, and what they are told to write instead.
#[test]
fn helps_lead_to_what_was_meant() {
    let cases = [
        ("redirect /k => /b", "write `/k -> /b`"),
        ("redirect /k /b", "write `/k -> /b`"),
        ("redirect /{lower x}.aspx -> /b", "`{lower x}` is not a valid capture"),
        ("redirect 301 /a -> /b", "write `redirect /a -> /b 301`"),
        ("redirect permanent /a /b", "write `redirect /a -> /b permanent`"),
        ("redirect /a -> $1", "write `{name}`"),
        ("redirect ^/a/(.*)$ -> /b/$1", "a pattern is not a regular expression"),
        ("redirect /a/(\\d+) -> /b", "`where name matches /[0-9]+/`"),
        ("gone *", "write `{/rest*}`"),
        ("  404 /404.html", "write `missing /404.html`"),
        ("  preview https://p.h.example/x", "write the host alone: `p.h.example`"),
        ("/* moved */", "`/*` does not begin a comment; write `#`"),
        ("<!-- moved -->", "`<!--` does not begin a comment"),
        ("expect / status 200", "`serves FILE` (200)"),
        ("expect / is 200", "did you mean `serves FILE`?"),
        ("headers /a\n  set etag: \"1\"", "rules cannot change `etag`"),
        ("headers /a\n  add keep-alive: timeout=1", "rules cannot change `keep-alive`"),
        ("headers /a\n  drop content-encoding", "rules cannot change `content-encoding`"),
    ];
    for (line, expected) in cases {
        let text = format!("site https://h.example/\n{line}\n");
        let said = Rules::parse(&text).expect_err(line).to_string();
        assert!(said.contains(expected), "{line}: {said}");
    }
    for name in ["content-range", "upgrade", "te", "trailer", "proxy-connection", "date", "allow"] {
        let text = format!("site https://h.example/\nheaders /a\n  set {name}: x\n");
        let said = Rules::parse(&text).expect_err(name).to_string();
        assert!(said.contains(&format!("rules cannot change `{name}`")), "{said}");
    }
}

/// Any white space stands between words, and schemes are read in any case.
#[test]
fn words_not_bytes() {
    let cases: &[(Stage, &str, &[&str])] = &[
        (Stage::Redirect, "redirect /a -> /b drop\tquery", &["1 redirect /a -> /b drop query"]),
        (Stage::Redirect, "redirect drop\tquery\n  /a -> /b", &["2 redirect /a -> /b drop query"]),
        (Stage::Redirect, "gone HTTPS://w.example/x", &["1 gone https://w.example/x"]),
        (
            Stage::Redirect,
            "gone\n  HTTPS://w.example/x\n  \"/q{/x*}\"\n  \"{/y*}\"",
            &["2 gone https://w.example/x", "3 gone /q{/x*}", "4 gone {/y*}"],
        ),
        (Stage::Redirect, "elsewhere \"{/x*}\"", &["1 elsewhere {/x*}"]),
    ];
    for (stage, text, expected) in cases {
        assert_eq!(read(*stage, text), *expected, "{text}");
    }
    let every = |text: &str| {
        let rules = Rules::parse(&format!("site https://h.example/\n{text}\n")).unwrap();
        rules.every_expectations()[0].pattern().to_string()
    };
    for (written, read) in
        [("{page}.html", "/{page}.html"), ("a/{+n}", "/a/{+n}"), ("{+n}", "{+n}")]
    {
        assert_eq!(every(&format!("expect every file {written} is not missing")), read);
    }
}

/// A slip in a table marks its cell.
#[test]
fn a_slip_in_a_table_marks_its_cell() {
    let marked = |row: &str| {
        let table = format!("old,new,status\n/good,/x,\n{row}\n");
        let load = |_: &str| Ok::<_, String>(table.clone().into_bytes());
        let problems =
            Rules::parse_with("site https://h.example/\nredirect\n  table t.csv\n", load)
                .expect_err(row);
        let place = problems.iter().next().unwrap().place();
        row[place.columns()].to_owned()
    };
    for (row, cell) in [
        ("/a,/b,399", "399"),
        ("/c,b,", "b"),
        ("x,/y,", "x"),
        ("\"/with,comma\",  wrong ,301", "wrong"),
        ("/a,\"/b/{\",", "{"),
        ("/a/{x,/b,", "{"),
        ("/short", ""),
    ] {
        assert_eq!(marked(row), cell, "{row}");
    }
}
