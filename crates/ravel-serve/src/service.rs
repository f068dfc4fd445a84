//! A site as a `tower::Service`.

use std::convert::Infallible;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use http::header::{HOST, HeaderName, HeaderValue};
use http::{Request, Response, StatusCode};
use ravel::Outcome;
use ravel::address::Scheme;
use tower::Service;

use crate::log::Record;
use crate::respond::{Body, Decision, respond};
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
        SiteService { live, log: Arc::default(), scheme: Scheme::Http, ports: Ports::default() }
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

    /// The requests that were answered, by this service and its clones.
    pub fn log(&self) -> &Arc<Log> {
        &self.log
    }

    /// Decides and writes down; all that touches the rules, so that none of it is held while a file
    /// is sent.
    fn decide(&self, head: &http::request::Parts) -> (Decision, Option<std::path::PathBuf>) {
        let site = self.live.site();
        let named = head.uri.authority().map(|authority| authority.as_str().to_owned());
        let field =
            || head.headers.get(HOST).and_then(|host| host.to_str().ok()).map(str::to_owned);
        let visitor = Visitor::of(&named.or_else(field).unwrap_or_default(), &site.rules);
        let target = head.uri.path_and_query().map_or("/", |target| target.as_str());
        let request =
            ravel::Request::from_parts(head.method.clone(), self.scheme, &visitor.host, target);
        let request = request.with_headers(headers_of(head, &visitor.host));
        let walk = site.edge.walk(&request);
        let answer = &walk.first().answer();
        // Another service has no status here; its own would come through a proxy.
        let status = answer.status().map_or(Ok(StatusCode::BAD_GATEWAY), StatusCode::from_u16);
        let status = status.unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let headers = answer.headers().iter().filter_map(|header| {
            let value = match header.name() {
                "location" => visitor.location(header.value(), &site.rules, self.ports),
                _ => header.value().to_string(),
            };
            Some((
                HeaderName::from_bytes(header.name().as_bytes()).ok()?,
                HeaderValue::from_str(&value).ok()?,
            ))
        });
        let text = match answer.outcome() {
            Outcome::Elsewhere => {
                "502: another service answers here, and it is not part of this server\n".to_owned()
            }
            Outcome::Redirect => format!("{}\n", answer.location().unwrap_or_default()),
            outcome => format!("{}: {outcome}\n", status.as_u16()),
        };
        let root = site.root.clone();
        let file = answer.file().and_then(|file| root.as_ref().map(|root| root.join(file)));
        let decided = Decision { status, file, headers: headers.collect(), text };
        self.log.add(Record::of(&site, &request, answer, status.as_u16(), &walk));
        (decided, root)
    }
}

/// The headers of a request, with the host as the site knows it. Hosts that contradict each other
/// stay, for the edge to refuse.
fn headers_of(head: &http::request::Parts, host: &str) -> http::HeaderMap {
    let mut headers = head.headers.clone();
    let mut lines = head.headers.get_all(HOST).into_iter();
    let agrees = |line: &HeaderValue| match head.uri.authority() {
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

impl<B: Send + 'static> Service<Request<B>> for SiteService {
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = Pin<Box<dyn Future<Output = Result<Response<Body>, Infallible>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: Request<B>) -> Self::Future {
        let (head, _) = request.into_parts();
        let (decided, root) = self.decide(&head);
        Box::pin(
            async move { Ok(respond(decided, root.as_deref(), &head.method, &head.headers).await) },
        )
    }
}
