//! A request that was answered: written down as it is, and explained once somebody looks.

use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, SystemTime};

use http::HeaderMap;
use ravel::edge::{Answer, Explanation, Walk};
use ravel::expect::describe;
use ravel::language::Line;
use ravel::{Outcome, Request};
use serde::{Serialize, Serializer};

use crate::{RequestDifference, Site};

/// A request that was answered.
#[derive(Debug)]
pub struct Record {
    pub(crate) number: u64,
    time: SystemTime,
    request: Request,
    outcome: Outcome,
    line: Option<Line>,
    file: Option<Box<str>>,
    location: Option<Box<str>>,
    difference: Option<RequestDifference>,
    sent: SentResponse,
    /// The site that answered, until it has explained itself.
    site: Mutex<Option<Arc<Site>>>,
    explained: OnceLock<ExplainedWalk>,
}

/// What was decided, from which a record is made once it has been sent.
#[derive(Debug)]
pub(crate) struct RecordDraft {
    time: SystemTime,
    request: Request,
    outcome: Outcome,
    line: Option<Line>,
    file: Option<Box<str>>,
    location: Option<Box<str>>,
    difference: Option<RequestDifference>,
    site: Arc<Site>,
}

/// What went over the wire.
#[derive(Debug, Clone, Default)]
pub struct SentResponse {
    pub(crate) status: u16,
    pub(crate) headers: HeaderMap,
    pub(crate) body_bytes: u64,
    pub(crate) duration: Duration,
    pub(crate) complete: bool,
}

impl SentResponse {
    /// The status.
    pub fn status(&self) -> u16 {
        self.status
    }

    /// The headers.
    pub fn headers(&self) -> &HeaderMap {
        &self.headers
    }

    /// The bytes of the body, encoded as they were.
    pub fn body_bytes(&self) -> u64 {
        self.body_bytes
    }

    /// From the head of the request to the end of the body.
    pub fn duration(&self) -> Duration {
        self.duration
    }

    /// Whether the body was sent to its end; if not, the client went before.
    pub fn complete(&self) -> bool {
        self.complete
    }
}

#[derive(Debug, Default)]
struct ExplainedWalk {
    line: Option<String>,
    hops: usize,
    end: String,
    answers: Vec<ExplainedAnswer>,
}

impl RecordDraft {
    pub(crate) fn of(
        site: Arc<Site>,
        request: Request,
        answer: &Answer<'_>,
        difference: Option<RequestDifference>,
    ) -> RecordDraft {
        RecordDraft {
            time: SystemTime::now(),
            outcome: answer.outcome(),
            line: answer.line(),
            file: answer.file().map(Box::from),
            location: answer.location().map(Box::from),
            request,
            difference,
            site,
        }
    }

    pub(crate) fn sent(self, sent: SentResponse) -> Record {
        let RecordDraft { time, request, outcome, line, file, location, difference, site } = self;
        let site = Mutex::new(Some(site));
        Record {
            number: 0,
            time,
            request,
            outcome,
            line,
            file,
            location,
            difference,
            sent,
            site,
            explained: OnceLock::new(),
        }
    }
}

impl Record {
    /// A request that could not be read, and was refused with 400.
    pub(crate) fn unread(request: Request, why: &str) -> Record {
        let step = StepLine {
            line: None,
            subject: "the request".to_owned(),
            result: why.to_owned(),
            matched: true,
        };
        let answer = ExplainedAnswer {
            url: request.url().to_owned(),
            answer: "400 refused".to_owned(),
            steps: vec![step],
            headers: Vec::new(),
        };
        let end = request.url().to_owned();
        let explained = ExplainedWalk { line: None, hops: 0, end, answers: vec![answer] };
        Record {
            number: 0,
            time: SystemTime::now(),
            request,
            outcome: Outcome::Refused,
            line: None,
            file: None,
            location: None,
            difference: None,
            sent: SentResponse { status: 400, complete: true, ..SentResponse::default() },
            site: Mutex::new(None),
            explained: OnceLock::from(explained),
        }
    }

