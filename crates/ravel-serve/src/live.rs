//! Expectations asked of running hosts, hop by hop as a browser would.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::{Stream, StreamExt, stream};
use http::Uri;
use http_body_util::{BodyExt, Empty};
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::rt::{TokioExecutor, TokioIo};
use ravel::Request;
use ravel::expect::live::{LiveAnswer, LiveWalk, NextStep, compare, next};
use ravel::expect::{Failure, Verdict, journey, verify};
use ravel::language::Line;
use ravel::rules::{Expectation, ExpectedOutcome, StatedOutcome};
use ravel_check::witnesses;
use tokio::net::TcpStream;
use tokio_rustls::rustls::pki_types::{CertificateDer, pem::PemObject};
use tokio_rustls::rustls::{self, ClientConfig, RootCertStore};
use tower::{Service, ServiceExt};
use tower_http::decompression::Decompression;

use crate::{LiveVerdict, Site};

/// How a running site is reached.
#[derive(Debug, Clone)]
pub struct ConnectOptions {
    connect: Option<String>,
    connect_http: Option<String>,
    authority: Option<Vec<u8>>,
    patience: Duration,
}

/// A connection takes so long at most.
const CONNECT: Duration = Duration::from_secs(5);
/// So many are asked at a time.
const AT_ONCE: usize = 8;
/// So much of a body is read, in bytes.
const MAX_BODY_BYTES: usize = 16 * 1024 * 1024;
/// So many addresses stand for `expect every`.
const WITNESSES: usize = 12;

type TlsConnector = HttpsConnector<Connector>;
type PlainClient = Decompression<Client<TlsConnector, Empty<Bytes>>>;

/// Somebody who visits a running site.
#[derive(Clone)]
pub struct Visitor {
    site: Arc<Site>,
    client: PlainClient,
    reach: ConnectOptions,
}

/// Connects to where names are said to be.
#[derive(Debug, Clone)]
struct Connector {
    reach: ConnectOptions,
}

impl ConnectOptions {
    /// Where the system says that names are; an answer, with its body, is waited for so long.
    pub fn new(patience: Duration) -> ConnectOptions {
        ConnectOptions { connect: None, connect_http: None, authority: None, patience }
    }

    /// With every name at one place, as `HOST:PORT`.
    #[must_use]
    pub fn with_connect(mut self, place: Option<String>) -> ConnectOptions {
        self.connect = place;
        self
    }

    /// With plain HTTP at another place, as `HOST:PORT`.
    #[must_use]
    pub fn with_connect_http(mut self, place: Option<String>) -> ConnectOptions {
        self.connect_http = place;
        self
    }

    /// With certificates of authorities, as PEM, to trust besides the well-known ones.
    #[must_use]
    pub fn with_authority(mut self, pem: Option<Vec<u8>>) -> ConnectOptions {
        self.authority = pem;
        self
    }

    /// Where the server for a scheme and host is.
    fn place(&self, scheme: &str, host: &str) -> String {
        let own = if scheme == "http" {
            self.connect_http.as_ref().or(self.connect.as_ref())
        } else {
            self.connect.as_ref()
        };
        match own {
            Some(place) => place.clone(),
            None => format!("{host}:{}", if scheme == "http" { 80 } else { 443 }),
        }
    }
}

impl Service<Uri> for Connector {
    type Response = TokioIo<TcpStream>;
    type Error = std::io::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, Self::Error>> + Send>>;

    fn poll_ready(
        &mut self,
        _: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Result<(), Self::Error>> {
        std::task::Poll::Ready(Ok(()))
    }

    fn call(&mut self, uri: Uri) -> Self::Future {
        let place =
            self.reach.place(uri.scheme_str().unwrap_or("https"), uri.host().unwrap_or_default());
        Box::pin(async move { connect(&place).await.map(TokioIo::new) })
    }
}

async fn connect(place: &str) -> std::io::Result<TcpStream> {
    match tokio::time::timeout(CONNECT, TcpStream::connect(place)).await {
        Ok(connected) => connected,
        Err(_) => Err(std::io::Error::new(
            std::io::ErrorKind::TimedOut,
            format!("no connection within {} s", CONNECT.as_secs()),
        )),
    }
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
        let mut roots = RootCertStore { roots: webpki_roots::TLS_SERVER_ROOTS.to_vec() };
        if let Some(pem) = &reach.authority {
            let mut added = 0;
            for certificate in CertificateDer::pem_slice_iter(pem) {
                let certificate = certificate.map_err(|_| "it is not PEM".to_owned())?;
                roots.add(certificate).map_err(|error| error.to_string())?;
                added += 1;
            }
            if added == 0 {
                return Err("it holds no certificate".to_owned());
            }
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?
            .with_root_certificates(roots)
            .with_no_client_auth();
        let connector = Connector { reach: reach.clone() };
        let https = HttpsConnectorBuilder::new()
            .with_tls_config(config)
            .https_or_http()
            .enable_all_versions()
            .wrap_connector(connector);
        let client =
            Client::builder(TokioExecutor::new()).pool_max_idle_per_host(AT_ONCE).build(https);
        Ok(Visitor { site, client: Decompression::new(client), reach })
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

    async fn ask(&self, request: &Request, wants_body: bool) -> Result<LiveAnswer, String> {
        let address = request.address().map_err(|why| why.to_string())?;
        let mut asked =
            http::Request::builder().method(request.method()).uri(address.without_fragment());
        if let Some(headers) = asked.headers_mut() {
            headers.extend(request.headers().clone());
        }
        let asked = asked.body(Empty::new()).map_err(|error| error.to_string())?;
        let response = self.client.clone().oneshot(asked).await.map_err(|error| reason(&error))?;
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
