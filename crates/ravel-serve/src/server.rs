//! Sockets: plain HTTP, HTTPS, and the inspector; their limits, and their end.

use std::fmt;
use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use hyper_util::service::TowerToHyperService;
use ravel::address::Scheme;
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncWrite, BufReader};
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, watch};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;

use tower::ServiceExt;

use crate::certificates::HostCertificates;
use crate::heard::Heard;
use crate::{Authority, AuthorityError, Live, Log, Options, ReadError, SiteService, inspect};

/// Connections at once, of each kind.
const MAX_CONNECTIONS: usize = 512;
/// How long a client may take to send the head of a request, and how long a connection may be idle.
const HEAD_TIME: Duration = Duration::from_secs(15);
const HANDSHAKE_TIME: Duration = Duration::from_secs(10);
/// The largest head of a request, in bytes.
const HEAD_SIZE: usize = 32 * 1024;
/// What waits to be sent on one HTTP/2 stream, in bytes: a client that reads nothing holds no more.
const STREAM_SIZE: usize = 64 * 1024;
/// How long running answers have when the server ends.
const END_TIME: Duration = Duration::from_secs(5);

/// Why a server could not begin.
#[derive(Debug)]
#[non_exhaustive]
pub enum ServeError {
    /// The site could not be read.
    Read(ReadError),
    /// There is no authority.
    Authority(AuthorityError),
    /// A port cannot be listened on.
    Port(SocketAddr, std::io::Error),
    /// A forward does not fit the rules; the message says why.
    Forward(String),
    /// TLS cannot be set up.
    Tls(tokio_rustls::rustls::Error),
}

impl fmt::Display for ServeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ServeError::Read(error) => error.fmt(f),
            ServeError::Authority(error) => error.fmt(f),
            ServeError::Port(address, error) if error.kind() == std::io::ErrorKind::AddrInUse => {
                write!(
                    f,
                    "port {} is in use; end what listens there, or choose another (0 picks a free one)",
                    address.port()
                )
            }
            ServeError::Port(address, error) => {
                write!(f, "cannot listen on {address}: {error}")
            }
            ServeError::Forward(message) => f.write_str(message),
            ServeError::Tls(error) => write!(f, "cannot set up TLS: {error}"),
        }
    }
}

impl std::error::Error for ServeError {}

/// Who is at the other end of a connection.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Peer(pub(crate) IpAddr);

/// What happens while a server runs.
#[derive(Debug)]
#[non_exhaustive]
pub enum ServerEvent {
    /// The site has changed, and was read.
    SiteRead,
    /// The site has changed, and [`Live::problem`] says why the last good one is still served.
    SiteUnreadable,
    /// The site has a host that the local authority was not for: those who trusted that must trust
    /// this one.
    AuthorityReplaced(Arc<Authority>),
}

/// Where a server listens.
#[derive(Debug, Clone, Copy)]
pub struct Addresses {
    http: SocketAddr,
    https: SocketAddr,
    inspect: SocketAddr,
}

impl Addresses {
    /// Of plain HTTP.
    pub fn http(&self) -> SocketAddr {
        self.http
    }

    /// Of HTTPS.
    pub fn https(&self) -> SocketAddr {
        self.https
    }

    /// Of the inspector.
    pub fn inspect(&self) -> SocketAddr {
        self.inspect
    }
}

/// A server that listens already, and answers once it runs.
pub struct Server {
    live: Arc<Live>,
    service: SiteService,
    http: TcpListener,
    https: TcpListener,
    inspect: TcpListener,
    tls: TlsAcceptor,
    certificates: Arc<HostCertificates>,
    addresses: Addresses,
}

impl fmt::Debug for Server {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Server").field("addresses", &self.addresses).finish_non_exhaustive()
    }
}

