//! The canonical form: reached at once, never left, and never another meaning.

use proptest::prelude::*;
use ravel::language::format;
use ravel::{Edge, FileList, Request, Rules};

#[test]
fn forms() {
    let cases = [
        ("", ""),
        ("\n\n# a\n\n\n\n#b  \n", "# a\n\n#b\n"),
        (
            "\u{feff}site  https://h.example/\r\n\tfiles\tdist\r\n",
            "site https://h.example/\n  files dist\n",
        ),
        (
            "site https://h.example/\n languages en,de ,fr\n index  home.html  # why\n # between\n ignore case\n",
            "site https://h.example/\n  languages en, de, fr\n  index     home.html  # why\n  # between\n  ignore    case\n",
        ),
        (
            "redirect /a -> /b\nrewrite  /long  ->  /c\n\ngone /x\n",
            "redirect /a   -> /b\nrewrite /long -> /c\n\ngone /x\n",
        ),
        (
            "redirect permanent\n /a -> /b  # 1\n   /abc   -> /bcd 302 # 2\n",
            "redirect permanent\n  /a   -> /b       # 1\n  /abc -> /bcd 302  # 2\n",
        ),
        ("elsewhere /a   \"who  is\"\n", "elsewhere /a \"who  is\"\n"),
        (
            "headers /a  on   all\n set  x-a:   b  # c\n drop  x-b # d\n",
            "headers /a on all\n  set x-a: b  # c\n  drop x-b  # d\n",
        ),
        (
            "redirect /{a} -> /b\n where  a is not one of x,y\n",
            "redirect /{a} -> /b\n  where a is not one of x, y\n",
        ),
        (
            "expect /a  is gone\nexpect POST /abc   is refused as 405\nexpect /b has  x:  y  # z\n",
            "expect /a        is gone\nexpect POST /abc is refused as 405\nexpect /b        has x: y  # z\n",
        ),
    ];
    for (text, expected) in cases {
        let expected = expected.replace("-> /b       # 1", "-> /b        # 1");
        assert_eq!(format(text).unwrap(), expected, "{text:?}");
        assert_eq!(format(&expected).unwrap(), expected, "{text:?} again");
    }
    assert_eq!(format("redirect \"/a -> /b\n\nelsewhere /x \"y\n").unwrap_err().len(), 2);
}

/// Statements with too much and too little white space, in any order.
fn statement() -> impl Strategy<Value = String> {
    const STATEMENTS: [&str; 14] = [
        "redirect~/a~->~/b~permanent",
        "redirect~/a{x}~->~/c?q={x}~#~note",
        "redirect~/a?k={v}~->~/{v}~drop~query\n~where~v~is~one~of~a~,b,\"c~d\"",
        "redirect\n~/ab~->~/b~301\n~#~a~comment\n~/b~->~https://o.example/#frag~~#~x\n~when~method~is~GET,POST",
        "gone~/gone{/x*}~#~why",
        "elsewhere~/api~\"a~#~b,~c\"",
        "rewrite~/today~->~/page",
        "fallback~{/x*}~->~/page~even~files",
        "headers~/page~on~all\n~set~x-a:~a~#~b,~c\n~~add~x-b:~\"q\"",
        "headers~{/x*}\n~drop~x-a",
        "expect~/page~serves~/page.html\n~has~x-a:~a~#~b,~c~lacks~x",
        "expect~/a~~goes~to~/b~as~301~in~1~hop~#~one",
        "#~a~comment",
        "",
    ];
    (prop::sample::select(&STATEMENTS[..]), prop::collection::vec(1..4_usize, 24)).prop_map(
        |(text, spaces)| {
            let mut spaces = spaces.iter().cycle();
            text.chars()
                .map(|c| if c == '~' { " ".repeat(*spaces.next().unwrap()) } else { c.to_string() })
                .collect()
        },
    )
}

fn told(rules: &Rules, url: &str) -> String {
    let edge = Edge::new(rules, FileList::from_iter(["page.html", "b.html"]));
    let answer = edge.answer(&Request::get(url).unwrap());
    let headers: Vec<String> = answer
        .headers()
        .iter()
        .map(|header| format!("{}: {}", header.name(), header.value()))
        .collect();
    format!("{} {:?} {headers:?}", answer.status().unwrap_or_default(), answer.file())
}

proptest! {
    #![proptest_config(ravel_testing::config(500))]

    #[test]
    fn formatting_never_changes_an_answer(statements in prop::collection::vec(statement(), 0..10)) {
        let text = format!("site  https://h.example/\n alias  w.example,v.example # x\n  missing  /page\n{}\n", statements.join("\n"));
        let rules = Rules::parse(&text).map_err(|problems| TestCaseError::fail(problems.to_string()))?;
        let formatted = format(&text).unwrap();
        prop_assert_eq!(format(&formatted), Ok(formatted.clone()));
        prop_assert_eq!(formatted.matches('#').count(), text.matches('#').count(), "a comment is lost");
        let again = Rules::parse(&formatted).map_err(|problems| TestCaseError::fail(format!("{formatted}\n{problems}")))?;
        for path in ["a", "ab", "a?k=a", "a?k=c+d", "b", "abc", "gone/x", "api", "today", "page", "x.js", "none"] {
            for host in ["h.example", "w.example"] {
                let url = format!("https://{host}/{path}");
                prop_assert_eq!(told(&rules, &url), told(&again, &url), "{}\n{}", url, formatted);
            }
        }
        let shown = |rules: &Rules| -> Vec<String> {
            let parts = |e: &ravel::Expectation| e.checks().iter().map(|check| check.to_string()).collect::<Vec<_>>();
            rules.expectations().iter().map(|e| format!("{} {:?} {:?}", e.url(), e.outcome(), parts(e))).collect()
        };
        prop_assert_eq!(shown(&rules), shown(&again));
    }

    #[test]
    fn no_text_panics_and_twice_is_once(text in "(site|expect|headers|redirect|  set|  where a is one of|[ #\"\\\\,:>a/\n-]|\\PC){0,40}") {
        if let Ok(once) = format(&text) {
            prop_assert_eq!(format(&once), Ok(once), "{:?}", text);
        }
    }
}
