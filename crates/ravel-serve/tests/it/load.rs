//! Slow, broken and hostile clients beside one that means well.
//!
//! `RAVEL_LOAD_SECONDS=600` makes it long; it is ten seconds in the checks.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::common::{Running, demo};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// How many requests of hostile clients are open at once.
const CLIENTS: usize = 40;

/// A client of one kind, again and again until it is to stop.
async fn hostile(
    kind: usize,
    http: std::net::SocketAddr,
    https: std::net::SocketAddr,
) -> std::io::Result<()> {
    let address = if kind.is_multiple_of(2) { http } else { https };
    let mut stream = TcpStream::connect(address).await?;
    let host = "host: localhost\r\n";
    match kind % 8 {
        // Says nothing, or nothing that is a handshake.
        0 | 1 => stream.write_all(b"\x16\x03\x01 no more").await?,
        // Sends a head byte by byte, and never ends it.
        2 => {
            for byte in format!("GET /about HTTP/1.1\r\n{host}x: ").bytes().chain([b'y'; 40]) {
                stream.write_all(&[byte]).await?;
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        }
        // No HTTP at all.
        3 => stream.write_all(&[0xff; 4_096]).await?,
        // Asks for much, and reads nothing of it.
        4 => {
            for _ in 0..200 {
                stream.write_all(format!("GET /about HTTP/1.1\r\n{host}\r\n").as_bytes()).await?;
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        // Goes in the middle of an answer.
        5 => {
            stream.write_all(format!("GET / HTTP/1.1\r\n{host}\r\n").as_bytes()).await?;
        }
        // A head that is too long, and a body that never comes.
        6 => {
            let long = "z".repeat(60_000);
            let head = format!(
                "GET / HTTP/1.1\r\n{host}x: {long}\r\n\r\nPOST / HTTP/1.1\r\n{host}content-length: 99999\r\n\r\n"
            );
            stream.write_all(head.as_bytes()).await?;
        }
        // HTTP/2 without its settings.
        _ => stream.write_all(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\0\0\0\x09\x09").await?,
    }
    let mut some = [0; 64];
    let _ = tokio::time::timeout(Duration::from_millis(50), stream.read(&mut some)).await;
    Ok(())
}

/// The files and sockets that this process has open.
#[cfg(target_os = "linux")]
fn open_files() -> usize {
    std::fs::read_dir("/proc/self/fd").unwrap().count()
}

async fn ordinary(server: &Running) -> (Duration, u64) {
    let begun = Instant::now();
    let url = "https://lanternferries.example/about";
    let response = server.ask("GET", url, &[]).await;
    assert_eq!(response.status(), 200);
    (begun.elapsed(), 1)
}

#[cfg(target_os = "linux")]
#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes long"]
async fn one_that_means_well_is_answered_beside_those_who_do_not() {
    let seconds = std::env::var("RAVEL_LOAD_SECONDS").ok().and_then(|text| text.parse().ok());
    let length = Duration::from_secs(seconds.unwrap_or(10));
    let server = demo().await;
    let mut lines = server.log.read_all().unwrap();
    let (stop, tried) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let before = open_files();
    let (http, https) = (server.addresses.http(), server.addresses.https());
    let clients: Vec<_> = (0..CLIENTS)
        .map(|number| {
            let (stop, tried) = (Arc::clone(&stop), Arc::clone(&tried));
            tokio::spawn(async move {
                while !stop.load(Ordering::Relaxed) {
                    let _ = hostile(number, http, https).await;
                    tried.fetch_add(1, Ordering::Relaxed);
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
            })
        })
        .collect();
    let counted = tokio::spawn(async move {
        let (mut abouts, mut last) = (0_u64, 0);
        while let Some(record) = lines.recv().await {
            assert_eq!(record.number(), last + 1, "a line is lost");
            last = record.number();
            let is_ours = record.request().url() == "https://lanternferries.example/about";
            abouts += u64::from(is_ours && record.sent().complete());
        }
        (abouts, last)
    });
    let (begun, mut slowest, mut asked) = (Instant::now(), Duration::ZERO, 0);
    while begun.elapsed() < length {
        let (time, more) = ordinary(&server).await;
        (slowest, asked) = (slowest.max(time), asked + more);
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    stop.store(true, Ordering::Relaxed);
    for client in clients {
        client.await.unwrap();
    }
    // What hostile clients left open ends by itself.
    let mut open = open_files();
    for _ in 0..400 {
        if open <= before + 4 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
        open = open_files();
    }
    assert!(open <= before + 4, "{open} files are open, {before} were before");
    let tried = tried.load(Ordering::Relaxed);
    println!("{asked} answers, the slowest in {slowest:?}, beside {tried} hostile connections");
    assert!(asked > 50 && tried > 500, "{asked} answers, {tried} hostile connections");
    server.end().await;
    let (abouts, all) = counted.await.unwrap();
    println!("{all} lines");
    assert_eq!(abouts, asked);
}
