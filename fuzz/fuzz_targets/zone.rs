//! Any text as a zone: it is read or refused with a line, and what is written of it reads the same.

#![no_main]

use libfuzzer_sys::fuzz_target;
use ravel::Rules;
use ravel_dns::{Plan, Zone};

/// Whether a text stands for so many records that a run would take long: its ranges have numbers of
/// more than two digits.
fn is_long(text: &str) -> bool {
    let long = |word: &str| {
        let runs = word.split(|byte: char| !byte.is_ascii_digit());
        word.contains('-') && runs.into_iter().any(|run| run.len() > 2)
    };
    text.to_ascii_uppercase().contains("GENERATE") && text.split_ascii_whitespace().any(long)
}

fuzz_target!(|text: &str| {
    if is_long(text) {
        return;
    }
    let zone = match Zone::parse("h.example", text) {
        Ok(zone) => zone,
        Err(error) => return assert!(error.line() >= 1),
    };
    let rules = "site https://h.example/\n  alias www.h.example\n\
        domain h.example\n  host edge.host.example\n  address 192.0.2.44\n  zone z\n";
    let rules = Rules::parse(rules).expect("the rules are valid");
    let plan = Plan::new(rules.site(), &rules.domains()[0], &zone);
    let written = zone.with(plan.changes());
    Zone::parse("h.example", &written).expect("what is written can be read");
});
