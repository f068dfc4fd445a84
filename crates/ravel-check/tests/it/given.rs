//! `expect` and `expect every` say the same of one URL, whatever is given: every kind of condition
//! beside every effect.

use std::cell::Cell;

use proptest::prelude::*;
use ravel::{Edge, FileList, Rules};
use ravel_check::verify_all;
use ravel_testing::{is_whole, law};

const SITE: &str =
    "site https://h.example/\n  alias w.example\n  languages en, de\n  missing /404.html\n";
const FILES: [&str; 6] =
    ["index.html", "de/index.html", "en/index.html", "a.html", "b.html", "404.html"];

fn pick(all: &'static [&'static str]) -> impl Strategy<Value = &'static str> {
    prop::sample::select(all)
}

/// A rule for one path, or for some below which it is.
fn rule() -> impl Strategy<Value = String> {
    let effects = pick(&[
        "redirect /x -> /de/",
        "redirect /x -> /en/ permanent",
        "redirect /{any} -> /a",
        "redirect /x -> https://o.example/",
        "gone /x",
        "gone /{any}",
        "rewrite /x -> /a",
        "rewrite /{any} -> /b",
        "fallback /x -> /a",
        "fallback /{any} -> /b",
        "missing /{any} -> /a",
        "elsewhere /x \"them\"",
        "headers /x on all\n  set x-a: 1",
        "headers /{any} on all\n  set x-a: 2",
    ]);
    let conditions = pick(&[
        "",
        "when header a is b",
        "when header a is not b",
        "when header a is one of b, c",
        "when header a is not one of b, c",
        "when header a contains b",
        "when header a",
        "when not header a",
        "when header d is b",
        "when cookie k",
        "when cookie k is 1",
        "when cookie k is one of 1, 2",
        "when cookie l is 1",
        "when language is de",
        "when language is en",
        "when method is POST",
        "when host is w.example",
        "when no file",
    ]);
    (effects, prop::collection::vec(conditions, 0..3)).prop_map(|(effect, conditions)| {
        let lines = conditions.iter().filter(|one| !one.is_empty());
        format!("{effect}\n{}", lines.map(|one| format!("  {one}\n")).collect::<String>())
    })
}

fn given() -> impl Strategy<Value = String> {
    let fields = pick(&[
        "given a: b",
        "given a: c",
        "given a: ab",
        "given a: other",
        "given d: b",
        "given cookie: k=1",
        "given cookie: k=2; l=1",
        "given cookie: m=1",
        "given accept-language: de",
        "given accept-language: en, de;q=0.5",
        "given accept-language: fr",
    ]);
    prop::collection::vec(fields, 0..3).prop_map(|mut fields| {
        fields.sort_unstable();
        // One line of each name.
        fields.dedup_by_key(|field| field.split(':').next().map(str::to_owned));
        fields.iter().map(|field| format!("  {field}\n")).collect()
    })
}

/// Each is asked of every site.
const OUTCOMES: [&str; 12] = [
    "goes to /de/",
    "goes to /a",
    "redirects to /en/ as 301",
    "serves /a.html",
    "serves /b.html",
    "is gone",
    "is missing",
    "is elsewhere",
    "is not missing",
    "is not gone",
    "has x-a: 1",
    "lacks x-a",
];

/// Whether a rule looks at header fields of which nothing is given: then there are several requests.
fn asks_for_more(rule: &str, given: &str) -> bool {
    let asked = [
        ("header a", "given a:"),
        ("header d", "given d:"),
        ("cookie", "given cookie"),
        ("language", "given accept-language"),
    ];
    asked.iter().any(|(word, line)| rule.contains(word) && !given.contains(line))
}

#[test]
fn one_url_and_every_url_of_one_path_are_judged_alike() {
    let (seen, held, undecided) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let add = |count: &Cell<u32>, one: bool| count.set(count.get() + u32::from(one));
    let sites = (prop::collection::vec(rule(), 1..5), given());
    law(2_000, &sites, |(texts, given)| {
        let is_read = |rule: &&String| Rules::parse(&format!("{SITE}{rule}")).is_ok();
        let good: String = texts.iter().filter(is_read).cloned().collect();
        let [one, every] = ["expect /x", "expect every /x"]
            .map(|head| OUTCOMES.map(|outcome| format!("{head} {outcome}\n{given}")).concat());
        let text = format!("{SITE}{good}{one}{every}");
        let rules =
            Rules::parse(&text).map_err(|problems| TestCaseError::fail(problems.to_string()))?;
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let verdicts = verify_all(&edge);
        let (every, one): (Vec<_>, Vec<_>) =
            verdicts.iter().partition(|verdict| verdict.asked().starts_with("every"));
        prop_assert_eq!((one.len(), every.len()), (OUTCOMES.len(), OUTCOMES.len()));
        let is_one_request = !texts.iter().any(|rule| asks_for_more(rule, &given));
        for ((one, every), outcome) in one.into_iter().zip(every).zip(OUTCOMES) {
            let said = every.failures().first().map_or("", |failure| failure.got());
            add(&seen, true);
            if said.starts_with("undecided") {
                add(&undecided, true);
                continue;
            }
            add(&held, every.holds());
            prop_assert!(!every.holds() || one.holds(), "{outcome}: {said}\n{text}");
            let is_alike = every.holds() == one.holds();
            prop_assert!(!is_one_request || is_alike, "{outcome}: {said}\n{text}");
            // What it shows is a URL of the path.
            if let Some(shown) = said.split_whitespace().next().filter(|_| !every.holds()) {
                prop_assert_eq!(
                    shown.split('?').next().unwrap(),
                    "https://h.example/x",
                    "{}",
                    text
                );
            }
        }
        Ok(())
    });
    let (seen, held, undecided) = (seen.get(), held.get(), undecided.get());
    assert!(!is_whole() || held * 10 > seen, "only {held} of {seen} hold");
    assert!(!is_whole() || undecided * 200 <= seen, "{undecided} of {seen} are undecided");
}

/// A field that is given is sent once, and whole.
#[test]
fn what_is_given_is_what_is_asked() {
    let cases = [
        ("when header a is one of b, c", "given a: b"),
        ("when header a contains b", "given a: abc"),
        ("when cookie k is 1", "given cookie: k=1"),
        ("when not cookie k", "given cookie: m=1"),
        ("when language is de", "given accept-language: de"),
    ];
    for (condition, given) in cases {
        let text = format!(
            "{SITE}redirect /x -> /de/\n  {condition}\nredirect /x -> /en/\n\
             expect every /x goes to /de/\n  {given}\nexpect /x goes to /de/\n  {given}\n"
        );
        let rules = Rules::parse(&text).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        for verdict in verify_all(&edge) {
            assert!(verdict.holds(), "{}: {:?}\n{text}", verdict.asked(), verdict.failures());
        }
    }
}
