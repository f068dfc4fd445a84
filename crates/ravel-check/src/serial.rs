//! Findings and entry points as data for other programs (feature `serde`).

use ravel::Rules;
use ravel::finding::{Finding, FindingExample};
use ravel::serial::{Data, SerializeBeside};
use serde::{Serialize, Serializer};

use crate::{EntryPoint, EntryPointEnd, Report, RuleCoverage, Shadowing};
use ravel::rules::Severity;

#[derive(Serialize)]
struct ReportData<'a> {
    errors: usize,
    warnings: usize,
    notes: usize,
    accepted: usize,
    findings: Data<'a, [Finding]>,
}

impl SerializeBeside for Report {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        ReportData {
            errors: self.count(Severity::Error),
            warnings: self.count(Severity::Warning),
            notes: self.count(Severity::Note),
            accepted: self.accepted,
            findings: rules.data(&*self.findings),
        }
        .serialize(serializer)
    }
}

#[derive(Serialize)]
struct ShadowingData<'a> {
    source: &'a str,
    line: u32,
    example: FindingExample,
    taken_by: Vec<String>,
}

impl SerializeBeside for Shadowing {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        ShadowingData {
            source: rules.source(self.line),
            line: self.line.number(),
            example: FindingExample::from(&self.example),
            taken_by: self.taken_by.iter().map(|line| rules.line_name(*line)).collect(),
        }
        .serialize(serializer)
    }
}

#[derive(Serialize)]
struct EntryPointData<'a> {
    origin: &'a str,
    ends: Vec<&'a EntryPointEnd>,
}

impl Serialize for EntryPoint {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let ends = std::iter::once(&self.first).chain(&self.deep).collect();
        EntryPointData { origin: &self.origin, ends }.serialize(serializer)
    }
}

#[derive(Serialize)]
struct EntryPointEndData<'a> {
    asked: &'a str,
    url: &'a str,
    status: Option<u16>,
    hops: usize,
}

impl Serialize for EntryPointEnd {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let EntryPointEnd { asked, url, status, hops, .. } = self;
        EntryPointEndData { asked, url, status: *status, hops: *hops }.serialize(serializer)
    }
}

#[derive(Serialize)]
struct RuleCoverageData<'a> {
    source: &'a str,
    line: u32,
    rule: &'a str,
    state: &'a str,
    unnoticed: &'a [String],
}

impl SerializeBeside for RuleCoverage {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        RuleCoverageData {
            source: rules.source(self.line()),
            line: self.line().number(),
            rule: self.rule(),
            state: self.state().as_str(),
            unnoticed: self.unnoticed(),
        }
        .serialize(serializer)
    }
}
