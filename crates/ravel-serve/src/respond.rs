//! From what was decided to the bytes that are sent.

use std::io::{self, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use async_compression::tokio::bufread::GzipEncoder;
use bytes::Bytes;
use futures_util::TryStreamExt;
use http::header::{
    ACCEPT_RANGES, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, ETAG, HeaderName,
    HeaderValue, LAST_MODIFIED, RANGE, VARY,
};
use http::{HeaderMap, Method, Response, StatusCode};
use http_body::Frame;
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Full, StreamBody};
use tokio::io::{AsyncBufRead, AsyncReadExt, BufReader};
use tokio_util::io::ReaderStream;

use crate::encoding::{Encoding, compresses};
use crate::kept::KeptFiles;
use crate::representation::{FileContent, FileError, OpenFile, PIECE_BYTES, Selected};

/// A body that is sent.
pub(crate) type Body = UnsyncBoxBody<Bytes, io::Error>;

/// Shorter texts get no smaller, in bytes.
const MIN_COMPRESSED_BYTES: u64 = 64;

/// What was decided, free of the rules that decided it.
#[derive(Debug)]
pub(crate) struct Decision {
    pub(crate) status: StatusCode,
    pub(crate) file: Option<PathBuf>,
    /// In order; the `location` is one that the visitor can follow.
    pub(crate) headers: Vec<(HeaderName, HeaderValue)>,
    /// The text where no file is shown.
    pub(crate) text: String,
}

/// What a file's answer is before the rules' headers are put on it.
struct FileAnswer {
    status: StatusCode,
    headers: HeaderMap,
    body: Body,
}

/// Makes the response. A file that cannot be read any more is 404, as it would be now.
pub(crate) async fn respond(
    decided: Decision,
    root: Option<&Path>,
    method: &Method,
    asked: &HeaderMap,
    kept: &Arc<KeptFiles>,
) -> Response<Body> {
    let shown = match (&decided.file, root) {
        (Some(file), Some(root)) => match opened(file, root, kept).await {
            Ok(file) => shown_file(file, &decided, method, asked).await,
            Err(why) => return unshown(&why, method),
        },
        (Some(_), None) => return unshown(&FileError::Missing, method),
        (None, _) => Ok(text(decided.text.clone(), decided.status, method)),
    };
    let Ok(FileAnswer { status, headers, body }) = shown else {
        return unshown(&FileError::Missing, method);
    };
    let mut response = Response::new(body);
    *response.status_mut() = status;
    *response.headers_mut() = with_rules(headers, &decided.headers, status);
    response
}

/// A file, from what is kept, or else from the disk.
async fn opened(file: &Path, root: &Path, kept: &Arc<KeptFiles>) -> Result<OpenFile, FileError> {
    if let Some(file) = OpenFile::kept(file, kept) {
        return Ok(file);
    }
    let (file, root, kept) = (file.to_owned(), root.to_owned(), Arc::clone(kept));
    let opened = tokio::task::spawn_blocking(move || OpenFile::open(&file, &root, &kept)).await;
    opened.unwrap_or_else(|error| Err(FileError::Unreadable(io::Error::other(error))))
}

/// The headers of a file's bytes, with those that the rules have for it.
fn with_rules(
    of_file: HeaderMap,
    rules: &[(HeaderName, HeaderValue)],
    status: StatusCode,
) -> HeaderMap {
    let mut headers = HeaderMap::new();
    for (name, value) in rules {
        headers.append(name, value.clone());
    }
    for (name, value) in &of_file {
        match *name {
            // Several parts have a type of their own; so does an error.
            CONTENT_TYPE => drop(headers.insert(CONTENT_TYPE, value.clone())),
            VARY => add_vary(&mut headers, value),
            _ if headers.contains_key(name) => {}
            _ => drop(headers.append(name, value.clone())),
        }
    }
    // What is not sent has no type (RFC 9110, section 15.4.5).
    if status == StatusCode::NOT_MODIFIED {
        headers.remove(CONTENT_TYPE);
    }
    headers
}

