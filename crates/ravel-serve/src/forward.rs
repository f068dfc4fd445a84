//! Requests for another service, given to a local server that plays it.

use std::fmt;
use std::net::IpAddr;
use std::time::Duration;

use bytes::Bytes;
use http::header::{
    CONNECTION, FORWARDED, HOST, HeaderName, HeaderValue, TE, TRAILER, TRANSFER_ENCODING, UPGRADE,
    VIA,
};
use http::request::Parts;
use http::uri::{Authority, PathAndQuery, Uri};
use http::{HeaderMap, Request, Response, StatusCode, Version};
use http_body::Body as HttpBody;
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Full};
use hyper::upgrade::OnUpgrade;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioIo};
use ravel::address::Scheme;
use ravel::edge::Answer;
use ravel::program::{Effect, Stage};

use crate::Site;
use crate::respond::Body;
use crate::server::Peer;

type BoxError = Box<dyn std::error::Error + Send + Sync>;

/// How long a local server may take for the head of its answer.
const ANSWER_TIME: Duration = Duration::from_secs(30);
/// How this server calls itself to those behind it (RFC 9110, section 7.6.3).
const PSEUDONYM: &str = "ravel-preview";

/// Fields that are for one connection (RFC 9110, section 7.6.1), beside those that `connection`
/// names.
const HOP_BY_HOP: [HeaderName; 7] = [
    CONNECTION,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
    TE,
    TRAILER,
    TRANSFER_ENCODING,
    UPGRADE,
];

/// What `forwarded` says, as servers knew it before it was a standard.
const X_FORWARDED: [HeaderName; 3] = [
    HeaderName::from_static("x-forwarded-for"),
    HeaderName::from_static("x-forwarded-host"),
    HeaderName::from_static("x-forwarded-proto"),
];

/// Which local servers play the services that answer elsewhere.
pub struct Forwards {
    targets: Vec<(String, Authority)>,
    client: Client<HttpConnector, UnsyncBoxBody<Bytes, BoxError>>,
}

impl fmt::Debug for Forwards {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Forwards").field("targets", &self.targets).finish_non_exhaustive()
    }
}

impl Default for Forwards {
    fn default() -> Forwards {
        Forwards { targets: Vec::new(), client: Client::builder(TokioExecutor::new()).build_http() }
    }
}

/// The service that a rule says answers elsewhere.
pub(crate) struct Elsewhere {
    who: Option<String>,
    line: String,
}

impl Elsewhere {
    pub(crate) fn of(site: &Site, answer: &Answer<'_>) -> Elsewhere {
        let rule = answer.rule().map(|rule| site.edge.program().rule(rule));
        let who = rule.and_then(|rule| match rule.rule().effect() {
            Effect::Elsewhere(who) => who.as_deref().map(str::to_owned),
            Effect::Redirect(_)
            | Effect::Gone
            | Effect::File(_)
            | Effect::NotFoundPage(_)
            | Effect::Headers(_) => None,
        });
        Elsewhere { who, line: answer.line().map(|line| site.name(line)).unwrap_or_default() }
    }

    /// As it is named in a forward.
    fn name(&self) -> &str {
        self.who.as_deref().unwrap_or(&self.line)
    }
}

