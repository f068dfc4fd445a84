//! A server with the demo site, and a client that asks it on its real names.

use std::fs;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::Bytes;
use http::{Request, Response};
use http_body_util::{BodyExt, Empty, Full};
use hyper_util::rt::{TokioExecutor, TokioIo};
use ravel_serve::{Addresses, Forwards, Live, Log, Options, Server};
use tempfile::TempDir;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio::sync::oneshot;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName, pem::PemObject};
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

pub(crate) struct Running {
    pub(crate) folder: TempDir,
    pub(crate) addresses: Addresses,
    pub(crate) live: Arc<Live>,
    pub(crate) log: Arc<Log>,
    pub(crate) authority: PathBuf,
    end: Option<oneshot::Sender<()>>,
    task: tokio::task::JoinHandle<()>,
}

pub(crate) fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let place = to.join(entry.file_name());
        match entry.file_type().unwrap().is_dir() {
            true => copy(&entry.path(), &place),
            false => drop(fs::copy(entry.path(), place).unwrap()),
        }
    }
}

pub(crate) fn options(folder: &Path) -> Options {
    Options::new(folder.join("site/edge.ravel"), folder.join("data"))
}

/// Serves the demo site.
pub(crate) async fn demo() -> Running {
    demo_with(Forwards::default()).await
}

pub(crate) async fn demo_with(forwards: Forwards) -> Running {
    demo_of(|options| options.with_forwards(forwards)).await
}

pub(crate) async fn demo_of(change: impl FnOnce(Options) -> Options) -> Running {
    let folder = TempDir::new().unwrap();
    copy(
        &Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/lantern-ferries"),
        &folder.path().join("site"),
    );
    let server = Server::bind(change(options(folder.path()))).await.unwrap();
    let log = Arc::clone(server.log());
    let (end, ended) = oneshot::channel();
    let (addresses, live, authority) =
        (server.addresses(), Arc::clone(server.live()), server.authority().path().to_owned());
    let task = tokio::spawn(server.run(async move { drop(ended.await) }, |_| {}));
    Running { folder, addresses, live, log, authority, end: Some(end), task }
}

impl Running {
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join("site").join(name)
    }

    /// Sends one request to the server, whatever the host's name; HTTPS is verified with the local
    /// authority.
    pub(crate) async fn ask(
        &self,
        method: &str,
        url: &str,
        fields: &[(&str, &str)],
    ) -> Response<Bytes> {
        self.try_ask(method, url, fields).await.unwrap()
    }

    pub(crate) async fn try_ask(
        &self,
        method: &str,
        url: &str,
        fields: &[(&str, &str)],
    ) -> std::io::Result<Response<Bytes>> {
        let (scheme, rest) = url.split_once("://").unwrap();
        let cut = rest.find(['/', '?']).unwrap_or(rest.len());
        let (named, target) = rest.split_at(cut);
        let host = named.rsplit_once(':').map_or(named, |(host, _)| host).to_owned();
        let target = if target.starts_with('/') { target.to_owned() } else { format!("/{target}") };
        let mut request = Request::builder().method(method).uri(target).header("host", named);
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        let request = request.body(Empty::<Bytes>::new()).unwrap();
        if scheme == "http" {
            return exchange(TcpStream::connect(self.addresses.http()).await?, request).await;
        }
        let stream = TcpStream::connect(self.addresses.https()).await?;
        let name = ServerName::try_from(host).map_err(std::io::Error::other)?;
        exchange(tls(&self.authority, &[]).connect(name, stream).await?, request).await
    }

    /// The same over HTTP/2 (RFC 9113), where the host is the `:authority`.
    pub(crate) async fn ask_over_http2(
        &self,
        method: &str,
        url: &str,
        fields: &[(&str, &str)],
    ) -> std::io::Result<Response<Bytes>> {
        let mut request = Request::builder().method(method).uri(url);
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        let request = request.body(Full::<Bytes>::default()).unwrap();
        let host = request.uri().host().unwrap().to_owned();
        let stream = TcpStream::connect(self.addresses.https()).await?;
        let name = ServerName::try_from(host).map_err(std::io::Error::other)?;
        let stream = tls(&self.authority, &["h2"]).connect(name, stream).await?;
        let http2 = hyper::client::conn::http2::Builder::new(TokioExecutor::new());
        let (mut sender, connection) =
            http2.handshake(TokioIo::new(stream)).await.map_err(std::io::Error::other)?;
        tokio::spawn(connection);
        let (head, body) =
            sender.send_request(request).await.map_err(std::io::Error::other)?.into_parts();
        let body = body.collect().await.map_err(std::io::Error::other)?.to_bytes();
        Ok(Response::from_parts(head, body))
    }

    pub(crate) async fn inspect(
        &self,
        method: &str,
        target: &str,
        fields: &[(&str, &str)],
    ) -> Response<Bytes> {
        let mut request = Request::builder().method(method).uri(target);
        if !fields.iter().any(|(name, _)| *name == "host") {
            request = request.header("host", self.addresses.inspect().to_string());
        }
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        let stream = TcpStream::connect(self.addresses.inspect()).await.unwrap();
        exchange(stream, request.body(Empty::<Bytes>::new()).unwrap()).await.unwrap()
    }

    pub(crate) async fn end(mut self) {
        let _ = self.end.take().unwrap().send(());
        (&mut self.task).await.unwrap();
    }
}

async fn exchange<IO>(
    stream: IO,
    request: Request<Empty<Bytes>>,
) -> std::io::Result<Response<Bytes>>
where
    IO: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream))
        .await
        .map_err(std::io::Error::other)?;
    tokio::spawn(connection);
    let response = sender.send_request(request).await.map_err(std::io::Error::other)?;
    let (head, body) = response.into_parts();
    let body = body.collect().await.map_err(std::io::Error::other)?.to_bytes();
    Ok(Response::from_parts(head, body))
}

/// A TLS client that trusts one certificate authority, and speaks these protocols.
pub(crate) fn tls(authority: &Path, protocols: &[&str]) -> TlsConnector {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_file(authority).unwrap()).unwrap();
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap();
    let mut config = config.with_root_certificates(roots).with_no_client_auth();
    config.alpn_protocols = protocols.iter().map(|name| name.as_bytes().to_vec()).collect();
    TlsConnector::from(Arc::new(config))
}

pub(crate) fn port(address: SocketAddr) -> u16 {
    address.port()
}
