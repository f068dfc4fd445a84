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

#[test]
fn one_url_and_every_url_of_one_path_are_judged_alike() {
    let outcomes = pick(&[
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
    ]);
    let (seen, held, undecided) = (Cell::new(0), Cell::new(0), Cell::new(0));
    let sites = (prop::collection::vec(rule(), 1..5), given(), outcomes);
    law(2_000, &sites, |(texts, given, outcome)| {
        let is_read = |rule: &&String| Rules::parse(&format!("{SITE}{rule}")).is_ok();
        let good: String = texts.iter().filter(is_read).cloned().collect();
        let text =
            format!("{SITE}{good}expect /x {outcome}\n{given}expect every /x {outcome}\n{given}");
        let rules =
            Rules::parse(&text).map_err(|problems| TestCaseError::fail(problems.to_string()))?;
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let verdicts = verify_all(&edge);
        let (every, one): (Vec<_>, Vec<_>) =
            verdicts.iter().partition(|verdict| verdict.asked().starts_with("every"));
        let said = every[0].failures().first().map_or("", |failure| failure.got());
        seen.set(seen.get() + 1);
        if said.starts_with("undecided") {
            undecided.set(undecided.get() + 1);
            return Ok(());
        }
        held.set(held.get() + u32::from(every[0].holds()));
        // Where less is given, there is more than one request.
        prop_assert!(!every[0].holds() || one[0].holds(), "{said}\n{text}");
        let asks_for_more = texts.iter().any(|rule| {
            let asked = [
                ("header a", "given a:"),
                ("header d", "given d:"),
                ("cookie", "given cookie"),
                ("language", "given accept-language"),
            ];
            asked.iter().any(|(word, line)| rule.contains(word) && !given.contains(line))
        });
        prop_assert!(asks_for_more || every[0].holds() == one[0].holds(), "{said}\n{text}");
        // What it shows for a URL is so.
        if let Some(shown) = said.split_whitespace().next().filter(|_| !every[0].holds()) {
            prop_assert_eq!(shown.split('?').next().unwrap(), "https://h.example/x", "{}", text);
        }
        Ok(())
    });
    let (seen, held, undecided) = (seen.get(), held.get(), undecided.get());
    assert!(!is_whole() || held * 10 > seen, "only {held} of {seen} hold");
    assert!(!is_whole() || undecided * 200 <= seen, "{undecided} of {seen} are undecided");
}
