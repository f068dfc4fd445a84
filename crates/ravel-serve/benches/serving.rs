//! The CPU time that the preview takes for a request, beside a bare hyper server that sends the
//! same bytes over the same TLS.
//!
//! `cargo bench -p ravel-serve`; each server is a process of its own, and the two are interleaved.

use std::convert::Infallible;
use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http::{Request, Response};
use http_body_util::{BodyExt, Empty, Full};
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use ravel_serve::{Options, Server};
use rcgen::{CertifiedKey, generate_simple_self_signed};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, pem::PemObject};
use tokio_rustls::rustls::{ClientConfig, RootCertStore, ServerConfig};
use tokio_rustls::{TlsAcceptor, TlsConnector};

const ROUNDS: usize = 24;
const CONNECTIONS: usize = 16;
const RULES: &str = "site https://localhost/\n  files dist\nredirect /old -> /small.txt\n";

fn main() {
    let arguments: Vec<String> = std::env::args().collect();
    let runtime = tokio::runtime::Runtime::new().expect("a runtime can be made");
    match arguments.iter().position(|argument| argument == "play") {
        Some(at) => runtime.block_on(play(&arguments[at + 1], Path::new(&arguments[at + 2]))),
        None => runtime.block_on(compare()),
    }
}

/// One of the servers, until it is ended.
async fn play(which: &str, folder: &Path) {
    if which == "bare" {
        return bare(folder).await;
    }
    let options = Options::new(folder.join("edge.ravel"), folder.join("keys"));
    let server = Server::bind(options).await.expect("ports are free");
    println!("{} {}", server.addresses().https(), server.authority().path().display());
    let mut requests = server.log().read_all().expect("nobody reads them yet");
    let mut log = fs::File::create(folder.join("log.txt")).expect("a log can be written");
    tokio::spawn(server.run(std::future::pending(), |_| {}));
    while let Some(record) = requests.recv().await {
        // As the command does.
        tokio::time::sleep(Duration::from_millis(5)).await;
        let mut lines = String::new();
        let mut next = Some(record);
        while let Some(record) = next {
            let (request, line) = (record.request(), record.line().unwrap_or_default());
            let sent = record.sent();
            lines += &format!("{} {} {} {line}\n", sent.status(), request.method(), request.url());
            next = requests.try_recv().ok();
        }
        let _ = log.write_all(lines.as_bytes());
    }
}

async fn bare(folder: &Path) {
    let CertifiedKey { cert, signing_key } =
        generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate is made");
    fs::write(folder.join("bare.pem"), cert.pem()).expect("a certificate is written");
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let key = PrivateKeyDer::from_pem_slice(signing_key.serialize_pem().as_bytes()).expect("a key");
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|config| {
            config.with_no_client_auth().with_single_cert(vec![cert.der().clone()], key)
        });
    let mut config = config.expect("TLS can be set up");
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    let tls = TlsAcceptor::from(Arc::new(config));
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port is free");
    let address = listener.local_addr().expect("it listens");
    println!("{address} {}", folder.join("bare.pem").display());
    let dist: Arc<Path> = folder.join("dist").into();
    loop {
        let (stream, _) = listener.accept().await.expect("connections come");
        let _ = stream.set_nodelay(true);
        let (tls, dist) = (tls.clone(), Arc::clone(&dist));
        tokio::spawn(async move {
            let Ok(stream) = tls.accept(stream).await else { return };
            let answer = service_fn(move |request: Request<hyper::body::Incoming>| {
                let place = dist.join(request.uri().path().trim_start_matches('/'));
                async move {
                    if place.ends_with("old") {
                        let to = "https://localhost/small.txt";
                        let response = Response::builder().status(302).header("location", to);
                        return Ok::<_, Infallible>(
                            response.body(Full::<Bytes>::from(to)).expect("it is valid"),
                        );
                    }
                    let bytes = tokio::fs::read(place).await.unwrap_or_default();
                    let response = Response::builder().header("content-type", "text/plain");
                    Ok(response.body(Full::<Bytes>::from(bytes)).expect("it is valid"))
                }
            });
            let builder = Builder::new(TokioExecutor::new());
            let _ = builder.serve_connection(TokioIo::new(stream), answer).await;
        });
    }
}

struct Playing {
    child: Child,
    address: SocketAddr,
    tls: [Arc<ClientConfig>; 2],
}

impl Playing {
    fn begin(which: &str, folder: &Path) -> Playing {
        let program = std::env::current_exe().expect("this program has a path");
        let mut command = Command::new(program);
        command.arg("play").arg(which).arg(folder).stdout(Stdio::piped());
        let mut child = command.spawn().expect("it runs again");
        let mut line = String::new();
        let mut out = BufReader::new(child.stdout.take().expect("it prints"));
        out.read_line(&mut line).expect("it says where it is");
        let (address, certificate) = line.trim().split_once(' ').expect("an address and a file");
        let config = |protocol: &[u8]| {
            let mut roots = RootCertStore::empty();
            let der = CertificateDer::from_pem_file(certificate).expect("a certificate");
            roots.add(der).expect("it can be trusted");
            let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
            let config = ClientConfig::builder_with_provider(provider)
                .with_safe_default_protocol_versions()
                .expect("TLS can be set up");
            let mut config = config.with_root_certificates(roots).with_no_client_auth();
            config.alpn_protocols = vec![protocol.to_vec()];
            Arc::new(config)
        };
        let address = address.parse().expect("an address");
        Playing { child, address, tls: [config(b"http/1.1"), config(b"h2")] }
    }

