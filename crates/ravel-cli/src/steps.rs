//! The steps of an explanation as data for programs.

use ravel::edge::{
    CanonicalChange, HeaderChange, HeaderStep, LoopCause, Mismatch, Refusal, RuleResult, Step,
    StepWords,
};
use ravel::language::Line;
use serde_json::{Map, Value, json};

use crate::load::Loaded;

/// A step: what it is, its data, its place, and its words.
pub(crate) fn step(loaded: &Loaded, words: &StepWords<'_>) -> Value {
    let (kind, data) = data(loaded, words.step());
    let mut out = with_place(loaded, words.line());
    out.insert("step".into(), kind.into());
    if let Value::Object(data) = data {
        out.extend(data);
    }
    out.insert("subject".into(), words.subject().into());
    out.insert("result".into(), words.result().into());
    Value::Object(out)
}

/// A change of a header.
pub(crate) fn header_change(loaded: &Loaded, change: &HeaderStep) -> Value {
    let (kind, value) = match &change.change() {
        HeaderChange::Set(value) => ("set", Some(value)),
        HeaderChange::Added(value) => ("added", Some(value)),
        HeaderChange::Dropped => ("dropped", None),
    };
    let mut out = with_place(loaded, change.line());
    out.insert("name".into(), json!(change.name()));
    out.insert("change".into(), kind.into());
    out.insert("value".into(), json!(value));
    out.insert("rule".into(), json!(change.rule().map(|rule| rule.index())));
    Value::Object(out)
}

fn with_place(loaded: &Loaded, line: Option<Line>) -> Map<String, Value> {
    let mut out = Map::new();
    out.insert("source".into(), json!(line.map(|line| loaded.source(line))));
    out.insert("line".into(), json!(line.map(|line| line.number())));
    out
}

fn data(loaded: &Loaded, step: &Step) -> (&'static str, Value) {
    match step {
        Step::Refused(refusal) => ("refused", json!({ "why": refusal_name(refusal) })),
        Step::Host(host, role, _) => ("host", json!({ "host": host, "role": role.to_string() })),
        Step::HttpsFirst(host, _) => ("https-first", json!({ "host": host })),
        Step::Rule(rule, result) => {
            let mut data = rule_data(loaded, *rule, result);
            data.insert("rule".into(), rule.index().into());
            ("rule", Value::Object(data))
        }
        Step::Canonical(changes, _) => (
            "canonical",
            json!({ "changes": changes.iter().map(canonical_change).collect::<Vec<_>>() }),
        ),
        Step::Joined(url) => ("joined", json!({ "url": url })),
        Step::TooLong(url) => ("too-long", json!({ "url": url })),
        Step::Loop(url, cause) => {
            let cause = match cause {
                LoopCause::CameBack => "came-back",
                LoopCause::TooManySteps => "too-many-steps",
            };
            ("loop", json!({ "url": url, "cause": cause }))
        }
        Step::Outside(host, _) => ("outside", json!({ "host": host })),
        Step::Method(method) => ("method", json!({ "method": method.as_str() })),
        Step::File(file) => ("file", json!({ "file": file })),
        Step::NoFile(path, rule) => {
            ("no-file", json!({ "path": path, "rule": rule.map(|rule| rule.index()) }))
        }
        Step::NotFoundPage(file, _) => ("not-found-page", json!({ "file": file })),
        other => ("other", json!({ "debug": format!("{other:?}") })),
    }
}

fn refusal_name(refusal: &Refusal) -> &'static str {
    match refusal {
        Refusal::Malformed(_) => "malformed",
        Refusal::TwoHosts => "two-hosts",
        Refusal::TooLong => "url-too-long",
        Refusal::UnknownHost(_) => "unknown-host",
        _ => "other",
    }
}

fn canonical_change(change: &CanonicalChange) -> Value {
    match change {
        CanonicalChange::Scheme(scheme) => json!({ "scheme": scheme.as_str() }),
        CanonicalChange::Host(host) => json!({ "host": host }),
        CanonicalChange::Base(base) => json!({ "base": base }),
        CanonicalChange::Variant { file, path } => json!({ "file": file, "path": path }),
        other => json!({ "other": other.to_string() }),
    }
}

fn rule_data(loaded: &Loaded, rule: ravel::RuleId, result: &RuleResult) -> Map<String, Value> {
    let program = loaded.edge().program();
    let (happened, more) = match result {
        RuleResult::Matched => ("matched", json!({})),
        RuleResult::NotMatched(Mismatch::Origin) => ("not-matched", json!({ "part": "origin" })),
        RuleResult::NotMatched(Mismatch::Query) => ("not-matched", json!({ "part": "query" })),
        RuleResult::NotMatched(Mismatch::Path { at, .. }) => {
            ("not-matched", json!({ "part": "path", "byte": at }))
        }
        RuleResult::NotMatched(_) => ("not-matched", json!({})),
        RuleResult::ConditionNotMet(number) => {
            let languages = &loaded.edge().site().languages();
            let condition =
                program.rule(rule).tests().get(*number).map(|test| test.written(languages));
            ("condition-not-met", json!({ "condition": condition }))
        }
        RuleResult::Shadowed(by) => ("shadowed", json!({ "by": by.index() })),
        RuleResult::TargetImpossible(why) => {
            ("target-impossible", json!({ "why": why.to_string() }))
        }
        RuleResult::TargetIsRequest => ("target-is-request", json!({})),
        RuleResult::KnownFileType => ("known-file-type", json!({})),
        RuleResult::NoFile => ("no-file", json!({})),
        RuleResult::OtherAnswers => ("other-answers", json!({})),
        RuleResult::HeaderUnknown(name) => ("header-unknown", json!({ "header": name.as_str() })),
        _ => ("other", json!({})),
    };
    let mut data = Map::new();
    data.insert("happened".into(), happened.into());
    if let Value::Object(more) = more {
        data.extend(more);
    }
    data
}