impl Server {
    /// Reads the site and takes the ports.
    ///
    /// ```no_run
    /// # async fn run() -> Result<(), ravel_serve::ServeError> {
    /// use ravel_serve::{Options, Server};
    ///
    /// let server = Server::bind(Options::new("edge.ravel", "authority").with_ports(8080, 8443, 8090)).await?;
    /// println!("https://{}/", server.addresses().https());
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// What prevents it; nothing is left open.
    pub async fn bind(options: Options) -> Result<Server, ServeError> {
        let listen = Some(options.listen).filter(|ip| !ip.is_loopback() && !ip.is_unspecified());
        let live = Live::read_without(&options.rules, listen, &options.data);
        let live = live.map_err(ServeError::Read)?;
        let live = Arc::new(match options.old {
            Some(old) => live.with_old_edition(old),
            None => live,
        });
        if let Some(problem) = options.forwards.problem(&live.site()) {
            return Err(ServeError::Forward(problem));
        }
        let (http, http_at) = take(options.listen, options.http).await?;
        let (https, https_at) = take(options.listen, options.https).await?;
        let (inspect, inspect_at) = take(IpAddr::from([127, 0, 0, 1]), options.inspect).await?;
        if live.site().serves(&options.data) {
            return Err(ServeError::Authority(AuthorityError::Served(options.data)));
        }
        let certificates = HostCertificates::new(options.data, Arc::clone(&live));
        let certificates = Arc::new(certificates.map_err(ServeError::Authority)?);
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(ServeError::Tls)?;
        let mut config =
            config.with_no_client_auth().with_cert_resolver(Arc::clone(&certificates) as _);
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(Server {
            service: SiteService::new(Arc::clone(&live))
                .on_ports(Some(http_at.port()), Some(https_at.port()))
                .with_forwards(options.forwards),
            live,
            http,
            https,
            inspect,
            tls: TlsAcceptor::from(Arc::new(config)),
            certificates,
            addresses: Addresses { http: http_at, https: https_at, inspect: inspect_at },
        })
    }

    /// Where it listens.
    pub fn addresses(&self) -> Addresses {
        self.addresses
    }

    /// The local authority.
    pub fn authority(&self) -> Arc<Authority> {
        self.certificates.authority()
    }

    /// The site.
    pub fn live(&self) -> &Arc<Live> {
        &self.live
    }

    /// The requests that are answered.
    pub fn log(&self) -> &Arc<Log> {
        self.service.log()
    }

    /// Answers until `end` comes, then finishes what is running, for at most five seconds. `tell`
    /// is told what happens meanwhile.
    pub async fn run(
        self,
        end: impl Future<Output = ()>,
        tell: impl Fn(ServerEvent) + Send + 'static,
    ) {
        let (stop, stopped) = watch::channel(false);
        let over = |scheme| self.service.clone().over(scheme);
        let unread = |scheme| {
            let service = over(scheme);
            move |line: String| {
                let service = service.clone();
                tokio::spawn(async move { service.refused(&line).await });
            }
        };
        let http = tokio::spawn(accept(
            self.http,
            None,
            (over(Scheme::Http), unread(Scheme::Http)),
            stopped.clone(),
        ));
        let https = tokio::spawn(accept(
            self.https,
            Some(self.tls),
            (over(Scheme::Https), unread(Scheme::Https)),
            stopped.clone(),
        ));
        let inspector = inspect::Inspector {
            live: Arc::clone(&self.live),
            log: Arc::clone(self.service.log()),
            addresses: self.addresses,
            certificates: Arc::clone(&self.certificates),
            run: SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .map_or(0, |time| time.as_millis() as u64),
            stopped: stopped.clone(),
        };
        let pages = tower::service_fn(move |request| inspect::answer(inspector.clone(), request));
        let inspect = tokio::spawn(accept(self.inspect, None, (pages, |_| {}), stopped));
        let (checks, mut wanted) = watch::channel(());
        let checker = Arc::clone(&self.live);
        let checking = tokio::spawn(async move {
            loop {
                let live = Arc::clone(&checker);
                let _ = tokio::task::spawn_blocking(move || live.check()).await;
                if wanted.changed().await.is_err() {
                    break;
                }
            }
        });
        let log = Arc::clone(self.service.log());
        let certificates = self.certificates;
        let watching = tokio::spawn(crate::watch::watch(self.live, move |good| {
            // Sites that have gone need not be kept for their requests.
            log.settle();
            tell(if good { ServerEvent::SiteRead } else { ServerEvent::SiteUnreadable });
            match certificates.renew() {
                Ok(false) => {}
                Ok(true) => tell(ServerEvent::AuthorityReplaced(certificates.authority())),
                Err(error) => tracing::warn!(%error, "the site's new hosts have no certificates"),
            }
            let _ = checks.send(());
        }));
        end.await;
        watching.abort();
        checking.abort();
        let _ = stop.send(true);
        let _ = tokio::join!(http, https, inspect);
    }
}

