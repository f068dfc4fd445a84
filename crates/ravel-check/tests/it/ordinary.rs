//! Rules files of ordinary styles: what is asked of them is decided.

use ravel::rules::Code;
use ravel_check::{Audit, DifferenceKind, compare, verify_all};

#[test]
fn ordinary_rules_are_decided() {
    let (mut questions, mut open) = (0, Vec::new());
    for style in crate::styles::all() {
        let edge = style.load();
        let findings = Audit::new(&edge).rules();
        let undecided = findings.iter().filter(|finding| finding.code() == Code::Undecided);
        open.extend(undecided.map(|finding| format!("{}: {}", style.name, finding.message())));
        let verdicts = verify_all(&edge);
        for verdict in &verdicts {
            for failure in
                verdict.failures().iter().filter(|one| one.got().starts_with("undecided"))
            {
                open.push(format!("{}: {} {}", style.name, verdict.asked(), failure.expected()));
            }
        }
        // Whether it is reached, and where it leads, of each rule.
        questions += 2 * edge.program().all_rules().len().min(1_000) + verdicts.len();
    }
    assert!(open.len() * 200 < questions, "of {questions}: {open:#?}");
}

/// What some work on the rules and pages does to visitors, and what it does to leave out a statement.
#[test]
fn changes_of_ordinary_rules_are_decided() {
    let (mut rules, mut open) = (0, Vec::new());
    for style in crate::styles::all() {
        let old = style.load();
        for new in
            std::iter::once(style.changed()).chain(style.without_each(ravel_testing::sampled()))
        {
            rules += old.program().all_rules().len().min(1_000);
            for difference in compare(&old, &new).differences() {
                if difference.kind() == DifferenceKind::Undecided {
                    let url = difference.example().url().to_owned();
                    open.push(format!("{}: {url}: {:?}", style.name, difference.why()));
                }
            }
        }
    }
    assert!(open.len() * 200 <= rules, "of {rules}: {open:#?}");
}

/// A row refutes what is expected of every URL, among hundreds of rows.
#[test]
fn a_row_refutes() {
    let rows: String = (0..400).map(|at| format!("redirect /old/{at}.php -> /q{at}\n")).collect();
    let text =
        format!("site https://h.example/\n{rows}expect every /old/{{x}}.php goes to /p{{x}}\n");
    let rules = ravel::Rules::parse(&text).unwrap();
    let edge = ravel::Edge::new(&rules, ravel::FileList::default());
    let verdict = &verify_all(&edge)[0];
    assert!(verdict.failures()[0].got().contains("/old/0.php"), "{verdict:?}");
}

/// Hundreds of rows for one path, told apart by their queries, beside a pattern for dates.
#[test]
fn rows_with_queries_are_decided() {
    let rows: String =
        (0..900).map(|at| format!("redirect /article.php?id={at} -> /p\n")).collect();
    let text = format!(
        "site https://h.example/\n  missing /404\n{rows}redirect /article.php?id=77 -> /p\n\
         redirect /{{year}}{{/rest*}} -> /p{{/rest*}}\n  where year is digits 4\n"
    );
    let rules = ravel::Rules::parse(&text).unwrap();
    let files = ["p.html", "404.html"];
    let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(files));
    let audit = Audit::new(&edge);
    let findings = audit.rules();
    let codes: Vec<&str> = findings.iter().map(|finding| finding.code().name()).collect();
    assert!(codes.contains(&"duplicate-rule") && !codes.contains(&"undecided"), "{codes:?}");
}
