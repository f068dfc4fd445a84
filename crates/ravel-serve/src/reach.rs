//! How a running site is reached: where its names are, whom it must show a certificate of, and which
//! connection has answered.

use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use http::{Extensions, Uri};
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy;
use hyper_util::client::legacy::connect::HttpInfo;
use hyper_util::rt::TokioIo;
use tokio::net::TcpStream;
use tokio_rustls::rustls::pki_types::{CertificateDer, pem::PemObject};
use tokio_rustls::rustls::{self, ClientConfig, RootCertStore};
use tower::Service;

/// How a running site is reached.
#[derive(Debug, Clone)]
pub struct ConnectOptions {
    connect: Option<String>,
    connect_http: Option<String>,
    authorities: Option<Vec<u8>>,
    pub(crate) patience: Duration,
}

/// A connection takes so long at most.
const CONNECT: Duration = Duration::from_secs(5);

/// Connects to where names are said to be.
#[derive(Debug, Clone)]
pub(crate) struct Connector {
    reach: ConnectOptions,
}

impl ConnectOptions {
    /// Where the system says that names are; an answer, with its body, is waited for so long.
    pub fn new(patience: Duration) -> ConnectOptions {
        ConnectOptions { connect: None, connect_http: None, authorities: None, patience }
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

    /// With certificates of authorities, as PEM, to trust instead of those that this machine trusts.
    #[must_use]
    pub fn with_authorities(mut self, pem: Option<Vec<u8>>) -> ConnectOptions {
        self.authorities = pem;
        self
    }

    /// Where the server for a scheme and host is.
    pub(crate) fn place(&self, scheme: &str, host: &str) -> String {
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

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, uri: Uri) -> Self::Future {
        let place =
            self.reach.place(uri.scheme_str().unwrap_or("https"), uri.host().unwrap_or_default());
        Box::pin(async move { connect(&place).await.map(TokioIo::new) })
    }
}

/// The certificates, as DER, of the authorities that this machine trusts. A machine that has none, or
/// some that nobody can read, knows no more than it says.
///
/// ```
/// let known = ravel_serve::machine_authorities();
/// assert!(known.iter().all(|certificate| certificate.starts_with(&[0x30])));
/// ```
pub fn machine_authorities() -> Vec<Vec<u8>> {
    let known = rustls_native_certs::load_native_certs().certs;
    known.iter().map(|certificate| certificate.to_vec()).collect()
}

/// The authorities that are trusted: those of a file, or those of this machine.
fn roots(pem: Option<&[u8]>) -> Result<RootCertStore, String> {
    let mut roots = RootCertStore::empty();
    let Some(pem) = pem else {
        let known = machine_authorities().into_iter().map(CertificateDer::from);
        roots.add_parsable_certificates(known);
        return Ok(roots);
    };
    for certificate in CertificateDer::pem_slice_iter(pem) {
        let certificate = certificate.map_err(|_| "it is not PEM".to_owned())?;
        roots.add(certificate).map_err(|error| error.to_string())?;
    }
    match roots.is_empty() {
        true => Err("it holds no certificate".to_owned()),
        false => Ok(roots),
    }
}

pub(crate) async fn connect(place: &str) -> std::io::Result<TcpStream> {
    match tokio::time::timeout(CONNECT, TcpStream::connect(place)).await {
        Ok(connected) => connected,
        Err(_) => Err(std::io::Error::new(
            std::io::ErrorKind::TimedOut,
            format!("no connection within {} s", CONNECT.as_secs()),
        )),
    }
}

/// What connects, with TLS where that is asked for.
pub(crate) fn connector(reach: &ConnectOptions) -> Result<HttpsConnector<Connector>, String> {
    let roots = roots(reach.authorities.as_deref())?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?
        .with_root_certificates(roots)
        .with_no_client_auth();
    let connector = Connector { reach: reach.clone() };
    Ok(HttpsConnectorBuilder::new()
        .with_tls_config(config)
        .https_or_http()
        .enable_all_versions()
        .wrap_connector(connector))
}

/// Which connection an answer, or an error, came from: by its end on this machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct ConnectionId(SocketAddr);

impl ConnectionId {
    pub(crate) fn of(extensions: &Extensions) -> Option<ConnectionId> {
        extensions.get::<HttpInfo>().map(|info| ConnectionId(info.local_addr()))
    }

    pub(crate) fn of_error(error: &legacy::Error) -> Option<ConnectionId> {
        let mut known = Extensions::new();
        error.connect_info()?.get_extras(&mut known);
        ConnectionId::of(&known)
    }
}
