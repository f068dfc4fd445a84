//! The catalogue of findings in docs/findings.md: each wrong site has its message, and each fixed
//! one has it no more.
//!
//! `RAVEL_BLESS=1 cargo test -p ravel-cli --test it findings::` writes the messages of now.

use std::collections::BTreeSet;
use std::fmt::Write;

use crate::catalogue::{block, compare};
use ravel::edit::Edit;
use ravel::finding::{Finding, FindingPlace};
use ravel::rules::{Code, Severity};
use ravel::{Edge, FileList, Rules};
use ravel_check::{Audit, Report};

/// Everything that is found on a site whose folder is given as lines: a name, and what is in the
/// file. `zone` is its zone.
fn check(rules: &str, folder: &str, zone: &str) -> (Vec<String>, Report) {
    let load = |name: &str| match name {
        "labs.csv" => Ok((0..101)
            .fold("old,new\n".to_owned(), |table, row| format!("{table}/labs/{{page_{row}}},/\n"))
            .into_bytes()),
        _ => Err("there is no such file"),
    };
    let rules =
        Rules::parse_with(rules, load).unwrap_or_else(|problems| panic!("{rules}{problems}"));
    let files: Vec<(&str, &str)> =
        folder.lines().map(|line| line.split_once(' ').unwrap_or((line, ""))).collect();
    let edge = Edge::new(&rules, FileList::from_iter(files.iter().map(|(name, _)| *name)));
    let bytes = |name: &str| {
        files
            .iter()
            .find(|(known, _)| *known == name)
            .map(|(_, text)| text.as_bytes().to_vec())
            .ok_or("")
    };
    let named = |path: &str| match path {
        "harbour.example.zone" => Ok(zone.as_bytes().to_vec()),
        path => certificate(path).map(String::into_bytes).ok_or("there is no such file"),
    };
    let now = "2027-01-15T12:00:00Z".parse().unwrap();
    let report = Audit::new(&edge).all(bytes, ravel_dns::findings(&rules, now, named)).0;
    (rules.sources().iter().map(|source| source.to_string()).collect(), report)
}

/// The certificates that the examples name.
fn certificate(path: &str) -> Option<String> {
    let both: &[&str] = &["harbour.example", "www.harbour.example"];
    let (names, years) = match path {
        "site.pem" => (both, 2026..2028),
        "one-label.pem" => (&["*.harbour.example"][..], 2026..2028),
        "old.pem" => (both, 2025..2026),
        "soon.pem" => (both, 2026..2027),
        "mixed.pem" | "alone.pem" | "self-signed.pem" | "with-key.pem" => (both, 2026..2028),
        _ => return None,
    };
    let authority = |name: &str| {
        let mut params = rcgen::CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        rcgen::CertifiedIssuer::self_signed(params, rcgen::KeyPair::generate().unwrap()).unwrap()
    };
    let (issuer, other) = (authority("Quay Authority"), authority("Other Authority"));
    let mut params = rcgen::CertificateParams::new(
        names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>(),
    )
    .unwrap();
    params.not_before = rcgen::date_time_ymd(years.start, 1, 1);
    // It is the middle of January.
    let last = if path == "soon.pem" { 25 } else { 1 };
    params.not_after = rcgen::date_time_ymd(years.end, 1, last);
    let key = rcgen::KeyPair::generate().unwrap();
    let own = params.signed_by(&key, &issuer).unwrap();
    Some(match path {
        "mixed.pem" => format!("{}{}", own.pem(), other.pem()),
        "alone.pem" => own.pem(),
        "self-signed.pem" => params.self_signed(&key).unwrap().pem(),
        "with-key.pem" => format!("{}{}{}", key.serialize_pem(), own.pem(), issuer.pem()),
        _ => format!("{}{}", own.pem(), issuer.pem()),
    })
}

fn said(sources: &[String], finding: &Finding) -> String {
    let place = match finding.place() {
        FindingPlace::Line(line) => {
            format!("{}:{}", sources[usize::from(line.source())], line.number())
        }
        FindingPlace::File { name, at: Some((line, _)) } => format!("{name}:{line}"),
        FindingPlace::File { name, at: None } => name.to_string(),
        FindingPlace::Named { name, number: Some(number), .. } => format!("{name}:{number}"),
        FindingPlace::Named { name, .. } => name.to_string(),
        other => panic!("{other:?} is shown nowhere"),
    };
    let mut text = format!("{place}: {}\n", finding.message());
    for (label, words) in [("note", &finding.note()), ("help", &finding.help())] {
        if let Some(words) = words {
            writeln!(text, "  {label}: {words}").unwrap();
        }
    }
    text
}