fn add_vary(headers: &mut HeaderMap, value: &HeaderValue) {
    let stated: Vec<&str> =
        headers.get_all(VARY).iter().filter_map(|value| value.to_str().ok()).collect();
    let stated = stated.join(", ");
    let added = value.to_str().unwrap_or_default();
    let has =
        stated.split(',').any(|one| one.trim() == "*" || one.trim().eq_ignore_ascii_case(added));
    if !has {
        let joined =
            if stated.is_empty() { added.to_owned() } else { format!("{stated}, {added}") };
        if let Ok(value) = HeaderValue::from_str(&joined) {
            headers.insert(VARY, value);
        }
    }
}

/// A line of text, whose type the rules say.
fn text(text: String, status: StatusCode, method: &Method) -> FileAnswer {
    let mut headers = HeaderMap::new();
    if status != StatusCode::NOT_MODIFIED {
        headers.insert(CONTENT_LENGTH, text.len().into());
    }
    let body = if *method == Method::HEAD { empty() } else { full(text.into()) };
    FileAnswer { status, headers, body }
}

/// A line of text in place of a file.
fn instead(said: &str, status: StatusCode, method: &Method) -> FileAnswer {
    let mut answer = text(said.to_owned(), status, method);
    let plain = HeaderValue::from_static("text/plain; charset=utf-8");
    answer.headers.insert(CONTENT_TYPE, plain);
    answer
}

/// No body.
pub(crate) fn empty() -> Body {
    full(Bytes::new())
}

/// All of a body at once.
pub(crate) fn full(bytes: Bytes) -> Body {
    Full::from(bytes).map_err(|never| match never {}).boxed_unsync()
}

fn unshown(why: &FileError, method: &Method) -> Response<Body> {
    let (status, said) = match why {
        FileError::Missing => (StatusCode::NOT_FOUND, "404: the file is not there any more\n"),
        FileError::Unreadable(error) => {
            tracing::warn!(%error, "a file cannot be read");
            (StatusCode::INTERNAL_SERVER_ERROR, "500: the file cannot be read\n")
        }
    };
    let FileAnswer { headers, body, .. } = instead(said, status, method);
    let mut response = Response::new(body);
    *response.status_mut() = status;
    *response.headers_mut() = headers;
    response
}

