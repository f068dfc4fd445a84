//! A site as a `tower::Service`.

use std::convert::Infallible;
use std::future::{Future, poll_fn};
use std::path::PathBuf;
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use bytes::{Buf, Bytes};
use http::header::{CONTENT_LENGTH, EXPECT, HOST, HeaderName, HeaderValue};
use http::{HeaderMap, Method, Request, Response, StatusCode, Version};
use http_body::Body as HttpBody;
use ravel::Outcome;
use ravel::address::Scheme;
use tower::Service;

use crate::body::SentBody;
use crate::forward::{Elsewhere, Forwards};
use crate::kept::KeptFiles;
use crate::record::{Record, RecordDraft, SentResponse};
use crate::respond::{Decision, empty, respond};
use crate::visitor::{Ports, Visitor};
use crate::{Live, Log};

/// Answers requests as the edge of a site will. Cheap to clone; mount it in any server that speaks
/// `tower`.
#[derive(Debug, Clone)]
pub struct SiteService {
    live: Arc<Live>,
    log: Arc<Log>,
    scheme: Scheme,
    ports: Ports,
    kept: Arc<KeptFiles>,
    forwards: Arc<Forwards>,
}

impl SiteService {
    /// A site over plain HTTP.
    ///
    /// ```no_run
    /// use std::sync::Arc;
    ///
    /// use ravel::address::Scheme;
    /// use ravel_serve::{Live, SiteService};
    ///
    /// let live = Arc::new(Live::read("edge.ravel".as_ref(), None)?);
    /// let service = SiteService::new(live).over(Scheme::Https);
    /// # Ok::<(), ravel_serve::ReadError>(())
    /// ```
    pub fn new(live: Arc<Live>) -> SiteService {
        SiteService {
            live,
            log: Arc::default(),
            scheme: Scheme::Http,
            ports: Ports::default(),
            kept: Arc::default(),
            forwards: Arc::default(),
        }
    }

    /// The same site over this scheme.
    #[must_use]
    pub fn over(mut self, scheme: Scheme) -> SiteService {
        self.scheme = scheme;
        self
    }

    /// Says on which ports plain HTTP and HTTPS are reached, so that a visitor who came with a port
    /// is sent on with one.
    #[must_use]
    pub fn on_ports(mut self, http: Option<u16>, https: Option<u16>) -> SiteService {
        self.ports = Ports { http, https };
        self
    }

    /// Gives requests for other services to local servers.
    #[must_use]
    pub fn with_forwards(mut self, forwards: Forwards) -> SiteService {
        self.forwards = Arc::new(forwards);
        self
    }

    /// The requests that were answered, by this service and its clones.
    pub fn log(&self) -> &Arc<Log> {
        &self.log
    }

    /// Logs a request that the server refused before it came here, by the first line of its head.
    pub(crate) async fn refused(&self, line: &str) {
        let place = self.log.place().await;
        let mut words = line.splitn(2, ' ');
        let method = words.next().and_then(|word| Method::from_bytes(word.as_bytes()).ok());
        let target = words.next().unwrap_or("/");
        let target = target.rsplit_once(" HTTP/").map_or(target, |(target, _)| target);
        let host = self.live.site().rules.site().host().to_string();
        let request =
            ravel::Request::from_parts(method.unwrap_or(Method::GET), self.scheme, &host, target);
        let why = match target.chars().find(|c| "\"<>^`".contains(*c)) {
            Some(found) => format!(
                "a raw `{found}` in a target is no HTTP (RFC 9112, section 3.2): write it as `%{:02X}`",
                u32::from(found)
            ),
            None => format!("it is no HTTP: `{}`", line.chars().take(80).collect::<String>()),
        };
        self.log.add(Record::unread(request, &why), place);
    }

    /// Decides; all that touches the rules, so that none of it is held while a file is sent.
    fn decide(&self, head: &http::request::Parts) -> Decided {
        let site = self.live.site();
        let named = head.uri.authority().map(|authority| authority.as_str().to_owned());
        let field =
            || head.headers.get(HOST).and_then(|host| host.to_str().ok()).map(str::to_owned);
        let visitor = Visitor::of(&named.or_else(field).unwrap_or_default(), &site.rules);
        let target = head.uri.path_and_query().map_or("/", |target| target.as_str());
        let request =
            ravel::Request::from_parts(head.method.clone(), self.scheme, &visitor.host, target);
        let request = request.with_headers(headers_of(head, &visitor.host));
        let answer = site.edge.answer(&request);
        // Another service has no status here; its own comes through a forward.
        let status = answer.status().map_or(Ok(StatusCode::BAD_GATEWAY), StatusCode::from_u16);
        let status = status.unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let headers = answer.headers().iter().filter_map(|header| {
            let value = match header.name() {
                "location" => visitor.location(header.value(), &site.rules, self.ports),
                _ => header.value().to_string(),
            };
            let name = HeaderName::from_bytes(header.name().as_bytes()).ok()?;
            Some((name, HeaderValue::from_str(&value).ok()?))
        });
        let text = match answer.outcome() {
            Outcome::Redirect => format!("{}\n", answer.location().unwrap_or_default()),
            outcome => format!("{}: {outcome}\n", status.as_u16()),
        };
        let root = site.root.clone();
        let file = answer.file().and_then(|file| root.as_ref().map(|root| root.join(file)));
        let decision = Decision { status, file, headers: headers.collect(), text };
        let elsewhere =
            (answer.outcome() == Outcome::Elsewhere).then(|| Elsewhere::of(&site, &answer));
        let difference = self.live.difference(&site, &request);
        let draft = RecordDraft::of(Arc::clone(&site), request, &answer, difference);
        Decided { decision, root, elsewhere, draft, visitor }
    }
}

