//! What expectations say, and their messages when they fail.

use ravel::expect::verify;
use ravel::{Edge, FileList, Rules};

const RULES: &str = "\
site https://h.example/
  alias w.example
  missing /404
redirect /a -> /about
redirect /away -> https://o.example/x
redirect /lost -> /none
redirect /round -> /round/
redirect /round/ -> /round
gone /gone
elsewhere /api{/x*}
fallback /app{/x*} -> /app/
headers /about
  set x-a: one
  add x-a: two
";

/// What is expected and got, for each part that does not hold.
fn failures(expectation: &str) -> Vec<(String, String)> {
    let rules = Rules::parse(&format!("{RULES}expect {expectation}\n"))
        .unwrap_or_else(|problems| panic!("{problems}"));
    let files = ["index.html", "about.html", "404.html", "app/index.html"];
    let edge = Edge::new(&rules, FileList::from_iter(files));
    let verdict = verify(&edge, &rules.expectations()[0]);
    verdict
        .failures()
        .iter()
        .map(|failure| (failure.expected().to_owned(), failure.got().to_owned()))
        .collect()
}

#[test]
fn what_holds() {
    let cases = [
        "/about serves /about.html",
        "/about serves about.html",
        "/a goes to /about",
        "/a goes to https://h.example/about as 302 in 1 hop",
        "http://w.example/a?x=1 goes to /about?x=1 as temporary in 1 hop",
        "/a#part goes to /about",
        "/a#part goes to /about#part",
        "/a goes to /%61bout",
        "/away goes to https://o.example/x",
        "/lost redirects to /none",
        "/away redirects to https://o.example/x as 302",
        "http://w.example/a redirects to /about",
        "/about is not missing",
        "/a is not missing",
        "/lost is not gone",
        "/a is not a loop",
        "/api/x is not missing",
        "/about has x-a matching /t.o/",
        "/about has cache-control matching /no-cache|max-age=0/",
        "/gone is gone",
        "/gone is gone as 410",
        "/none is missing as 404",
        "/api/x is elsewhere",
        "/round is a loop",
        "/round is a loop as 508",
        "POST /about is refused as 405",
        "https://x.example/ is refused as 421",
        "/a%zz is refused as 400",
        "/about has x-a",
        "/about has x-a: two",
        "/about has x-a: one, two",
        "/about has x-a containing wo",
        "/about lacks x-b",
        "/a goes to /about has x-a: one",
        "/a lacks x-a",
        "/app/x serves /app/index.html has cache-control: no-cache",
        "HEAD /about serves /about.html",
        "/about\n  given accept: x\n  given accept: y\n  serves /about.html\n  has x-a",
    ];
    for expectation in cases {
        assert_eq!(failures(expectation), [], "{expectation}");
    }
}