    /// Explains it with the site that answered, which need not be kept then.
    pub(crate) fn explain(&self) {
        self.explained.get_or_init(|| {
            let site = self.site.lock().unwrap_or_else(PoisonError::into_inner).take();
            let Some(site) = site else { return ExplainedWalk::default() };
            let walk = site.edge.walk(&self.request);
            ExplainedWalk {
                line: self.line.map(|line| site.name(line)),
                hops: walk.hops(),
                end: walk.url().to_owned(),
                answers: ExplainedAnswer::all(&site, &walk),
            }
        });
    }

    fn explained(&self) -> &ExplainedWalk {
        static NONE: ExplainedWalk =
            ExplainedWalk { line: None, hops: 0, end: String::new(), answers: Vec::new() };
        self.explain();
        self.explained.get().unwrap_or(&NONE)
    }

    /// Counts from 1.
    pub fn number(&self) -> u64 {
        self.number
    }

    /// When it came.
    pub fn time(&self) -> SystemTime {
        self.time
    }

    /// As the rules saw it: on the site's own names.
    pub fn request(&self) -> &Request {
        &self.request
    }

    /// What became of it.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }

    /// What was sent.
    pub fn sent(&self) -> &SentResponse {
        &self.sent
    }

    /// The deciding line, as `edge.ravel:9`.
    pub fn line(&self) -> Option<String> {
        if let Some(explained) = self.explained.get() {
            return explained.line.clone();
        }
        let site = self.site.lock().unwrap_or_else(PoisonError::into_inner);
        let name = |site: &Arc<Site>| self.line.map(|line| site.name(line));
        match &*site {
            Some(site) => name(site),
            None => self.explained().line.clone(),
        }
    }

    /// The file that was shown.
    pub fn file(&self) -> Option<&str> {
        self.file.as_deref()
    }

    /// Where it leads, as the rules say.
    pub fn location(&self) -> Option<&str> {
        self.location.as_deref()
    }

    /// How the old edition answers differently, where there is one and it does.
    pub fn difference(&self) -> Option<&RequestDifference> {
        self.difference.as_ref()
    }

    /// The number of redirects from here to the end.
    pub fn hops(&self) -> usize {
        self.explained().hops
    }

    /// The URL where the redirects from here end.
    pub fn end_url(&self) -> &str {
        &self.explained().end
    }

    /// Every answer from here to the end, explained.
    pub fn answers(&self) -> &[ExplainedAnswer] {
        &self.explained().answers
    }
}

/// In one line of a log; the explanation is only for those who look.
#[derive(Serialize)]
struct RecordData<'a> {
    time: f64,
    method: &'a str,
    url: &'a str,
    status: u16,
    bytes: u64,
    milliseconds: f64,
    complete: bool,
    outcome: &'a str,
    line: Option<String>,
    file: Option<&'a str>,
    location: Option<&'a str>,
    hops: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    difference: Option<&'a RequestDifference>,
}

impl Serialize for Record {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let time = self.time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        RecordData {
            time: time.as_secs_f64(),
            method: self.request.method().as_str(),
            url: self.request.url(),
            status: self.sent.status,
            bytes: self.sent.body_bytes,
            milliseconds: self.sent.duration.as_secs_f64() * 1e3,
            complete: self.sent.complete,
            outcome: self.outcome.as_str(),
            line: self.line(),
            file: self.file(),
            location: self.location(),
            hops: self.hops(),
            difference: self.difference(),
        }
        .serialize(serializer)
    }
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
    fn of(site: &Site, url: &str, explanation: &Explanation<'_>) -> ExplainedAnswer {
        let steps = explanation.words().map(|step| StepLine {
            line: step.line().map(|line| site.name(line)),
            subject: step.subject(),
            result: step.result(),
            matched: step.matched(),
        });
        let headers = explanation.answer().headers().iter().map(|header| {
            let line = header.line().map(|line| site.name(line));
            (line, header.name().to_owned(), header.value().to_string())
        });
        ExplainedAnswer {
            url: url.to_owned(),
            answer: describe(explanation.answer()),
            steps: steps.collect(),
            headers: headers.collect(),
        }
    }

    pub(crate) fn all(site: &Site, walk: &Walk<'_>) -> Vec<ExplainedAnswer> {
        let answers = walk.answers().iter();
        answers.map(|(url, explanation)| ExplainedAnswer::of(site, url, explanation)).collect()
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

    /// The headers: the line that set it, its name, its value.
    pub fn headers(&self) -> &[(Option<String>, String, String)] {
        &self.headers
    }
}