/// What the rules say of a request, and what is written down of it.
struct Decided {
    decision: Decision,
    root: Option<PathBuf>,
    elsewhere: Option<Elsewhere>,
    draft: RecordDraft,
    visitor: Visitor,
}

/// The headers of a request, with the host as the site knows it. Hosts that contradict each other
/// stay, for the edge to refuse.
fn headers_of(head: &http::request::Parts, host: &str) -> http::HeaderMap {
    let mut headers = head.headers.clone();
    let mut lines = head.headers.get_all(HOST).into_iter();
    // In HTTP/1.1 the target wins, whatever the field says (RFC 9112, section 3.2.2).
    let target_wins = head.version < Version::HTTP_2;
    let agrees = |line: &HeaderValue| match head.uri.authority() {
        Some(_) if target_wins => true,
        Some(authority) => line.as_bytes().eq_ignore_ascii_case(authority.as_str().as_bytes()),
        None => true,
    };
    if let (Some(line), None) = (lines.next(), lines.next())
        && agrees(line)
        && let Ok(known) = HeaderValue::from_str(host)
    {
        headers.insert(HOST, known);
    }
    headers
}

/// A request body that is not read: so much of it is taken in, so that the answer arrives, in
/// bytes.
const MAX_DRAINED_BYTES: u64 = 64 * 1024;
/// How long it is waited for.
const DRAIN_TIME: Duration = Duration::from_secs(2);

/// Takes in a small body that nobody reads: a connection that is closed on it could lose the
/// answer.
async fn drain<B: HttpBody + Send>(body: B, headers: &HeaderMap) {
    let is_small = body.size_hint().lower() <= MAX_DRAINED_BYTES;
    if body.is_end_stream() || !is_small || headers.contains_key(EXPECT) {
        return;
    }
    let mut body = pin!(body);
    let mut left = MAX_DRAINED_BYTES;
    let read = async {
        while let Some(Ok(frame)) = poll_fn(|context| body.as_mut().poll_frame(context)).await {
            let bytes = frame.data_ref().map_or(0, |data| data.remaining() as u64);
            left = left.saturating_sub(bytes);
            if left == 0 {
                break;
            }
        }
    };
    let _ = tokio::time::timeout(DRAIN_TIME, read).await;
}

impl<B> Service<Request<B>> for SiteService
where
    B: HttpBody<Data = Bytes> + Send + 'static,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    type Response = Response<SentBody>;
    type Error = Infallible;
    type Future = Pin<Box<dyn Future<Output = Result<Response<SentBody>, Infallible>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: Request<B>) -> Self::Future {
        let this = self.clone();
        Box::pin(async move {
            let place = this.log.place().await;
            let begun = Instant::now();
            let (mut head, body) = request.into_parts();
            let is_head = head.method == Method::HEAD;
            let Decided { decision, root, elsewhere, draft, visitor } = this.decide(&head);
            let response = match elsewhere {
                Some(elsewhere) => {
                    let extra = decision.headers;
                    let (forwards, scheme) = (&this.forwards, this.scheme);
                    let mut response =
                        forwards.send(&elsewhere, &mut head, body, scheme, extra).await;
                    let site = this.live.site();
                    let target = forwards.target(&elsewhere);
                    let headers = response.headers_mut();
                    visitor.come_back(headers, &site.rules, this.ports, target);
                    response
                }
                None => {
                    drain(body, &head.headers).await;
                    let (method, headers) = (&head.method, &head.headers);
                    respond(decision, root.as_deref(), method, headers, &this.kept).await
                }
            };
            let (mut head, mut body) = response.into_parts();
            if is_head {
                let length = HttpBody::size_hint(&body).exact().filter(|length| *length > 0);
                if let Some(length) = length.filter(|_| head.status != StatusCode::NOT_MODIFIED) {
                    head.headers.entry(CONTENT_LENGTH).or_insert(length.into());
                }
                body = empty();
            }
            let sent = SentResponse {
                status: head.status.as_u16(),
                headers: head.headers.clone(),
                ..SentResponse::default()
            };
            let body = SentBody::new(body, sent, begun, (draft, this.log, place));
            Ok(Response::from_parts(head, body))
        })
    }
}
