//! The catalogue of findings in docs/findings.md: each wrong site has what is said, and each mended one has it no more.
//!
//! `RAVEL_BLESS=1 cargo test -p ravel --test findings` writes down what is said now.

use std::collections::BTreeSet;
use std::fmt::Write;
use std::fs;
use std::path::Path;

use ravel::audit::{Audit, Code, Finding, FindingPlace, Report};
use ravel::{Edge, FileList, Rules};

/// Everything that is found on a site whose folder is given as lines: a name, and what is in the file.
fn check(rules: &str, folder: &str) -> (Vec<String>, Report) {
    let rules = Rules::parse(rules).unwrap_or_else(|problems| panic!("{rules}{problems}"));
    let files: Vec<(&str, &str)> = folder.lines().map(|line| line.split_once(' ').unwrap_or((line, ""))).collect();
    let edge = Edge::new(&rules, FileList::from_iter(files.iter().map(|(name, _)| *name)));
    let mut audit = Audit::new(&edge);
    let mut findings = audit.rules();
    findings.extend(audit.names());
    for (name, text) in files.iter().filter(|(name, _)| ravel::audit::reads(name)) {
        audit.read(name, text.as_bytes());
    }
    findings.extend(audit.content());
    findings.extend(audit.way_findings(&audit.ways_in()));
    let report = audit.report(findings);
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

fn block<'t>(section: &'t str, kind: &str) -> Option<&'t str> {
    let (_, rest) = section.split_once(&format!("```{kind}\n"))?;
    rest.split_once("```").map(|(text, _)| text)
}

#[test]
fn the_catalogue_is_what_is_found() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/findings.md");
    let text = fs::read_to_string(&path).unwrap();
    let bless = std::env::var_os("RAVEL_BLESS").is_some();
    let mut seen = BTreeSet::new();
    let mut blessed = String::new();
    for section in text.split_inclusive("\n### ").flat_map(|part| part.split_inclusive("\n## ")) {
        let Some(wrong) = block(section, "wrong") else {
            blessed.push_str(section);
            continue;
        };
        let name = section.split(['\n', ' ']).next().unwrap();
        let code: Code = name.parse().unwrap_or_else(|()| panic!("`{name}` is no finding"));
        seen.insert(code);
        let folder = block(section, "folder").unwrap_or("index.html\n");
        let (sources, report) = check(wrong, folder);
        let found: Vec<&Finding> = report.findings.iter().filter(|finding| finding.code == code).collect();
        assert!(!found.is_empty(), "{name} is not found; found is {:#?}", report.findings);
        let now: String = found.iter().map(|finding| said(&sources, finding)).collect();
        if !bless {
            assert_eq!(block(section, "said"), Some(now.as_str()), "{name}");
        }
        let start = section.find("```said\n").unwrap() + "```said\n".len();
        let end = start + section[start..].find("```").unwrap();
        blessed.extend([&section[..start], &now, &section[end..]]);
        let mended = block(section, "mended").unwrap_or(wrong);
        let (_, report) = check(mended, block(section, "mended-folder").unwrap_or(folder));
        let still: Vec<&Finding> = report.findings.iter().filter(|finding| finding.code == code).collect();
        assert!(still.is_empty(), "{name} is not mended: {still:#?}");
    }
    if bless {
        fs::write(&path, blessed).unwrap();
    }
    let missing: Vec<&Code> = Code::ALL.iter().filter(|code| !seen.contains(code)).collect();
    assert!(missing.is_empty(), "not in docs/findings.md: {missing:?}");
}
