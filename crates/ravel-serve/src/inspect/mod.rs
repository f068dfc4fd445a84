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

use axum::Router;
use axum::extract::{Path, Query, Request, State};
use axum::http::header::{
    CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HOST, HeaderName, HeaderValue, ORIGIN,
};
use axum::http::{HeaderMap, Method, StatusCode};
use axum::middleware::{self, Next};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use futures_util::{Stream, StreamExt};
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::watch;

use crate::certificates::HostCertificates;
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

/// What is typed into the box.
#[derive(Debug, Default)]
struct InspectQuery {
    method: String,
    address: String,
    header: String,
}

pub(crate) fn router(inspector: Inspector) -> Router {
    Router::new()
        .route("/", get(front))
        .route("/try", get(tried))
        .route("/requests", get(to_come))
        .route("/requests.har", get(archive))
        .route("/request/{number}", get(request))
        .route("/clear", post(clear))
        .route("/state", get(state))
        .route(
            "/inspect.css",
            get(|| asset("text/css; charset=utf-8", include_str!("inspect.css"))),
        )
        .route(
            "/inspect.js",
            get(|| asset("text/javascript; charset=utf-8", include_str!("inspect.js"))),
        )
        .layer(middleware::from_fn_with_state(inspector.clone(), guard))
        .with_state(inspector)
}

async fn asset(kind: &'static str, text: &'static str) -> Response {
    ([(CONTENT_TYPE, HeaderValue::from_static(kind))], text).into_response()
}

/// Refuses names that are not its own, so that no page can reach it under another (DNS rebinding),
/// and posts from elsewhere.
async fn guard(State(inspector): State<Inspector>, request: Request, next: Next) -> Response {
    let port = inspector.addresses.inspect().port();
    let named = request.headers().get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    let own =
        ["localhost", "127.0.0.1", "[::1]"].iter().any(|name| *named == format!("{name}:{port}"));
    if !own {
        return (StatusCode::MISDIRECTED_REQUEST, "421: this is not the inspector's name\n")
            .into_response();
    }
    let safe = request.method() == Method::GET || request.method() == Method::HEAD;
    let origin = request.headers().get(ORIGIN).and_then(|origin| origin.to_str().ok());
    if !safe && origin != Some(&*format!("http://{named}")) {
        return (StatusCode::FORBIDDEN, "403: only the inspector's own page may do that\n")
            .into_response();
    }
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    let policy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'";
    headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(
        HeaderName::from_static("x-content-type-options"),
        HeaderValue::from_static("nosniff"),
    );
    headers.insert(
        HeaderName::from_static("referrer-policy"),
        HeaderValue::from_static("no-referrer"),
    );
    response
}

async fn front(State(inspector): State<Inspector>) -> Response {
    page::whole(&inspector, None, None).into_response()
}

/// One request: the part that shows it, or the whole page for those without a script.
async fn request(
    State(inspector): State<Inspector>,
    Path(number): Path<u64>,
    Query(asked): Query<Vec<(String, String)>>,
) -> Response {
    let Some(record) = inspector.log.record(number) else {
        return (StatusCode::NOT_FOUND, "404: this request is not kept any more\n").into_response();
    };
    match asked.iter().any(|(name, _)| name == "part") {
        true => requests::details(&inspector, &record).into_response(),
        false => page::whole(&inspector, None, Some(&record)).into_response(),
    }
}

async fn archive(State(inspector): State<Inspector>) -> Response {
    let text = copied::archive(&inspector).to_string();
    ([(CONTENT_TYPE, HeaderValue::from_static("application/json"))], text).into_response()
}

async fn clear(State(inspector): State<Inspector>) -> Response {
    inspector.log.clear();
    StatusCode::NO_CONTENT.into_response()
}

async fn tried(
    State(inspector): State<Inspector>,
    Query(asked): Query<Vec<(String, String)>>,
) -> Response {
    let value = |name: &str| {
        asked
            .iter()
            .find(|(known, _)| known == name)
            .map_or(String::new(), |(_, value)| value.trim().to_owned())
    };
    let asked = InspectQuery {
        method: value("method"),
        address: value("address"),
        header: value("header"),
    };
    let tried = TestedRequest::ask(&inspector, asked.method, asked.address, asked.header);
    match value("part").is_empty() {
        true => page::whole(&inspector, Some(&tried), None).into_response(),
        false => page::tried(&inspector, &tried).into_response(),
    }
}

/// The requests to come, each as it is shown; and those that a reader who was away has missed. An
/// event's id is the run of the server and the request's number.
async fn to_come(
    State(inspector): State<Inspector>,
    headers: HeaderMap,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let last = headers.get("last-event-id").and_then(|id| id.to_str().ok());
    let seen = last.and_then(|id| id.split_once('-')).and_then(|(run, number)| {
        let is_this = run.parse::<u64>() == Ok(inspector.run);
        is_this.then(|| number.parse::<u64>().ok())?
    });
    let receiver = inspector.log.subscribe();
    let mut stopped = inspector.stopped.clone();
    let from = seen.unwrap_or(0);
    let news =
        futures_util::stream::unfold((receiver, from, true), move |(mut receiver, from, first)| {
            let inspector = inspector.clone();
            async move {
                // One that is late reads what is kept, and misses nothing that is.
                if !first && matches!(receiver.recv().await, Err(RecvError::Closed)) {
                    return None;
                }
                while receiver.try_recv().is_ok() {}
                let rows = requests::rows(&inspector.log.last());
                let mut fresh: Vec<_> = rows.iter().filter(|row| row.number() > from).collect();
                fresh.sort_by_key(|row| row.number());
                let to = fresh.last().map_or(from, |row| row.number());
                let event = |row: &&requests::Row| {
                    let id = format!("{}-{}", inspector.run, row.number());
                    Ok(Event::default().id(id).data(row.shown().into_string().replace('\n', " ")))
                };
                let events: Vec<Result<Event, Infallible>> = fresh.iter().map(event).collect();
                Some((futures_util::stream::iter(events), (receiver, to, false)))
            }
        });
    let ended = async move { drop(stopped.changed().await) };
    Sse::new(news.flatten().take_until(ended)).keep_alive(KeepAlive::default())
}

/// What is known of the site: entry points, expectations, findings.
async fn state(State(inspector): State<Inspector>) -> Response {
    page::state(&inspector).into_response()
}