impl Forwards {
    /// Adds a server on this machine, written `WHO=http://127.0.0.1:3000`; WHO is the name in the
    /// rule, or its line, such as `edge.ravel:9`.
    ///
    /// ```
    /// # let runtime = tokio::runtime::Runtime::new()?;
    /// # let _guard = runtime.enter();
    /// use ravel_serve::Forwards;
    ///
    /// let forwards = Forwards::default().with("the booking service=http://127.0.0.1:3000", false);
    /// assert!(forwards.is_ok());
    /// let away = Forwards::default().with("api=http://198.51.100.7", false);
    /// assert!(away.unwrap_err().contains("--forward-anywhere"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// What is wrong with it, and what to write.
    pub fn with(mut self, text: &str, anywhere: bool) -> Result<Forwards, String> {
        let example = "write it as `WHO=http://127.0.0.1:3000`";
        let (who, target) =
            text.rsplit_once('=').ok_or_else(|| format!("`{text}` has no `=`; {example}"))?;
        let target: Uri =
            target.parse().map_err(|_| format!("`{target}` is not a URL; {example}"))?;
        let is_bare = matches!(target.path_and_query().map(PathAndQuery::as_str), None | Some("/"));
        let (Some("http"), Some(authority), true) =
            (target.scheme_str(), target.authority(), is_bare)
        else {
            return Err(format!(
                "`{target}` is not `http://` with a host and nothing behind it; {example}"
            ));
        };
        let host = authority.host().trim_matches(['[', ']']);
        let is_loopback = host == "localhost"
            || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback());
        if !is_loopback && !anywhere {
            return Err(format!(
                "`{host}` is another machine, which would get what visitors send; if that is meant, add `--forward-anywhere`"
            ));
        }
        self.targets.push((who.trim().trim_matches('"').to_owned(), authority.clone()));
        Ok(self)
    }

    /// What is wrong with them beside a site: a name that is none of its rules'.
    pub(crate) fn problem(&self, site: &Site) -> Option<String> {
        let rules = site.edge.program().rules(Stage::Redirect);
        let names: Vec<String> = rules
            .filter_map(|rule| match rule.rule().effect() {
                Effect::Elsewhere(Some(who)) => Some(who.to_string()),
                Effect::Elsewhere(None) => Some(site.name(rule.line())),
                Effect::Redirect(_)
                | Effect::Gone
                | Effect::File(_)
                | Effect::NotFoundPage(_)
                | Effect::Headers(_) => None,
            })
            .collect();
        let (who, _) = self.targets.iter().find(|(who, _)| !names.contains(who))?;
        let known: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
        Some(match known.is_empty() {
            true => format!(
                "no rule says that `{who}` answers elsewhere; add `elsewhere PATTERN \"{who}\"`"
            ),
            false => format!(
                "no rule says that `{who}` answers elsewhere; the rules have {}",
                known.join(", ")
            ),
        })
    }

    /// The local server that plays a service.
    pub(crate) fn target(&self, elsewhere: &Elsewhere) -> Option<&Authority> {
        let name = elsewhere.name();
        self.targets.iter().find(|(who, _)| who == name).map(|(_, target)| target)
    }

    /// What the local server answers; 502 with the reason where none does.
    pub(crate) async fn send<B>(
        &self,
        elsewhere: &Elsewhere,
        head: &mut Parts,
        body: B,
        scheme: Scheme,
        extra: Vec<(HeaderName, HeaderValue)>,
    ) -> Response<Body>
    where
        B: HttpBody<Data = Bytes> + Send + 'static,
        B::Error: Into<BoxError>,
    {
        let name = elsewhere.name();
        let Some(target) = self.target(elsewhere) else {
            return failed(&format!(
                "`{name}` answers here, and it is not part of this server; `--forward \"{name}\"=http://127.0.0.1:PORT` asks one that plays it"
            ));
        };
        let came_back = head.headers.get_all(VIA).iter().any(|via| {
            via.to_str().is_ok_and(|via| via.split([' ', ',']).any(|word| word == PSEUDONYM))
        });
        if came_back {
            return failed(&format!("http://{target} for `{name}` is this server itself"));
        }
        let upgrade = head.extensions.remove::<OnUpgrade>();
        // HTTP/1.0 cannot be left for another protocol (RFC 9110, section 7.8).
        let protocol =
            head.headers.get(UPGRADE).filter(|_| head.version > Version::HTTP_10).cloned();
        let request = forwarded(head, body, target, scheme, protocol.as_ref());
        let answer = tokio::time::timeout(ANSWER_TIME, self.client.request(request)).await;
        match answer {
            Ok(Ok(answer)) => answered(answer, upgrade, extra),
            Ok(Err(error)) => {
                let mut why: &dyn std::error::Error = &error;
                while let Some(cause) = why.source() {
                    why = cause;
                }
                failed(&format!("http://{target} for `{name}` does not answer: {why}"))
            }
            Err(_) => {
                let seconds = ANSWER_TIME.as_secs();
                failed(&format!("http://{target} for `{name}` has not answered within {seconds} s"))
            }
        }
    }
}