async fn take(ip: IpAddr, port: u16) -> Result<(TcpListener, SocketAddr), ServeError> {
    let wanted = SocketAddr::new(ip, port);
    let listener =
        TcpListener::bind(wanted).await.map_err(|error| ServeError::Port(wanted, error))?;
    let address = listener.local_addr().map_err(|error| ServeError::Port(wanted, error))?;
    Ok((listener, address))
}

/// Takes connections until told to stop, then waits for those that are answered.
async fn accept<S, B>(
    listener: TcpListener,
    tls: Option<TlsAcceptor>,
    (service, unread): (S, impl Fn(String) + Clone + Send + 'static),
    mut stopped: watch::Receiver<bool>,
) where
    S: tower::Service<http::Request<hyper::body::Incoming>, Response = http::Response<B>>
        + Clone
        + Send
        + 'static,
    S::Future: Send + 'static,
    S::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
    B: hyper::body::Body + Send + 'static,
    B::Data: Send,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    let graceful = GracefulShutdown::new();
    let room = Arc::new(Semaphore::new(MAX_CONNECTIONS));
    loop {
        let permit = tokio::select! {
            permit = Arc::clone(&room).acquire_owned() => permit,
            _ = stopped.changed() => break,
        };
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stopped.changed() => break,
        };
        let Ok((stream, peer)) = accepted else {
            // Out of file handles, say; the next connection may fare better.
            tokio::time::sleep(Duration::from_millis(20)).await;
            continue;
        };
        let _ = stream.set_nodelay(true);
        let (tls, watcher, stopped) = (tls.clone(), graceful.watcher(), stopped.clone());
        let service = service.clone().map_request(move |mut request: http::Request<_>| {
            request.extensions_mut().insert(Peer(peer.ip()));
            request
        });
        let unread = unread.clone();
        tokio::spawn(async move {
            let _permit = permit;
            match tls {
                None => converse(stream, (service, unread), watcher, stopped).await,
                Some(tls) => match tokio::time::timeout(HANDSHAKE_TIME, tls.accept(stream)).await {
                    Ok(Ok(stream)) => converse(stream, (service, unread), watcher, stopped).await,
                    Ok(Err(error)) => tracing::debug!(%error, "a handshake failed"),
                    Err(_) => tracing::debug!("a handshake took too long"),
                },
            }
        });
    }
    drop(listener);
    let _ = tokio::time::timeout(END_TIME, graceful.shutdown()).await;
}

/// Speaks HTTP/1.1 or HTTP/2 on one connection.
async fn converse<IO, S, B>(
    stream: IO,
    (service, unread): (S, impl Fn(String)),
    watcher: Watcher,
    mut stopped: watch::Receiver<bool>,
) where
    IO: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    S: tower::Service<http::Request<hyper::body::Incoming>, Response = http::Response<B>>
        + Clone
        + Send
        + 'static,
    S::Future: Send + 'static,
    S::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
    B: hyper::body::Body + Send + 'static,
    B::Data: Send,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    // Which version it is can be told only from the first bytes, and nobody else waits for them.
    let (stream, heard) = Heard::new(stream);
    let mut stream = BufReader::new(stream);
    let begun = tokio::select! {
        begun = tokio::time::timeout(HEAD_TIME, stream.fill_buf()) => matches!(begun, Ok(Ok(bytes)) if !bytes.is_empty()),
        _ = stopped.changed() => false,
    };
    if !begun {
        return;
    }
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(HEAD_TIME).max_buf_size(HEAD_SIZE);
    builder
        .http2()
        .timer(TokioTimer::new())
        .max_header_list_size(HEAD_SIZE as u32)
        .max_concurrent_streams(100)
        .max_send_buf_size(STREAM_SIZE)
        .keep_alive_interval(HEAD_TIME)
        .keep_alive_timeout(HEAD_TIME);
    let connection = builder
        .serve_connection_with_upgrades(TokioIo::new(stream), TowerToHyperService::new(service))
        .into_owned();
    if let Err(error) = watcher.watch(connection).await {
        if error.downcast_ref::<hyper::Error>().is_some_and(hyper::Error::is_parse) {
            unread(heard.line());
        }
        tracing::debug!(%error, "a connection ended");
    }
}
