//! The requests that were answered, with the reasons.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

use ravel::edge::{Answer, Explanation, Walk};
use ravel::expect::describe;
use serde::{Serialize, Serializer};
use tokio::sync::broadcast;

use crate::Site;

/// The last requests, and a stream of those to come.
#[derive(Debug)]
pub struct Log {
    last: Mutex<VecDeque<Arc<Record>>>,
    stream: broadcast::Sender<Arc<Record>>,
}

/// Requests that are kept.
const MAX_KEPT: usize = 300;

/// A request that was answered.
#[derive(Debug, Clone)]
pub struct Record {
    pub(crate) number: u64,
    pub(crate) time: SystemTime,
    pub(crate) method: String,
    pub(crate) url: String,
    pub(crate) outcome: String,
    pub(crate) status: u16,
    pub(crate) line: Option<String>,
    pub(crate) file: Option<String>,
    pub(crate) location: Option<String>,
    pub(crate) hops: usize,
    pub(crate) way: Vec<ExplainedAnswer>,
}

/// An answer with its reasons, in words.
#[derive(Debug, Clone)]
pub struct ExplainedAnswer {
    pub(crate) url: String,
    pub(crate) answer: String,
    pub(crate) steps: Vec<StepLine>,
    pub(crate) headers: Vec<(Option<String>, String, String)>,
}

/// One thing that was looked at.
#[derive(Debug, Clone)]
pub struct StepLine {
    pub(crate) line: Option<String>,
    pub(crate) subject: String,
    pub(crate) result: String,
    pub(crate) matched: bool,
}

impl StepLine {
    /// The line that says so.
    pub fn line(&self) -> Option<&str> {
        self.line.as_deref()
    }

    /// What was looked at.
    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// What happened there.
    pub fn result(&self) -> &str {
        &self.result
    }

    /// Whether it matched and acted.
    pub fn matched(&self) -> bool {
        self.matched
    }
}

impl ExplainedAnswer {
    pub(crate) fn of(site: &Site, url: &str, explanation: &Explanation<'_>) -> ExplainedAnswer {
        let steps = explanation.words().map(|step| StepLine {
            line: step.line().map(|line| site.name(line)),
            subject: step.subject(),
            result: step.result(),
            matched: step.matched(),
        });
        let headers = explanation.answer().headers().iter();
        ExplainedAnswer {
            url: url.to_owned(),
            answer: describe(explanation.answer()),
            steps: steps.collect(),
            headers: headers
                .map(|header| {
                    (
                        header.line().map(|line| site.name(line)),
                        header.name().to_owned(),
                        header.value().to_string(),
                    )
                })
                .collect(),
        }
    }

    pub(crate) fn way(site: &Site, walk: &Walk<'_>) -> Vec<ExplainedAnswer> {
        walk.answers()
            .iter()
            .map(|(url, explanation)| ExplainedAnswer::of(site, url, explanation))
            .collect()
    }

    /// What was asked.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The answer in a few words.
    pub fn answer(&self) -> &str {
        &self.answer
    }

    /// What was looked at.
    pub fn steps(&self) -> &[StepLine] {
        &self.steps
    }

    /// The header fields: the line that set it, its name, its value.
    pub fn headers(&self) -> &[(Option<String>, String, String)] {
        &self.headers
    }
}

/// In one line of a log; the way is only for those who look.
#[derive(Serialize)]
struct RecordData<'a> {
    time: f64,
    method: &'a str,
    url: &'a str,
    status: u16,
    outcome: &'a str,
    line: Option<&'a str>,
    file: Option<&'a str>,
    location: Option<&'a str>,
    hops: usize,
}

impl Serialize for Record {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let time = self.time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        RecordData {
            time: time.as_secs_f64(),
            method: &self.method,
            url: &self.url,
            status: self.status,
            outcome: &self.outcome,
            line: self.line.as_deref(),
            file: self.file.as_deref(),
            location: self.location.as_deref(),
            hops: self.hops,
        }
        .serialize(serializer)
    }
}

impl Record {
    pub(crate) fn of(
        site: &Site,
        request: &ravel::Request,
        answer: &Answer<'_>,
        status: u16,
        walk: &Walk<'_>,
    ) -> Record {
        Record {
            number: 0,
            time: SystemTime::now(),
            method: request.method().to_string(),
            url: request.url().to_owned(),
            outcome: answer.outcome().to_string(),
            status,
            line: answer.line().map(|line| site.name(line)),
            file: answer.file().map(str::to_owned),
            location: answer.location().map(str::to_owned),
            hops: walk.hops(),
            way: ExplainedAnswer::way(site, walk),
        }
    }

    /// Counts from 1.
    pub fn number(&self) -> u64 {
        self.number
    }

    /// When it was answered.
    pub fn time(&self) -> SystemTime {
        self.time
    }

    /// The method.
    pub fn method(&self) -> &str {
        &self.method
    }

    /// The address, on the site's own names.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// What became of it.
    pub fn outcome(&self) -> &str {
        &self.outcome
    }

    /// The status that was sent.
    pub fn status(&self) -> u16 {
        self.status
    }

    /// The deciding line, as `edge.ravel:9`.
    pub fn line(&self) -> Option<&str> {
        self.line.as_deref()
    }

    /// The file that was shown.
    pub fn file(&self) -> Option<&str> {
        self.file.as_deref()
    }

    /// Where it leads, as the rules say.
    pub fn location(&self) -> Option<&str> {
        self.location.as_deref()
    }

    /// The number of redirects from here to the end.
    pub fn hops(&self) -> usize {
        self.hops
    }

    /// Every answer from here to the end, explained.
    pub fn way(&self) -> &[ExplainedAnswer] {
        &self.way
    }
}

impl Default for Log {
    fn default() -> Log {
        Log { last: Mutex::default(), stream: broadcast::channel(256).0 }
    }
}

impl Log {
    pub(crate) fn add(&self, mut record: Record) {
        let mut last = lock(&self.last);
        record.number = last.front().map_or(1, |newest| newest.number + 1);
        let record = Arc::new(record);
        last.push_front(Arc::clone(&record));
        last.truncate(MAX_KEPT);
        // Nobody may be listening.
        let _ = self.stream.send(record);
    }

    /// The last requests, the newest first.
    pub fn last(&self) -> Vec<Arc<Record>> {
        lock(&self.last).iter().cloned().collect()
    }

    /// The requests to come; one who is slow misses some.
    pub fn subscribe(&self) -> broadcast::Receiver<Arc<Record>> {
        self.stream.subscribe()
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
