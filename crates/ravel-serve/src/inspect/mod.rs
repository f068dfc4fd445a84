//! The inspector: a page on a port of its own that shows each request as it comes, and why it was
//! answered so.
//!
//! Everything is rendered here; a small script adds what comes later. Nothing is loaded from
//! elsewhere.

mod copied;
mod page;
mod requests;

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use http::header::{
    ALLOW, CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HOST, HeaderName, HeaderValue,
    ORIGIN,
};
use http::{HeaderMap, Method, Request, Response, StatusCode};
use http_body::Frame;
use http_body_util::{BodyExt, StreamBody};
use maud::Markup;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::watch;
use url::form_urlencoded;

use crate::certificates::HostCertificates;
use crate::respond::{Body, empty, full};
use crate::{Addresses, Live, Log};
use page::TestedRequest;

/// What the inspector shows.
#[derive(Debug, Clone)]
pub(crate) struct Inspector {
    pub(crate) live: Arc<Live>,
    pub(crate) log: Arc<Log>,
    pub(crate) addresses: Addresses,
    pub(crate) certificates: Arc<HostCertificates>,
    /// Tells one run of the server from another, whose requests are counted anew.
    pub(crate) run: u64,
    /// Changes when the server ends; streams end with it.
    pub(crate) stopped: watch::Receiver<bool>,
}

impl Inspector {
    /// The file with the local authority's certificate.
    fn authority(&self) -> String {
        self.certificates.authority().path().display().to_string()
    }
}

