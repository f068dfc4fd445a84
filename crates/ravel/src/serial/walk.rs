//! A request, followed: its answers, with the steps that led to each.

use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};

use super::{Data, SerializeBeside};
use crate::edge::{
    CanonicalChange, Explanation, Header, HeaderChange, HeaderStep, LoopCause, Mismatch, Refusal,
    RuleResult, Step, StepWords, Walk, WalkEnd,
};
use crate::language::Line;
use crate::program::RuleId;
use crate::rules::Rules;

#[derive(serde::Serialize)]
struct WalkData<'a, 'e> {
    answers: Answers<'a, 'e>,
    ends: EndData<'a>,
    hops: usize,
}

#[derive(serde::Serialize)]
struct EndData<'a> {
    url: &'a str,
    outcome: &'static str,
    status: Option<u16>,
    file: Option<&'a str>,
}

impl SerializeBeside for Walk<'_> {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let last = &self.last().1.answer;
        let answered = self.end == WalkEnd::Answer;
        WalkData {
            answers: Answers { rules, list: &self.answers },
            ends: EndData {
                url: self.url(),
                outcome: self.outcome().as_str(),
                status: answered.then(|| last.status()).flatten(),
                file: answered.then(|| last.file()).flatten(),
            },
            hops: self.hops(),
        }
        .serialize(serializer)
    }
}

/// The answers, each with the URL that was asked.
struct Answers<'a, 'e> {
    rules: &'a Rules,
    list: &'a [(String, Explanation<'e>)],
}

impl Serialize for Answers<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(Some(self.list.len()))?;
        for (url, explanation) in self.list {
            list.serialize_element(&AnswerData { url, answer: self.rules.data(explanation) })?;
        }
        list.end()
    }
}

#[derive(serde::Serialize)]
struct AnswerData<'a, 'e> {
    url: &'a str,
    #[serde(flatten)]
    answer: Data<'a, Explanation<'e>>,
}

#[derive(serde::Serialize)]
struct ExplanationData<'a, 'e> {
    outcome: &'static str,
    status: Option<u16>,
    location: Option<&'a str>,
    file: Option<&'a str>,
    headers: Data<'a, [Header<'e>]>,
    header_changes: Data<'a, [HeaderStep]>,
    steps: Steps<'a, 'e>,
}

impl SerializeBeside for Explanation<'_> {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let answer = &self.answer;
        ExplanationData {
            outcome: answer.outcome().as_str(),
            status: answer.status(),
            location: answer.location(),
            file: answer.file(),
            headers: rules.data(answer.headers()),
            header_changes: rules.data(&*self.headers),
            steps: Steps { rules, explanation: self },
        }
        .serialize(serializer)
    }
}

#[derive(serde::Serialize)]
struct HeaderData<'a> {
    name: &'a str,
    value: &'a str,
    source: Option<&'a str>,
    line: Option<u32>,
}

impl SerializeBeside for Header<'_> {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        HeaderData {
            name: self.name,
            value: &self.value,
            source: self.line.map(|line| rules.source(line)),
            line: self.line.map(|line| line.number),
        }
        .serialize(serializer)
    }
}

fn place<M: SerializeMap>(map: &mut M, rules: &Rules, line: Option<Line>) -> Result<(), M::Error> {
    map.serialize_entry("source", &line.map(|line| rules.source(line)))?;
    map.serialize_entry("line", &line.map(|line| line.number))
}

fn rule<M: SerializeMap>(map: &mut M, key: &'static str, rule: RuleId) -> Result<(), M::Error> {
    map.serialize_entry(key, &rule.index())
}

impl SerializeBeside for HeaderStep {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let (change, value) = match &self.change {
            HeaderChange::Set(value) => ("set", Some(value)),
            HeaderChange::Added(value) => ("added", Some(value)),
            HeaderChange::Dropped => ("dropped", None),
        };
        let mut map = serializer.serialize_map(None)?;
        place(&mut map, rules, self.line)?;
        map.serialize_entry("name", &self.name)?;
        map.serialize_entry("change", change)?;
        map.serialize_entry("value", &value)?;
        map.serialize_entry("rule", &self.rule.map(RuleId::index))?;
        map.end()
    }
}

struct Steps<'a, 'e> {
    rules: &'a Rules,
    explanation: &'a Explanation<'e>,
}

impl Serialize for Steps<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        for words in self.explanation.words() {
            list.serialize_element(&self.rules.data(&words))?;
        }
        list.end()
    }
}

/// A step: its place, what it is, its data, its words.
impl SerializeBeside for StepWords<'_> {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        place(&mut map, rules, self.line())?;
        step(&mut map, rules, self.step())?;
        map.serialize_entry("subject", &self.subject())?;
        map.serialize_entry("result", &self.result())?;
        map.end()
    }
}

