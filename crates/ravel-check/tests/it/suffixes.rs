//! Under which domains anybody can register a name.

// No pattern can name a suffix of one label, and a check of a whole list asks for those, too.
#[path = "../../src/audit/suffix.rs"]
mod suffix;

use std::collections::BTreeSet;

use ravel::finding::{Finding, FindingPlace};
use ravel::rules::Code;
use ravel::{Edge, FileList, Rules};
use ravel_check::Audit;
use suffix::is_public_suffix;

/// The rules of the list, as they are written.
fn rules() -> impl Iterator<Item = &'static str> {
    let list = include_str!("../../src/audit/public_suffixes.txt");
    list.lines().filter(|line| !line.starts_with("//"))
}

/// Those of these hosts under which a redirect to a captured label is one to anybody's name.
fn suffixes<'h>(hosts: &[&'h str]) -> BTreeSet<&'h str> {
    let mut text = "site https://h.example/\n".to_owned();
    for (number, host) in hosts.iter().enumerate() {
        text.push_str(&format!("redirect /{number}/{{label}} -> https://{{label}}.{host}/\n"));
    }
    let rules = Rules::parse(&text).unwrap_or_else(|problems| panic!("{problems}"));
    let edge = Edge::new(&rules, FileList::default());
    let (report, _) = Audit::new(&edge).all(|_| Err::<Vec<u8>, _>(""), Vec::new());
    let found = report.findings().iter().filter(|finding| finding.code() == Code::OpenRedirect);
    let place = |finding: &Finding| match finding.place() {
        FindingPlace::Line(line) => line.number() as usize - 2,
        other => panic!("{other:?} is no line"),
    };
    found.map(|finding| hosts[place(finding)]).collect()
}

#[test]
fn suffixes_are_those_of_the_list() {
    for host in ["com", "co.uk", "github.io", "xn--p1ai", "xn--55qx5d.cn", "x.ck"] {
        assert!(is_public_suffix(host), "{host}");
    }
    for host in ["example.com", "ck", "www.ck", "x.y.ck", "h.example", "example", "", "."] {
        assert!(!is_public_suffix(host), "{host}");
    }
    // Every rule is one that can be asked for.
    for rule in rules() {
        let host = rule.trim_start_matches('!').replace('*', "any");
        assert_eq!(is_public_suffix(&host), !rule.starts_with('!'), "{rule}");
    }
}

#[test]
fn redirects_below_suffixes_are_found() {
    let listed = ["co.uk", "github.io", "xn--55qx5d.cn", "x.ck"];
    assert_eq!(suffixes(&listed), BTreeSet::from(listed));
    let own = ["example.com", "www.ck", "x.y.ck", "h.example"];
    assert_eq!(suffixes(&own), BTreeSet::new());
}

#[test]
fn redirects_below_every_rule_of_the_list_are_found() {
    let named = rules().filter(|rule| rule.contains('.'));
    let (but, all): (Vec<&str>, Vec<&str>) = named.partition(|rule| rule.starts_with('!'));
    let all: Vec<String> = all.iter().map(|rule| rule.replace('*', "any")).collect();
    let all: Vec<&str> = all.iter().map(String::as_str).collect();
    assert_eq!(suffixes(&all).len(), all.len());
    let but: Vec<&str> = but.iter().map(|rule| &rule[1..]).collect();
    assert_eq!(suffixes(&but), BTreeSet::new());
}