/// The request as the local server gets it.
fn forwarded<B>(
    head: &Parts,
    body: B,
    target: &Authority,
    scheme: Scheme,
    protocol: Option<&HeaderValue>,
) -> Request<UnsyncBoxBody<Bytes, BoxError>>
where
    B: HttpBody<Data = Bytes> + Send + 'static,
    B::Error: Into<BoxError>,
{
    let asked = head.uri.path_and_query().map_or("/", PathAndQuery::as_str);
    let mut headers = end_to_end(&head.headers);
    let named = head.uri.authority().map(|authority| authority.as_str().to_owned());
    let field = || headers.get(HOST).and_then(|host| host.to_str().ok()).map(str::to_owned);
    let host = named.or_else(field).unwrap_or_default().replace(['"', '\\'], "");
    // What a visitor says of others before them is nobody's to believe.
    for name in [FORWARDED].iter().chain(&X_FORWARDED) {
        headers.remove(name);
    }
    let peer = head.extensions.get::<Peer>().map(|peer| peer.0);
    // RFC 7239, section 6: IPv6 stands in brackets and quotes.
    let (by, plain) = match peer {
        Some(ip @ IpAddr::V6(_)) => (format!("\"[{ip}]\""), ip.to_string()),
        Some(ip) => (ip.to_string(), ip.to_string()),
        None => ("unknown".to_owned(), "unknown".to_owned()),
    };
    let [x_for, x_host, x_proto] = X_FORWARDED;
    for (name, value) in [
        (FORWARDED, format!("for={by};host=\"{host}\";proto={scheme}")),
        (x_for, plain),
        (x_host, host),
        (x_proto, scheme.to_string()),
    ] {
        if let Ok(value) = HeaderValue::from_str(&value) {
            headers.insert(name, value);
        }
    }
    headers.append(VIA, HeaderValue::from_static("1.1 ravel-preview"));
    if let Ok(value) = HeaderValue::from_str(target.as_str()) {
        headers.insert(HOST, value);
    }
    if let Some(protocol) = protocol {
        headers.insert(UPGRADE, protocol.clone());
        headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
    }
    let mut request = Request::new(body.map_err(Into::into).boxed_unsync());
    *request.method_mut() = head.method.clone();
    *request.uri_mut() = format!("http://{target}{asked}").parse().unwrap_or_default();
    *request.version_mut() = Version::HTTP_11;
    *request.headers_mut() = headers;
    request
}

/// The answer as the visitor gets it; two connections that have been upgraded are joined.
fn answered(
    mut answer: Response<hyper::body::Incoming>,
    upgrade: Option<OnUpgrade>,
    extra: Vec<(HeaderName, HeaderValue)>,
) -> Response<Body> {
    let mut headers = end_to_end(answer.headers());
    // What the rules hung on, the answer hangs on, too.
    for (name, value) in extra {
        headers.append(name, value);
    }
    if answer.status() == StatusCode::SWITCHING_PROTOCOLS
        && let Some(upgrade) = upgrade
    {
        if let Some(protocol) = answer.headers().get(UPGRADE) {
            headers.insert(UPGRADE, protocol.clone());
            headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        }
        let theirs = hyper::upgrade::on(&mut answer);
        tokio::spawn(async move {
            if let (Ok(visitor), Ok(service)) = (upgrade.await, theirs.await) {
                let (mut visitor, mut service) = (TokioIo::new(visitor), TokioIo::new(service));
                let _ = tokio::io::copy_bidirectional(&mut visitor, &mut service).await;
            }
        });
    }
    let (head, body) = answer.into_parts();
    let mut response = Response::new(body.map_err(std::io::Error::other).boxed_unsync());
    *response.status_mut() = head.status;
    *response.headers_mut() = headers;
    response
}

/// The headers that are for more than one connection.
fn end_to_end(headers: &HeaderMap) -> HeaderMap {
    let listed: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(','))
        .filter_map(|name| HeaderName::from_bytes(name.trim().as_bytes()).ok())
        .collect();
    let mut kept = headers.clone();
    for name in HOP_BY_HOP.iter().chain(&listed) {
        kept.remove(name);
    }
    kept
}

fn failed(why: &str) -> Response<Body> {
    tracing::debug!(%why, "nothing was forwarded");
    let body = Full::from(format!("502: {why}\n")).map_err(|never| match never {});
    let mut response = Response::new(body.boxed_unsync());
    *response.status_mut() = StatusCode::BAD_GATEWAY;
    let plain = HeaderValue::from_static("text/plain; charset=utf-8");
    response.headers_mut().insert(http::header::CONTENT_TYPE, plain);
    response
}
