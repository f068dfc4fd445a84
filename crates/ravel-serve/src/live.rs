//! Expectations asked of running hosts, hop by hop as a browser would.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use futures_util::{Stream, StreamExt, stream};
use http::Method;
use http_body_util::{BodyExt, Empty};
use hyper_rustls::HttpsConnector;
use hyper_util::client::legacy::Client;
use hyper_util::rt::TokioExecutor;
use ravel::Request;
use ravel::expect::live::{LiveAnswer, LiveWalk, NextStep, compare, next};
use ravel::expect::{Failure, Verdict, journey, verify};
use ravel::language::Line;
use ravel::rules::{Expectation, ExpectedOutcome, StatedOutcome};
use ravel_check::witnesses;
use tokio_rustls::rustls;
use tower::ServiceExt;
use tower_http::decompression::{Decompression, DecompressionBody};

use crate::reach::{ConnectOptions, ConnectionId, Connector, connect, connector};
use crate::{LiveVerdict, Site};

/// So many are asked at a time.
const AT_ONCE: usize = 8;
/// So much of a body is read, in bytes.
const MAX_BODY_BYTES: usize = 16 * 1024 * 1024;
/// So many addresses stand for `expect every`.
const WITNESSES: usize = 12;

type LiveBody = DecompressionBody<hyper::body::Incoming>;
type PlainClient = Decompression<Client<HttpsConnector<Connector>, Empty<Bytes>>>;

/// Somebody who visits a running site.
#[derive(Clone)]
pub struct Visitor {
    site: Arc<Site>,
    client: PlainClient,
    reach: ConnectOptions,
    /// The connections that have answered.
    answered: Arc<Mutex<HashSet<ConnectionId>>>,
}

impl Visitor {
    /// Somebody who visits a site where it is reached.
    ///
    /// ```no_run
    /// use std::{sync::Arc, time::Duration};
    ///
    /// use ravel_serve::{ConnectOptions, Site, Visitor};
    ///
    /// let site = Arc::new(Site::read("edge.ravel".as_ref())?);
    /// let visitor = Visitor::new(site, ConnectOptions::new(Duration::from_secs(5)));
    /// # Ok::<(), ravel_serve::ReadError>(())
    /// ```
    ///
    /// # Errors
    /// Why the authorities cannot be trusted.
    pub fn new(site: Arc<Site>, reach: ConnectOptions) -> Result<Visitor, String> {
        let https = connector(&reach)?;
        let client =
            Client::builder(TokioExecutor::new()).pool_max_idle_per_host(AT_ONCE).build(https);
        Ok(Visitor { site, client: Decompression::new(client), reach, answered: Arc::default() })
    }

    /// Whether anything listens where the site should be.
    ///
    /// # Errors
    /// Where nothing does, and why.
    pub async fn find(&self) -> Result<(), String> {
        let site = self.site.rules.site();
        let place = self.reach.place(site.scheme().as_str(), site.host().as_str());
        connect(&place).await.map(drop).map_err(|error| match error.kind() {
            std::io::ErrorKind::ConnectionRefused => format!("nothing listens at {place}"),
            _ => format!("cannot reach {place}: {error}"),
        })
    }