/// A file, or what a client wants of it.
async fn shown_file(
    file: OpenFile,
    decided: &Decision,
    method: &Method,
    asked: &HeaderMap,
) -> io::Result<FileAnswer> {
    let content_type = decided.headers.iter().find(|(name, _)| *name == CONTENT_TYPE);
    let content_type = content_type.and_then(|(_, value)| value.to_str().ok()).unwrap_or_default();
    let gets_smaller = compresses(content_type) && file.bytes >= MIN_COMPRESSED_BYTES;
    // A part is one of the file as it is.
    let compressed = gets_smaller && !asked.contains_key(RANGE);
    let Some(encoding) = Encoding::chosen(asked, compressed) else {
        let said = "406: there is no encoding that is acceptable\n";
        return Ok(instead(said, StatusCode::NOT_ACCEPTABLE, method));
    };
    let is_found = decided.status == StatusCode::OK;
    // What is not there has no parts and no versions.
    let selected = if is_found { file.selected(method, asked, encoding) } else { Selected::Whole };
    let mut headers = HeaderMap::new();
    if is_found {
        let version = file.validators(encoding);
        let value = |text: &str| HeaderValue::from_str(text).map_err(io::Error::other);
        headers.insert(ETAG, value(version.tag())?);
        headers.insert(LAST_MODIFIED, value(&version.modified())?);
        headers.insert(ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    }
    if gets_smaller || encoding != Encoding::Identity {
        headers.insert(VARY, HeaderValue::from_static("accept-encoding"));
    }
    let answer = |status, headers, body| Ok(FileAnswer { status, headers, body });
    match selected {
        Selected::Whole => whole(file, encoding, headers, decided.status, method).await,
        Selected::NotModified => answer(StatusCode::NOT_MODIFIED, headers, empty()),
        Selected::PreconditionFailed => {
            let said = "412: the file is another version\n";
            Ok(instead(said, StatusCode::PRECONDITION_FAILED, method))
        }
        Selected::Unsatisfiable => {
            let said = "416: the file is shorter\n";
            let mut unsatisfiable = instead(said, StatusCode::RANGE_NOT_SATISFIABLE, method);
            let range = HeaderValue::from_str(&format!("bytes */{}", file.bytes));
            unsatisfiable.headers.insert(CONTENT_RANGE, range.map_err(io::Error::other)?);
            Ok(unsatisfiable)
        }
        Selected::Parts(parts) => parted(file, &parts, headers, content_type).await,
    }
}

/// All of a file.
async fn whole(
    file: OpenFile,
    encoding: Encoding,
    mut headers: HeaderMap,
    status: StatusCode,
    method: &Method,
) -> io::Result<FileAnswer> {
    match encoding.name() {
        Some(name) => drop(headers.insert(CONTENT_ENCODING, HeaderValue::from_static(name))),
        None => drop(headers.insert(CONTENT_LENGTH, file.bytes.into())),
    }
    if *method == Method::HEAD {
        return Ok(FileAnswer { status, headers, body: empty() });
    }
    let body = match (file.content, encoding) {
        (FileContent::Whole(content), Encoding::Identity) => full(content),
        (FileContent::Whole(content), _) => encoded(io::Cursor::new(content), encoding),
        (FileContent::Open(open), _) => {
            let file = tokio::fs::File::from_std(open).take(file.bytes);
            encoded(BufReader::with_capacity(PIECE_BYTES, file), encoding)
        }
    };
    Ok(FileAnswer { status, headers, body })
}

/// A body of what is read, encoded on the way.
fn encoded(reader: impl AsyncBufRead + Send + Unpin + 'static, encoding: Encoding) -> Body {
    let streamed = |stream: ReaderStream<_>| {
        StreamBody::new(TryStreamExt::map_ok(stream, Frame::data)).boxed_unsync()
    };
    type Reader = Box<dyn tokio::io::AsyncRead + Send + Unpin>;
    let reader: Reader = match encoding {
        Encoding::Identity => Box::new(reader),
        Encoding::Gzip => Box::new(GzipEncoder::new(reader)),
    };
    streamed(ReaderStream::with_capacity(reader, PIECE_BYTES))
}

/// Parts of a file: one as it is, several in an envelope (RFC 9110, section 14.6).
async fn parted(
    mut file: OpenFile,
    parts: &[(u64, u64)],
    mut headers: HeaderMap,
    content_type: &str,
) -> io::Result<FileAnswer> {
    let all = file.bytes;
    let range = |from: u64, to: u64| format!("bytes {from}-{to}/{all}");
    let status = StatusCode::PARTIAL_CONTENT;
    if let [(from, to)] = *parts {
        let bytes = to - from + 1;
        let stated = HeaderValue::from_str(&range(from, to)).map_err(io::Error::other)?;
        headers.insert(CONTENT_RANGE, stated);
        headers.insert(CONTENT_LENGTH, bytes.into());
        let body = match file.content {
            FileContent::Whole(content) => full(content.slice(from as usize..=to as usize)),
            FileContent::Open(mut open) => {
                open.seek(SeekFrom::Start(from))?;
                let part = tokio::fs::File::from_std(open).take(bytes);
                encoded(BufReader::with_capacity(PIECE_BYTES, part), Encoding::Identity)
            }
        };
        return Ok(FileAnswer { status, headers, body });
    }
    // Made of the content, so that it does not hold it.
    let boundary = Arc::clone(&file.tag);
    let parts = parts.to_vec();
    let (content_type, line) = (content_type.to_owned(), Arc::clone(&boundary));
    let body = tokio::task::spawn_blocking(move || {
        let mut body = Vec::new();
        for (from, to) in parts {
            let range = format!("bytes {from}-{to}/{all}");
            body.extend(
                format!(
                    "\r\n--{line}\r\ncontent-type: {content_type}\r\ncontent-range: {range}\r\n\r\n"
                )
                .bytes(),
            );
            body.extend(file.content.part(from, to - from + 1)?);
        }
        body.extend(format!("\r\n--{line}--\r\n").bytes());
        Ok::<_, io::Error>(body)
    });
    let body = body.await.map_err(io::Error::other)??;
    headers.insert(CONTENT_LENGTH, body.len().into());
    let envelope = format!("multipart/byteranges; boundary={boundary}");
    headers.insert(CONTENT_TYPE, HeaderValue::from_str(&envelope).map_err(io::Error::other)?);
    Ok(FileAnswer { status, headers, body: full(body.into()) })
}