const HTML: &str = "text/html; charset=utf-8";
const TEXT: &str = "text/plain; charset=utf-8";
/// A stream on which nothing comes says that it is still there.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// Answers one request. Names that are not its own are refused, so that no page can reach it under
/// another (DNS rebinding), and posts from elsewhere.
pub(crate) async fn answer<B>(
    inspector: Inspector,
    request: Request<B>,
) -> Result<Response<Body>, Infallible> {
    let port = inspector.addresses.inspect().port();
    let header = |name| request.headers().get(name).and_then(|value| value.to_str().ok());
    let named = header(HOST).unwrap_or_default();
    let own = ["localhost", "127.0.0.1", "[::1]"].iter().any(|name| {
        // Browsers leave the standard port out.
        *named == format!("{name}:{port}") || (port == 80 && named == *name)
    });
    if !own {
        return Ok(error(StatusCode::MISDIRECTED_REQUEST, "421: this is not the inspector's name"));
    }
    let safe = request.method() == Method::GET || request.method() == Method::HEAD;
    if !safe && header(ORIGIN) != Some(&*format!("http://{named}")) {
        return Ok(error(StatusCode::FORBIDDEN, "403: only the inspector's own page may do that"));
    }
    let mut response = routed(&inspector, &request);
    let headers = response.headers_mut();
    let policy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'";
    for (name, value) in [
        (CONTENT_SECURITY_POLICY, policy),
        (CACHE_CONTROL, "no-store"),
        (HeaderName::from_static("x-content-type-options"), "nosniff"),
        (HeaderName::from_static("referrer-policy"), "no-referrer"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    Ok(response)
}

/// The page, or the part of it, at a path.
fn routed<B>(inspector: &Inspector, request: &Request<B>) -> Response<Body> {
    let path = request.uri().path();
    let allowed = if path == "/clear" { Method::POST } else { Method::GET };
    if *request.method() != allowed
        && !(allowed == Method::GET && *request.method() == Method::HEAD)
    {
        let mut refused =
            error(StatusCode::METHOD_NOT_ALLOWED, "405: this is asked by another method");
        let allowed = if allowed == Method::GET { "GET, HEAD" } else { "POST" };
        refused.headers_mut().insert(ALLOW, HeaderValue::from_static(allowed));
        return refused;
    }
    let query = request.uri().query().unwrap_or_default();
    match path {
        "/" => html(page::whole(inspector, None, None)),
        "/try" => tested(inspector, query),
        "/requests" => to_come(inspector.clone(), request.headers()),
        "/requests.har" => of("application/json", copied::archive(inspector).to_string()),
        "/clear" => {
            inspector.log.clear();
            with_status(StatusCode::NO_CONTENT, Response::new(empty()))
        }
        // What is known of the site: entry points, expectations, findings.
        "/state" => html(page::state(inspector)),
        "/inspect.css" => of("text/css; charset=utf-8", include_str!("inspect.css")),
        "/inspect.js" => of("text/javascript; charset=utf-8", include_str!("inspect.js")),
        _ => match path.strip_prefix("/request/").and_then(|number| number.parse().ok()) {
            Some(number) => one_request(inspector, number, query),
            None => error(StatusCode::NOT_FOUND, "404: the inspector has no such page"),
        },
    }
}

fn of(content_type: &'static str, text: impl Into<Bytes>) -> Response<Body> {
    let mut response = Response::new(full(text.into()));
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(content_type));
    response
}

fn html(markup: Markup) -> Response<Body> {
    of(HTML, markup.into_string())
}

fn with_status(status: StatusCode, mut response: Response<Body>) -> Response<Body> {
    *response.status_mut() = status;
    response
}

fn error(status: StatusCode, what: &str) -> Response<Body> {
    with_status(status, of(TEXT, format!("{what}\n")))
}

/// The value of a field of a form; empty where it is not there.
fn field(query: &str, name: &str) -> String {
    let mut fields = form_urlencoded::parse(query.as_bytes());
    fields.find(|(known, _)| known == name).map_or(String::new(), |(_, value)| value.into_owned())
}

/// One request: the part that shows it, or the whole page for those without a script.
fn one_request(inspector: &Inspector, number: u64, query: &str) -> Response<Body> {
    let Some(record) = inspector.log.record(number) else {
        return error(StatusCode::NOT_FOUND, "404: this request is not kept any more");
    };
    html(match form_urlencoded::parse(query.as_bytes()).any(|(name, _)| name == "part") {
        true => requests::details(inspector, &record),
        false => page::whole(inspector, None, Some(&record)),
    })
}

/// What is typed into the box, asked.
fn tested(inspector: &Inspector, query: &str) -> Response<Body> {
    let value = |name| field(query, name).trim().to_owned();
    let tested = TestedRequest::ask(inspector, value("method"), value("address"), value("header"));
    html(match value("part").is_empty() {
        true => page::whole(inspector, Some(&tested), None),
        false => page::tried(inspector, &tested),
    })
}

/// The requests to come as server-sent events, each as it is shown; and those that a reader who was
/// away has missed. An event's id is the run of the server and the request's number.
fn to_come(inspector: Inspector, headers: &HeaderMap) -> Response<Body> {
    let last = headers.get("last-event-id").and_then(|id| id.to_str().ok());
    let seen = last.and_then(|id| id.split_once('-')).and_then(|(run, number)| {
        let is_this = run.parse::<u64>() == Ok(inspector.run);
        is_this.then(|| number.parse::<u64>().ok())?
    });
    let receiver = inspector.log.subscribe();
    let mut stopped = inspector.stopped.clone();
    let news = futures_util::stream::unfold(
        (receiver, seen.unwrap_or(0), true),
        move |(mut receiver, from, first)| {
            let inspector = inspector.clone();
            async move {
                // One that is late reads what is kept, and misses nothing that is.
                if !first {
                    match tokio::time::timeout(KEEP_ALIVE, receiver.recv()).await {
                        Ok(Err(RecvError::Closed)) => return None,
                        Ok(_) => {}
                        Err(_) => return Some((":\n\n".to_owned(), (receiver, from, false))),
                    }
                }
                while receiver.try_recv().is_ok() {}
                let rows = requests::rows(&inspector.log.last());
                let mut fresh: Vec<_> = rows.iter().filter(|row| row.number() > from).collect();
                fresh.sort_by_key(|row| row.number());
                let to = fresh.last().map_or(from, |row| row.number());
                let event = |row: &&requests::Row| {
                    let shown = row.shown().into_string().replace(['\r', '\n'], " ");
                    format!("id: {}-{}\ndata: {shown}\n\n", inspector.run, row.number())
                };
                let events: String = fresh.iter().map(event).collect();
                Some((events, (receiver, to, false)))
            }
        },
    );
    let ended = async move { drop(stopped.changed().await) };
    let frames = news.take_until(ended).map(|events| Ok(Frame::data(Bytes::from(events))));
    let mut response = Response::new(StreamBody::new(frames).boxed_unsync());
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/event-stream"));
    response
}
