//! The inspector: a page on a port of its own that shows each request as it comes, and why it was
//! answered so.
//!
//! Everything is rendered here; a small script adds what comes later. Nothing is loaded from
//! elsewhere.

mod page;

use std::convert::Infallible;
use std::sync::Arc;

use axum::Router;
use axum::extract::{Query, Request, State};
use axum::http::header::{
    CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HOST, HeaderName, HeaderValue, ORIGIN,
};
use axum::http::{Method, StatusCode};
use axum::middleware::{self, Next};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use futures_util::{Stream, StreamExt};
use tokio::sync::watch;
use tokio_stream::wrappers::BroadcastStream;

use crate::{Addresses, Live, Log};
use page::TestedRequest;

/// What the inspector shows.
#[derive(Debug, Clone)]
pub(crate) struct Inspector {
    pub(crate) live: Arc<Live>,
    pub(crate) log: Arc<Log>,
    pub(crate) addresses: Addresses,
    /// Changes when the server ends; streams end with it.
    pub(crate) stopped: watch::Receiver<bool>,
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
        .route("/requests", get(requests))
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
    page::whole(&inspector, None).into_response()
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
        true => page::whole(&inspector, Some(&tried)).into_response(),
        false => page::tried(&tried).into_response(),
    }
}

/// The requests to come, each as it is shown.
async fn requests(
    State(inspector): State<Inspector>,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let records = BroadcastStream::new(inspector.log.subscribe());
    let events = records.filter_map(|record| async move {
        let record = record.ok()?;
        Some(Ok(Event::default().data(page::record(&record).into_string().replace('\n', " "))))
    });
    let mut stopped = inspector.stopped;
    let ended = async move { drop(stopped.changed().await) };
    Sse::new(events.take_until(ended)).keep_alive(KeepAlive::default())
}

/// What is known of the site: entry points, expectations, findings.
async fn state(State(inspector): State<Inspector>) -> Response {
    page::state(&inspector).into_response()
}