    /// Asks everything that the rules expect, in the order of the files; verdicts come as they are
    /// found, at most eight at a time.
    pub fn verdicts(&self) -> impl Stream<Item = LiveVerdict> + '_ {
        let edge = &self.site.edge;
        let rules = &self.site.rules;
        let single = rules
            .expectations()
            .iter()
            .map(|expectation| (expectation.line(), vec![expectation.clone()], None));
        let every = rules.every_expectations().iter().map(|universal| {
            let asked = witnesses(edge, universal, WITNESSES);
            (universal.line(), asked, Some(format!("every {}", universal.pattern())))
        });
        let mut all: Vec<(Line, Vec<Expectation>, Option<String>)> = single.chain(every).collect();
        all.sort_by_key(|(line, ..)| *line);
        stream::iter(all)
            .map(|(line, expectations, every)| self.all_of(line, expectations, every))
            .buffered(AT_ONCE)
    }

    /// The verdict on one expectation, or on the addresses that stand for `expect every`.
    async fn all_of(
        &self,
        line: Line,
        expectations: Vec<Expectation>,
        every: Option<String>,
    ) -> LiveVerdict {
        let sampled = every.as_ref().map(|_| expectations.len());
        let mut whole = None;
        let mut skipped = None;
        for expectation in &expectations {
            let mut live = self.verdict(expectation).await;
            if !live.verdict.holds() {
                if let Some(every) = &every {
                    let at_url = |failure: &Failure| {
                        let got = format!("{} {}", expectation.url(), failure.got());
                        Failure::new(failure.expected(), got)
                    };
                    let failures = live.verdict.failures().iter().map(at_url).collect();
                    live.verdict = Verdict::new(line, every.as_str(), failures, None);
                }
                whole = Some(live);
                break;
            }
            skipped = skipped.or(live.not_asked);
        }
        if let Some(verdict) = whole {
            return LiveVerdict { sampled, ..verdict };
        }
        let first = || expectations.first().map_or(String::new(), in_words);
        let verdict = Verdict::new(line, every.unwrap_or_else(first), Vec::new(), None);
        let not_asked = if sampled.is_none() { skipped } else { None };
        LiveVerdict { not_asked, sampled, ..verdict.into() }
    }

    async fn verdict(&self, expectation: &Expectation) -> LiveVerdict {
        let site = self.site.rules.site();
        let of = |failures| Verdict::new(expectation.line(), in_words(expectation), failures, None);
        let mut verdict = LiveVerdict::from(of(Vec::new()));
        let request = Request::new(expectation.method().clone(), expectation.url())
            .map(|request| request.with_headers(expectation.given().clone()));
        let request = match request {
            Ok(request) => request,
            Err(error) => return LiveVerdict { not_asked: Some(error.to_string()), ..verdict },
        };
        verdict.not_asked = match (request.address(), expectation.outcome()) {
            (Err(why), _) => Some(format!("it is not a valid URL: {why}")),
            (Ok(address), _) if !site.has_host(address.host()) => {
                Some(format!("`{}` is not a host of this site", address.host()))
            }
            (_, Some(ExpectedOutcome::Is(StatedOutcome::Elsewhere, _))) => {
                Some("another service answers there".to_owned())
            }
            _ => None,
        };
        if verdict.not_asked.is_some() {
            return verdict;
        }
        let wants_body = matches!(expectation.outcome(), Some(ExpectedOutcome::Serves(_)));
        let failures = match self.walk(&request, wants_body).await {
            Ok(walk) => compare(expectation, &walk, |file, seen| self.differs(file, seen)),
            Err(got) => {
                let expected = expectation
                    .outcome()
                    .as_ref()
                    .map_or_else(|| "an answer".to_owned(), ToString::to_string);
                vec![Failure::new(expected, got)]
            }
        };
        if !failures.is_empty() {
            let hold = verify(&self.site.edge, expectation).holds();
            verdict.rules = Some((journey(&self.site.edge.walk(&request)), hold));
        }
        verdict.verdict = of(failures);
        verdict
    }

    /// How a body differs from a file of the folder, if it does.
    fn differs(&self, file: &str, seen: &LiveAnswer) -> Option<String> {
        let file = match self.site.edge.files().names().iter().any(|name| **name == *file) {
            true => file,
            false => return Some(format!("the folder has no `{file}` to compare with")),
        };
        let expected = match self.site.bytes(file) {
            Ok(bytes) => bytes,
            Err(error) => {
                return Some(format!("cannot read `{file}` to compare with: {error}"));
            }
        };
        if expected == seen.body() && !seen.cut() {
            return None;
        }
        let at = expected
            .iter()
            .zip(seen.body())
            .position(|(one, other)| one != other)
            .unwrap_or(expected.len().min(seen.body().len()));
        let line = 1 + seen.body()[..at].iter().filter(|byte| **byte == b'\n').count();
        let size = if seen.cut() {
            format!("more than {} MiB", MAX_BODY_BYTES >> 20)
        } else {
            format!("{} bytes", seen.body().len())
        };
        Some(format!(
            "200 with {size} that are not those of `{file}` ({}), from line {line} on",
            expected.len()
        ))
    }

    async fn walk(&self, request: &Request, wants_body: bool) -> Result<LiveWalk, String> {
        let mut answers: Vec<LiveAnswer> = Vec::new();
        loop {
            match next(self.site.rules.site(), request, &answers) {
                NextStep::Done(end) => return Ok(LiveWalk::new(answers, end)),
                NextStep::Ask(request) => {
                    let first = answers.is_empty();
                    let patience = self.reach.patience;
                    let seen =
                        tokio::time::timeout(patience, self.ask(&request, wants_body && first));
                    let seen = seen.await.unwrap_or_else(|_| {
                        Err(format!("no whole answer within {} s", patience.as_secs()))
                    });
                    answers.push(seen.map_err(|why| {
                        if first { why } else { format!("{}: {why}", request.url()) }
                    })?);
                }
            }
        }
    }

    /// Sends a request; once more where a connection that had answered before closes without an
    /// answer, as a server does that has waited long enough (RFC 9112, section 9.3.1).
    async fn send(
        &self,
        asked: http::Request<Empty<Bytes>>,
    ) -> Result<http::Response<LiveBody>, String> {
        let again = [Method::GET, Method::HEAD].contains(asked.method()).then(|| asked.clone());
        let answered = || self.answered.lock().unwrap_or_else(PoisonError::into_inner);
        let error = match self.client.clone().oneshot(asked).await {
            Ok(response) => {
                answered().extend(ConnectionId::of(response.extensions()));
                return Ok(response);
            }
            Err(error) => error,
        };
        let has_answered = ConnectionId::of_error(&error)
            .is_some_and(|connection| answered().contains(&connection));
        match again.filter(|_| has_answered) {
            Some(again) => self.client.clone().oneshot(again).await.map_err(|error| reason(&error)),
            None => Err(reason(&error)),
        }
    }

    async fn ask(&self, request: &Request, wants_body: bool) -> Result<LiveAnswer, String> {
        let address = request.address().map_err(|why| why.to_string())?;
        let mut asked =
            http::Request::builder().method(request.method()).uri(address.without_fragment());
        if let Some(headers) = asked.headers_mut() {
            headers.extend(request.headers().clone());
        }
        let asked = asked.body(Empty::new()).map_err(|error| error.to_string())?;
        let response = self.send(asked).await?;
        let (parts, mut body) = response.into_parts();
        let mut bytes = Vec::new();
        while wants_body && bytes.len() <= MAX_BODY_BYTES {
            match body.frame().await {
                None => break,
                Some(Err(error)) => return Err(format!("the body breaks off: {error}")),
                Some(Ok(frame)) => bytes.extend(frame.into_data().unwrap_or_default()),
            }
        }
        let cut = bytes.len() > MAX_BODY_BYTES;
        bytes.truncate(MAX_BODY_BYTES);
        let seen = LiveAnswer::new(address.as_str(), parts.status.as_u16(), parts.headers, bytes);
        Ok(if cut { seen.with_cut_body() } else { seen })
    }
}

fn in_words(expectation: &Expectation) -> String {
    match expectation.method().as_str() {
        "GET" => expectation.asked().to_string(),
        method => format!("{method} {}", expectation.asked()),
    }
}

/// The innermost reasons of an error, which are what people can fix.
fn reason(error: &(dyn std::error::Error + 'static)) -> String {
    let mut cause = Some(error);
    while let Some(error) = cause {
        let tls = error.downcast_ref::<std::io::Error>().and_then(|error| error.get_ref());
        if let Some(rustls::Error::InvalidCertificate(rustls::CertificateError::UnknownIssuer)) =
            tls.and_then(|error| error.downcast_ref())
        {
            return "no authority that is trusted has signed its certificate; `--ca FILE` names another"
                .to_owned();
        }
        cause = error.source();
    }
    let mut texts = vec![error.to_string()];
    let mut inner = error.source();
    while let Some(error) = inner {
        texts.push(error.to_string());
        inner = error.source();
    }
    texts.dedup();
    let last = texts.pop().unwrap_or_default();
    match texts.pop() {
        Some(before) if !before.contains(&last) && before != "client error (Connect)" => {
            format!("{before}: {last}")
        }
        Some(before) if before.contains(&last) => before,
        _ => last,
    }
}