    /// User and system time so far, in clock ticks of 10 ms.
    fn ticks(&self) -> u64 {
        let stat = fs::read_to_string(format!("/proc/{}/stat", self.child.id())).expect("it runs");
        let (_, rest) = stat.rsplit_once(')').expect("its name is in brackets");
        let fields: Vec<&str> = rest.split_whitespace().collect();
        fields[11].parse::<u64>().unwrap_or(0) + fields[12].parse::<u64>().unwrap_or(0)
    }

    fn resident_kib(&self) -> u64 {
        let status =
            fs::read_to_string(format!("/proc/{}/status", self.child.id())).expect("it runs");
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).expect("it is told");
        line.trim().trim_end_matches(" kB").trim().parse().expect("a number")
    }

    /// Asks for a path so often on each connection.
    async fn load(&self, version: usize, path: &'static str, each: usize) {
        let tasks = (0..CONNECTIONS).map(|_| {
            let (tls, address) = (TlsConnector::from(Arc::clone(&self.tls[version])), self.address);
            tokio::spawn(async move {
                let stream = TcpStream::connect(address).await.expect("it listens");
                let name = ServerName::try_from("localhost").expect("a name");
                let stream = TokioIo::new(tls.connect(name, stream).await.expect("a handshake"));
                let request = || {
                    let uri = format!("https://localhost{path}");
                    let request =
                        Request::builder().uri(if version == 0 { path.to_owned() } else { uri });
                    let request =
                        if version == 0 { request.header("host", "localhost") } else { request };
                    request.body(Empty::<Bytes>::new()).expect("it is valid")
                };
                if version == 0 {
                    let (mut sender, connection) =
                        hyper::client::conn::http1::handshake(stream).await.expect("HTTP/1.1");
                    tokio::spawn(connection);
                    for _ in 0..each {
                        let response = sender.send_request(request()).await.expect("an answer");
                        response.into_body().collect().await.expect("a body");
                    }
                } else {
                    let builder = hyper::client::conn::http2::Builder::new(TokioExecutor::new());
                    let (mut sender, connection) = builder.handshake(stream).await.expect("HTTP/2");
                    tokio::spawn(connection);
                    for _ in 0..each {
                        let response = sender.send_request(request()).await.expect("an answer");
                        response.into_body().collect().await.expect("a body");
                    }
                }
            })
        });
        for task in tasks.collect::<Vec<_>>() {
            task.await.expect("it comes to an end");
        }
    }
}

impl Drop for Playing {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

async fn compare() {
    let folder: PathBuf =
        std::env::temp_dir().join(format!("ravel-serving-{}", std::process::id()));
    fs::create_dir_all(folder.join("dist")).expect("a folder can be made");
    fs::write(folder.join("edge.ravel"), RULES).expect("rules can be written");
    fs::write(folder.join("dist/small.txt"), "x".repeat(4_096)).expect("a file can be written");
    fs::write(folder.join("dist/large.bin"), "x".repeat(1 << 20)).expect("a file can be written");
    let (ours, theirs) = (Playing::begin("ours", &folder), Playing::begin("bare", &folder));
    println!(
        "{:<44}{:>10}{:>10}{:>8}",
        "CPU time of the server, a request", "this", "bare", "ratio"
    );
    for (what, path, each) in [
        ("a file of 4 kB", "/small.txt", 250),
        ("a file of 1 MB", "/large.bin", 12),
        ("a redirect", "/old", 300),
    ] {
        for (version, name) in ["HTTP/1.1", "HTTP/2"].into_iter().enumerate() {
            let (mut one, mut other) = (Vec::new(), Vec::new());
            for round in 0..ROUNDS {
                for (server, times) in [(&ours, &mut one), (&theirs, &mut other)] {
                    let before = server.ticks();
                    server.load(version, path, each).await;
                    if round > 0 {
                        let ticks = (server.ticks() - before) as f64;
                        times.push(ticks * 10_000.0 / (each * CONNECTIONS) as f64);
                    }
                }
            }
            // The ticks are coarse: the mean of the rounds, whose median says that it is typical.
            let mean = |times: &[f64]| times.iter().sum::<f64>() / times.len() as f64;
            let (this, bare) = (mean(&one), mean(&other));
            let ratios = one.iter().zip(&other).map(|(one, other)| one / other.max(1e-9)).collect();
            println!(
                "{:<44}{this:>7.0} µs{bare:>7.0} µs{:>8.2}   (median of rounds {:.2})",
                format!("{what}, {name}"),
                this / bare,
                median(ratios)
            );
        }
    }
    ours.load(0, "/small.txt", 100_000 / CONNECTIONS).await;
    let early = ours.resident_kib();
    ours.load(1, "/old", 900_000 / CONNECTIONS).await;
    println!(
        "resident after 100 000 requests {early} KiB, after 1 000 000 {} KiB",
        ours.resident_kib()
    );
    drop((ours, theirs));
    let _ = fs::remove_dir_all(&folder);
}