/// The rules and the folder with what a finding's help says to change.
fn applied(finding: &Finding, rules: &str, folder: &str) -> (String, String) {
    let (mut rules, mut folder) = (rules.to_owned(), folder.to_owned());
    let mut edits = finding.edits().to_vec();
    // The last change of a text comes first.
    edits.sort_by_key(|edit| match edit {
        Edit::InFile { range, .. } => std::cmp::Reverse(range.start),
        _ => std::cmp::Reverse(0),
    });
    for edit in &edits {
        let Edit::InFile { name, .. } = edit else {
            let change = edit.of(&rules).unwrap();
            rules.replace_range(change.range(), change.text());
            continue;
        };
        let lines = folder.lines().map(|line| match line.split_once(' ') {
            Some((known, text)) if *known == **name => {
                let mut text = text.to_owned();
                let change = edit.of(&text).unwrap();
                text.replace_range(change.range(), change.text());
                format!("{known} {text}\n")
            }
            _ => format!("{line}\n"),
        });
        folder = lines.collect();
    }
    (rules, folder)
}

/// Does what findings say to change, one at a time: each is gone then, and nothing else has come.
fn edits_hold(report: &Report, rules: &str, folder: &str, zone: &str) -> BTreeSet<Code> {
    let key = |finding: &Finding| (finding.code(), finding.message().to_owned());
    let before: Vec<_> = report.findings().iter().map(key).collect();
    let with_edits = report.findings().iter().filter(|finding| !finding.edits().is_empty());
    let hold = |finding: &Finding| {
        let (rules, folder) = applied(finding, rules, folder);
        let (_, after) = check(&rules, &folder, zone);
        let after: Vec<_> = after.findings().iter().map(key).collect();
        assert!(!after.contains(&key(finding)), "{finding:#?} is still found in {rules}{folder}");
        // A habit is a note, and not shown unless it is asked for.
        let is_new =
            |one: &&(Code, String)| one.0.severity() < Severity::Note && !before.contains(one);
        let new: Vec<_> = after.iter().filter(is_new).collect();
        assert!(new.is_empty(), "with {:?} there is {new:#?}", finding.edits());
        finding.code()
    };
    with_edits.map(hold).collect()
}

#[test]
fn another_slash_form_is_written_with_all_that_its_line_says() {
    let site = "site https://h.example/\n  missing /404.html\n  alias www.h.example\n";
    let folder = "index.html\na.html\nb/index.html\n404.html\n";
    for (rules, has_edit) in [
        ("redirect /x -> /a\n", true),
        ("redirect /x/ -> /b/ permanent\n", true),
        ("redirect /x -> https://else.example/a\n", true),
        ("redirect /x -> /y\nredirect /y -> /a\n", false),
        ("redirect /x -> /nowhere\n", false),
        ("redirect /x -> https://www.h.example/a\n", false),
    ] {
        let rules = format!("{site}{rules}");
        let (_, report) = check(&rules, folder, "");
        let slash = |finding: &&Finding| {
            let first = finding.message().starts_with("/x");
            finding.code() == Code::MissingSlashVariant && first
        };
        let found = report.findings().iter().find(slash);
        let found = found.unwrap_or_else(|| panic!("{rules}{:#?}", report.findings()));
        assert_eq!(!found.edits().is_empty(), has_edit, "{rules}{found:#?}");
        edits_hold(&report, &rules, folder, "");
    }
}

/// What each finding says, and that it is gone once it is fixed; where it says what to change, that
/// is done, it is gone, and nothing else has come.
#[test]
fn the_catalogue_is_what_is_found() {
    let (mut seen, mut edited) = (BTreeSet::new(), BTreeSet::new());
    compare("findings.md", |name, section| {
        let code: Code = name.parse().unwrap_or_else(|_| panic!("`{name}` is no finding"));
        seen.insert(code);
        let wrong = block(section, "wrong").unwrap();
        let folder = block(section, "folder").unwrap_or("index.html\n");
        let zone = block(section, "zone").unwrap_or("");
        let (sources, report) = check(wrong, folder, zone);
        let found: Vec<&Finding> =
            report.findings().iter().filter(|finding| finding.code() == code).collect();
        assert!(!found.is_empty(), "{name} is not found; found is {:#?}", report.findings());
        edited.extend(edits_hold(&report, wrong, folder, zone));
        let fixed = block(section, "fixed").unwrap_or(wrong);
        let zone = block(section, "fixed-zone").unwrap_or(zone);
        let (_, fixed) = check(fixed, block(section, "fixed-folder").unwrap_or(folder), zone);
        let still: Vec<&Finding> =
            fixed.findings().iter().filter(|finding| finding.code() == code).collect();
        assert!(still.is_empty(), "{name} is not fixed: {still:#?}");
        found.iter().map(|finding| said(&sources, finding)).collect()
    });
    let missing: Vec<&Code> = Code::ALL.iter().filter(|code| !seen.contains(code)).collect();
    assert!(missing.is_empty(), "not in docs/findings.md: {missing:?}");
    assert!(edited.len() >= 8, "{edited:?}");
}
