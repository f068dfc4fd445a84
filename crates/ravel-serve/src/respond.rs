//! From what was decided to the bytes that are sent.

use std::path::{Path, PathBuf};

use bytes::Bytes;
use http::header::{CONTENT_TYPE, HeaderName, HeaderValue};
use http::{HeaderMap, Method, Request, Response, StatusCode};
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Full};
use tower::ServiceExt;
use tower_http::services::ServeFile;

/// A body that is sent.
pub(crate) type Body = UnsyncBoxBody<Bytes, std::io::Error>;

/// What was decided, free of the rules that decided it.
#[derive(Debug)]
pub(crate) struct Decision {
    pub(crate) status: StatusCode,
    pub(crate) file: Option<PathBuf>,
    /// In order; the `location` is one that the visitor can follow.
    pub(crate) headers: Vec<(HeaderName, HeaderValue)>,
    /// What is said where no file is shown.
    pub(crate) text: String,
}

/// Fields with which a client asks for less than the whole file (RFC 9110, sections 13 and 14).
const PARTIAL: [HeaderName; 6] = [
    http::header::RANGE,
    http::header::IF_RANGE,
    http::header::IF_MATCH,
    http::header::IF_NONE_MATCH,
    http::header::IF_MODIFIED_SINCE,
    http::header::IF_UNMODIFIED_SINCE,
];

/// Makes the response. A file that cannot be read any more is 404, as it would be now.
pub(crate) async fn respond(
    decided: Decision,
    root: Option<&Path>,
    method: &Method,
    headers: &HeaderMap,
) -> Response<Body> {
    let shown = match &decided.file {
        Some(file) => shown_file(file, root, decided.status, method, headers).await,
        None => Some(text(decided.text)),
    };
    let Some(mut response) = shown else {
        let mut response = text("404: the file is not there any more\n".to_owned());
        *response.status_mut() = StatusCode::NOT_FOUND;
        response
            .headers_mut()
            .insert(CONTENT_TYPE, HeaderValue::from_static("text/plain; charset=utf-8"));
        return response;
    };
    if response.status() == StatusCode::OK {
        *response.status_mut() = decided.status;
    }
    let kept = response.headers_mut();
    kept.remove(CONTENT_TYPE);
    let mut set: Vec<&HeaderName> = Vec::new();
    for (name, value) in &decided.headers {
        // The first of a name replaces what the file gave; the others are added.
        match set.contains(&name) {
            true => drop(kept.append(name, value.clone())),
            false => drop(kept.insert(name, value.clone())),
        }
        set.push(name);
    }
    response
}

fn text(text: String) -> Response<Body> {
    Response::new(Full::from(text).map_err(|never| match never {}).boxed_unsync())
}

/// The file, or the part of it that is asked for; none where it is not there, or leads out of the
/// folder.
async fn shown_file(
    file: &Path,
    root: Option<&Path>,
    status: StatusCode,
    method: &Method,
    headers: &HeaderMap,
) -> Option<Response<Body>> {
    let real = tokio::fs::canonicalize(file).await.ok()?;
    let root = tokio::fs::canonicalize(root?).await.ok()?;
    if !real.starts_with(&root) {
        tracing::warn!(file = %file.display(), "the file leads out of the folder and is not shown");
        return None;
    }
    let mut request = Request::new(());
    *request.method_mut() = if *method == Method::HEAD { Method::HEAD } else { Method::GET };
    if status == StatusCode::OK {
        let asked = PARTIAL
            .iter()
            .flat_map(|name| headers.get_all(name).iter().map(move |value| (name, value)));
        for (name, value) in asked {
            request.headers_mut().append(name, value.clone());
        }
    }
    let response = ServeFile::new(real).oneshot(request).await.ok()?;
    if response.status() == StatusCode::NOT_FOUND {
        return None;
    }
    let mut response = response.map(|body| body.boxed_unsync());
    if status != StatusCode::OK {
        // What is missing has no parts and no versions.
        for name in [http::header::ETAG, http::header::LAST_MODIFIED, http::header::ACCEPT_RANGES] {
            response.headers_mut().remove(name);
        }
    }
    Some(response)
}