#[test]
fn what_fails_and_what_is_said() {
    let cases = [
        ("/about serves /index.html", "serves /index.html", "serves /about.html"),
        ("/about goes to /about", "goes to https://h.example/about", "serves /about.html"),
        ("/a serves /about.html", "serves /about.html", "302 to https://h.example/about"),
        ("/a is missing", "is missing", "302 to https://h.example/about"),
        (
            "/a goes to /about as 301",
            "goes to https://h.example/about as 301",
            "goes to https://h.example/about as 302 in 1 hop, which serves /about.html",
        ),
        (
            "/a goes to /about in 2 hops",
            "goes to https://h.example/about in 2 hops",
            "goes to https://h.example/about as 302 in 1 hop, which serves /about.html",
        ),
        (
            "/a goes to /about#x",
            "goes to https://h.example/about#x",
            "goes to https://h.example/about as 302 in 1 hop, which serves /about.html",
        ),
        // An end that does not answer 200 is no end to go to.
        (
            "/lost goes to /none",
            "goes to https://h.example/none",
            "goes to https://h.example/none as 302 in 1 hop, which is missing (404)",
        ),
        (
            "/away goes to https://o.example/y",
            "goes to https://o.example/y",
            "goes to https://o.example/x as 302 in 1 hop, which is not this site",
        ),
        ("/away goes to https://o.example/x has x-a", "has x-a", "the visitor leaves the site"),
        ("/round goes to /about", "goes to https://h.example/about", "is a loop (508)"),
        ("/none is gone", "is gone", "is missing (404)"),
        ("/none is missing as 410", "is missing as 410", "is missing (404)"),
        ("/api is missing", "is missing", "is elsewhere"),
        ("/about is a loop", "is a loop", "serves /about.html"),
        (
            "/lost is not missing",
            "is not missing",
            "goes to https://h.example/none as 302 in 1 hop, which is missing (404)",
        ),
        ("/round is not a loop", "is not a loop", "is a loop (508)"),
        (
            "/a redirects to /about as 301",
            "redirects to https://h.example/about as 301",
            "302 to https://h.example/about",
        ),
        (
            "/about redirects to /about",
            "redirects to https://h.example/about",
            "serves /about.html",
        ),
        ("/about has x-a matching /t/", "has x-a matching /t/", "x-a: one, two"),
        ("/about has x-b", "has x-b", "serves /about.html without x-b"),
        ("/about has x-a: three", "has x-a: three", "x-a: one, two"),
        ("/about has x-a containing three", "has x-a containing three", "x-a: one, two"),
        ("/about lacks x-a", "lacks x-a", "x-a: one, two"),
    ];
    for (expectation, expected, got) in cases {
        assert_eq!(failures(expectation), [(expected.to_owned(), got.to_owned())], "{expectation}");
    }
    assert_eq!(
        failures("/about is gone has x-b lacks x-a").len(),
        3,
        "every part that fails is told"
    );
}

/// A table asks each of its URLs; its own outcome wins over the line's.
#[test]
fn tables_of_urls() {
    let text = format!("{RULES}expect is not missing\n  table urls.csv\n");
    let table = |rows: &'static str| {
        Rules::parse_with(&text, move |_| Ok::<_, String>(rows.as_bytes().to_vec()))
    };
    let rules = table("url,outcome\n/a,\n/none,is missing\n/lost,\n/a,goes to /about\n").unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["about.html", "404.html"]));
    let verdicts: Vec<(u32, bool)> = rules
        .expectations()
        .iter()
        .map(|one| (one.line().number(), verify(&edge, one).holds()))
        .collect();
    assert_eq!(verdicts, [(2, true), (3, true), (4, false), (5, true)]);
    assert_eq!(rules.line_name(rules.expectations()[2].line()), "urls.csv:4");
    for (rows, wanted) in [
        ("address\n/a\n", "no column `url`"),
        ("url;outcome\n/a;is gone\n", "separated by semicolons"),
        ("url,outcome\n/a,is away\n", "unknown outcome `away`"),
        ("url\na\n", "`a` is not a valid URL"),
        ("", "begin the file with a header row"),
    ] {
        let problems = table(rows).unwrap_err().to_string();
        assert!(problems.contains(wanted), "{rows}: {problems}");
    }
    let problems =
        Rules::parse(&format!("{RULES}expect is not missing\n")).unwrap_err().to_string();
    assert!(problems.contains("`table FILE.csv` on a line below"), "{problems}");
}

/// An outcome that is none names the nearest.
#[test]
fn outcomes_that_are_none() {
    for (written, nearest) in [
        ("/a is 200", "serves FILE"),
        ("/a is 301", "redirects to URL"),
        ("/a is 404", "is missing"),
        ("/a is mising", "missing"),
        ("/a redirect to /b", "redirects to"),
    ] {
        let text = format!("{RULES}expect {written}\n");
        let problems = Rules::parse(&text).unwrap_err().to_string();
        assert!(problems.contains(&format!("did you mean `{nearest}`?")), "{written}: {problems}");
    }
}