fn step<M: SerializeMap>(map: &mut M, rules: &Rules, step: &Step) -> Result<(), M::Error> {
    let name = match step {
        Step::Refused(_) => "refused",
        Step::Host(..) => "host",
        Step::HttpsFirst(..) => "https-first",
        Step::Rule(..) => "rule",
        Step::Canonical(..) => "canonical",
        Step::Joined(_) => "joined",
        Step::TooLong(_) => "too-long",
        Step::Loop(..) => "loop",
        Step::Outside(..) => "outside",
        Step::Method(_) => "method",
        Step::File(_) => "file",
        Step::NoFile(..) => "no-file",
        Step::NotFoundPage(..) => "not-found-page",
    };
    map.serialize_entry("step", name)?;
    match step {
        Step::Refused(refusal) => map.serialize_entry("why", refusal_name(refusal)),
        Step::Host(host, role, _) => {
            map.serialize_entry("host", host)?;
            map.serialize_entry("role", &role.to_string())
        }
        Step::HttpsFirst(host, _) | Step::Outside(host, _) => map.serialize_entry("host", host),
        Step::Rule(id, result) => {
            rule(map, "rule", *id)?;
            rule_result(map, rules, *id, result)
        }
        Step::Canonical(changes, _) => map.serialize_entry("changes", changes),
        Step::Joined(url) | Step::TooLong(url) => map.serialize_entry("url", url),
        Step::Loop(url, cause) => {
            let cause = match cause {
                LoopCause::CameBack => "came-back",
                LoopCause::TooManySteps => "too-many-steps",
            };
            map.serialize_entry("url", url)?;
            map.serialize_entry("cause", cause)
        }
        Step::Method(method) => map.serialize_entry("method", method.as_str()),
        Step::File(file) => map.serialize_entry("file", file),
        Step::NoFile(path, by) => {
            map.serialize_entry("path", path)?;
            map.serialize_entry("rule", &by.map(RuleId::index))
        }
        Step::NotFoundPage(file, _) => map.serialize_entry("file", file),
    }
}

fn refusal_name(refusal: &Refusal) -> &'static str {
    match refusal {
        Refusal::Malformed(_) => "malformed",
        Refusal::TwoHosts => "two-hosts",
        Refusal::TooLong => "url-too-long",
        Refusal::UnknownHost(_) => "unknown-host",
    }
}

impl Serialize for CanonicalChange {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        match self {
            CanonicalChange::Scheme(scheme) => map.serialize_entry("scheme", scheme.as_str())?,
            CanonicalChange::Host(host) => map.serialize_entry("host", host)?,
            CanonicalChange::Base(base) => map.serialize_entry("base", base)?,
            CanonicalChange::Variant { file, path } => {
                map.serialize_entry("file", file)?;
                map.serialize_entry("path", path)?;
            }
        }
        map.end()
    }
}

fn rule_result<M: SerializeMap>(
    map: &mut M,
    rules: &Rules,
    id: RuleId,
    result: &RuleResult,
) -> Result<(), M::Error> {
    let happened = match result {
        RuleResult::Matched => "matched",
        RuleResult::NotMatched(_) => "not-matched",
        RuleResult::ConditionNotMet(_) => "condition-not-met",
        RuleResult::Shadowed(_) => "shadowed",
        RuleResult::TargetImpossible(_) => "target-impossible",
        RuleResult::TargetIsRequest => "target-is-request",
        RuleResult::KnownFileType => "known-file-type",
        RuleResult::NoFile => "no-file",
        RuleResult::OtherAnswers => "other-answers",
        RuleResult::HeaderUnknown(_) => "header-unknown",
    };
    map.serialize_entry("happened", happened)?;
    match result {
        RuleResult::NotMatched(Mismatch::Origin) => map.serialize_entry("part", "origin"),
        RuleResult::NotMatched(Mismatch::Query) => map.serialize_entry("part", "query"),
        RuleResult::NotMatched(Mismatch::Path { at, .. }) => {
            map.serialize_entry("part", "path")?;
            map.serialize_entry("byte", at)
        }
        RuleResult::ConditionNotMet(number) => {
            let program = rules.program();
            let rule = program.rule(id);
            let written =
                rule.tests().get(*number).map(|test| test.written(program.site().languages()));
            map.serialize_entry("condition", &written)
        }
        RuleResult::Shadowed(by) => rule(map, "by", *by),
        RuleResult::TargetImpossible(why) => map.serialize_entry("why", &why.to_string()),
        RuleResult::HeaderUnknown(name) => map.serialize_entry("header", name.as_str()),
        RuleResult::Matched
        | RuleResult::TargetIsRequest
        | RuleResult::KnownFileType
        | RuleResult::NoFile
        | RuleResult::OtherAnswers => Ok(()),
    }
}
