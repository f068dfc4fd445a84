//! Findings and ways as data for other programs (feature `serde`).

use ravel::Rules;
use ravel::finding::Finding;
use ravel::serial::{Data, SerializeBeside};
use serde::{Serialize, Serializer};

use crate::{Remainder, Report, Way, WayEnd};
use ravel::rules::Weight;

#[derive(Serialize)]
struct ReportData<'a> {
    problems: usize,
    advice: usize,
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
            problems: self.count(Weight::Problem),
            advice: self.count(Weight::Advice),
            accepted: self.accepted,
            findings: rules.data(&*self.findings),
        }
        .serialize(serializer)
    }
}

#[derive(Serialize)]
struct RemainderData<'a> {
    source: &'a str,
    line: u32,
    example: &'a str,
    taken_by: Vec<String>,
}

impl SerializeBeside for Remainder {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        RemainderData {
            source: rules.source(self.line),
            line: self.line.number(),
            example: self.example.url(),
            taken_by: self.taken_by.iter().map(|line| rules.line_name(*line)).collect(),
        }
        .serialize(serializer)
    }
}

#[derive(Serialize)]
struct WayData<'a> {
    origin: &'a str,
    ends: Vec<&'a WayEnd>,
}

impl Serialize for Way {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let ends = std::iter::once(&self.first).chain(&self.deep).collect();
        WayData { origin: &self.origin, ends }.serialize(serializer)
    }
}

#[derive(Serialize)]
struct WayEndData<'a> {
    asked: &'a str,
    url: &'a str,
    status: Option<u16>,
    hops: usize,
}

impl Serialize for WayEnd {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let WayEnd { asked, url, status, hops, .. } = self;
        WayEndData { asked, url, status: *status, hops: *hops }.serialize(serializer)
    }
}
