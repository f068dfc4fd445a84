//! What `expect every` can say besides an outcome.

use ravel::{Edge, FileList, Rules};
use ravel_check::verify_all;

/// `where`, captures in `location`, and files below `expect every`.
#[test]
fn what_every_can_say() {
    let site = "site https://h.example/\n  missing /404.html\nredirect /a/{x} -> https://o.example/{x}\n  \
                where x is digits 4\nredirect /b/{x} -> /a/{x}\nheaders /assets/{+file}\n  set x-a: 1\n";
    let files = ["index.html", "404.html", "assets/a.css", "assets/b/c.js", "other.css"];
    let cases = [
        ("expect every /a/{x} redirects to https://o.example/{x}\n  where x is digits 4\n", ""),
        (
            "expect every /a/{x} redirects to https://o.example/{x}\n",
            "https://h.example/a/a is missing",
        ),
        ("expect every /a/{x} has location: https://o.example/{x}\n  where x is digits 4\n", ""),
        (
            "expect every /a/{x} has location: \"https://o.example/{x}\"\n  where x is digits 4\n",
            "location",
        ),
        ("expect every /a/{x} is not missing\n  where x is digits 4\n", ""),
        ("expect every /a/{x} is not missing\n", "which is missing|is missing"),
        ("expect every /b/{x} is not missing\n", "missing"),
        ("expect every file assets/{+name} has x-a: 1\n", ""),
        ("expect every file /assets/{name} has x-a: 1\n", ""),
        ("expect every file {+name}.css has x-a: 1\n", "https://h.example/other.css"),
        ("expect every file none/{name} has x-a\n", "undecided: no built file has such a name"),
    ];
    for (expectation, got) in cases {
        let rules = Rules::parse(&format!("{site}{expectation}")).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(files));
        let verdict = verify_all(&edge).remove(0);
        let failed = verdict.failures().first().map_or("", |failure| failure.got());
        let is_as_wanted = match got {
            "" => failed.is_empty(),
            got => got.split('|').any(|got| failed.contains(got)),
        };
        assert!(is_as_wanted, "{expectation}: {failed}");
    }
    for (expectation, wanted) in [
        ("every /a/{x} has location: /{y}", "the pattern has no capture `y`"),
        ("every /a/{x} has x-b: {x}", "captures are not expanded in header values"),
        ("every /a/{x} is gone\n  where y is digits", "has no capture `y`"),
        ("every file https://h.example/a has x-b", "expected a path of the site"),
    ] {
        let problems =
            Rules::parse(&format!("{site}expect {expectation}\n")).unwrap_err().to_string();
        assert!(problems.contains(wanted), "{expectation}: {problems}");
    }
}

/// A header that visitors of one kind get is none that every visitor gets, also where a file is.
#[test]
fn headers_hang_on_the_visitor() {
    for condition in [
        "when cookie s",
        "when not cookie s",
        "when language is de",
        "when not language is en",
        "when header x-h is on",
    ] {
        for (subject, has_file) in [("/a", true), ("/{x}", true), ("/b", false)] {
            let on = if has_file { "" } else { " on missing" };
            let rules = Rules::parse(&format!(
                "site https://h.example/\n  languages en, de\nheaders /{{x}}{on}\n  {condition}\n  \
                 set x-a: 1\nexpect every {subject} has x-a: 1\nexpect every {subject} lacks x-a\n"
            ))
            .unwrap();
            let edge = Edge::new(&rules, FileList::from_iter(["a.html"]));
            let verdicts = verify_all(&edge);
            assert!(verdicts.iter().all(|verdict| !verdict.holds()), "{condition} {subject}");
            let got: Vec<&str> =
                verdicts.iter().map(|verdict| verdict.failures()[0].got()).collect();
            assert!(!got.iter().any(|got| got.starts_with("undecided")), "{condition}: {got:?}");
        }
    }
}

/// Where one answer stands for several hops, a later one can hang on the visitor.
#[test]
fn a_location_hangs_on_later_hops() {
    let rules = "redirect /a/ -> /a\nredirect /a -> /b/\n  when cookie c\n";
    for (hops, wanted) in [("", false), ("  hops each\n", true)] {
        for expected in ["redirects to /a", "has location: https://h.example/a"] {
            let rules = Rules::parse(&format!(
                "site https://h.example/\n{hops}{rules}expect every /a/ {expected}\n"
            ))
            .unwrap();
            let edge = Edge::new(&rules, FileList::from_iter(["a.html", "b/index.html"]));
            let verdict = verify_all(&edge).remove(0);
            assert_eq!(verdict.holds(), wanted, "{hops}{expected}: {:?}", verdict.failures());
        }
    }
}

/// What a redirect carries along may be part of where it leads.
#[test]
fn free_parameters_may_be_carried() {
    let site = "site https://h.example/\nredirect /q/{x} -> https://o.example/{x}\n\
                headers /q{/x*} on redirects\n  set x-a: 1\nheaders /q{/x*}?h on redirects\n  set x-a: 2\n";
    for (expectation, holds) in [
        ("expect every /q/{x} goes to https://o.example/{x}\n", true),
        ("expect every /q/{x} redirects to https://o.example/{x}\n  has x-a\n", true),
        ("expect every /q/{x} has location: https://o.example/{x}\n  has x-a\n", true),
        ("expect every /q/{x} redirects to https://o.example/p/{x}\n  has x-a\n", false),
        ("expect every /q/{x} has location: https://o.example/p/{x}\n  has x-a\n", false),
    ] {
        let rules = Rules::parse(&format!("{site}{expectation}")).unwrap();
        let verdict = verify_all(&Edge::new(&rules, FileList::default())).remove(0);
        let got = verdict.failures().first().map_or("", |failure| failure.got());
        assert_eq!(verdict.holds(), holds, "{expectation}: {got}");
    }
}

/// Where letters match in any case, what is captured is written back as it came, and not as a pattern
/// has it.
#[test]
fn letters_in_any_case_are_written_as_they_came() {
    let cases = [
        ("every /a/b{/x*} goes to https://o.example/n/a/b{/x*}", "https://h.example/"),
        ("every /a/b{/x*} goes to https://o.example/{+y}", "has no capture"),
        ("every /k{/x*} goes to https://o.example/k{/x*}", ""),
        ("every /1/2{/x*} goes to https://o.example/n/1/2{/x*}", ""),
        ("every /l/{x} is missing", "https://h.example/"),
    ];
    for (expectation, wanted) in cases {
        let text = format!(
            "site https://h.example/\n  ignore case\nredirect /K{{/x*}} -> https://o.example/k{{/x*}}\n\
             redirect /l/{{x}} -> /L/{{x}}\nredirect {{/all*}} -> https://o.example/n{{/all*}}\n  \
             where all is not one of /l\nexpect {expectation}\n"
        );
        let got = match Rules::parse(&text) {
            Err(problems) => problems.to_string(),
            Ok(rules) => {
                let edge = Edge::new(&rules, FileList::default());
                let verdict = verify_all(&edge).remove(0);
                verdict.failures().first().map_or(String::new(), |failure| failure.got().to_owned())
            }
        };
        assert!(
            got.contains(wanted) && got.is_empty() == wanted.is_empty(),
            "{expectation}: {got}"
        );
    }
}
