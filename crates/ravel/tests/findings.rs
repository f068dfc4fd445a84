//! The catalogue of findings in docs/findings.md: each wrong site has what is said, and each mended one has it no more.
//!
//! `RAVEL_BLESS=1 cargo test -p ravel --test findings` writes down what is said now.

mod catalogue;

use std::collections::BTreeSet;
use std::fmt::Write;

use catalogue::{block, compare};
use ravel::audit::{Audit, Code, Finding, FindingPlace, Report};
use ravel::{Edge, FileList, Rules};

/// Everything that is found on a site whose folder is given as lines: a name, and what is in the file.
fn check(rules: &str, folder: &str) -> (Vec<String>, Report) {
    let rules = Rules::parse(rules).unwrap_or_else(|problems| panic!("{rules}{problems}"));
    let files: Vec<(&str, &str)> = folder.lines().map(|line| line.split_once(' ').unwrap_or((line, ""))).collect();
    let edge = Edge::new(&rules, FileList::from_iter(files.iter().map(|(name, _)| *name)));
    let bytes = |name: &str| files.iter().find(|(known, _)| *known == name).map(|(_, text)| text.as_bytes().to_vec()).ok_or("");
    let report = Audit::new(&edge).all(bytes).0;
    (rules.sources().iter().map(|source| source.to_string()).collect(), report)
}

fn said(sources: &[String], finding: &Finding) -> String {
    let place = match &finding.place {
        FindingPlace::Line(line) => format!("{}:{}", sources[usize::from(line.source)], line.number),
        FindingPlace::File { name, at: Some((line, _)) } => format!("{name}:{line}"),
        FindingPlace::File { name, at: None } => name.to_string(),
    };
    let mut text = format!("{place}: {}\n", finding.what);
    for (label, words) in [("visitors", &finding.visitor), ("instead", &finding.instead)] {
        if !words.is_empty() {
            writeln!(text, "  {label}: {words}").unwrap();
        }
    }
    text
}

#[test]
fn the_catalogue_is_what_is_found() {
    let mut seen = BTreeSet::new();
    compare("findings.md", |name, section| {
        let code: Code = name.parse().unwrap_or_else(|()| panic!("`{name}` is no finding"));
        seen.insert(code);
        let wrong = block(section, "wrong").unwrap();
        let folder = block(section, "folder").unwrap_or("index.html\n");
        let (sources, report) = check(wrong, folder);
        let found: Vec<&Finding> = report.findings.iter().filter(|finding| finding.code == code).collect();
        assert!(!found.is_empty(), "{name} is not found; found is {:#?}", report.findings);
        let mended = block(section, "mended").unwrap_or(wrong);
        let (_, mended) = check(mended, block(section, "mended-folder").unwrap_or(folder));
        let still: Vec<&Finding> = mended.findings.iter().filter(|finding| finding.code == code).collect();
        assert!(still.is_empty(), "{name} is not mended: {still:#?}");
        found.iter().map(|finding| said(&sources, finding)).collect()
    });
    let missing: Vec<&Code> = Code::ALL.iter().filter(|code| !seen.contains(code)).collect();
    assert!(missing.is_empty(), "not in docs/findings.md: {missing:?}");
}
