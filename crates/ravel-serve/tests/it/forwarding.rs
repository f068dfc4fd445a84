//! What answers elsewhere is played by a local server.

use std::convert::Infallible;
use std::net::SocketAddr;

use crate::common::{demo, demo_with, options, port};
use bytes::Bytes;
use http::{Request, Response};
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use ravel_serve::{Forwards, Server};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// Says what it was asked; below `/api/echo` it repeats what comes after an upgrade.
async fn echo(mut request: Request<Incoming>) -> Result<Response<Full<Bytes>>, Infallible> {
    if request.headers().contains_key("upgrade") {
        let upgrade = hyper::upgrade::on(&mut request);
        tokio::spawn(async move {
            let mut stream = TokioIo::new(upgrade.await.unwrap());
            let mut bytes = [0; 5];
            stream.read_exact(&mut bytes).await.unwrap();
            stream.write_all(&bytes).await.unwrap();
        });
        let switched = Response::builder()
            .status(101)
            .header("upgrade", "echo")
            .header("connection", "upgrade");
        return Ok(switched.body(Full::default()).unwrap());
    }
    let (head, body) = request.into_parts();
    let body = body.collect().await.unwrap().to_bytes();
    let mut lines =
        vec![format!("{} {}", head.method, head.uri), String::from_utf8_lossy(&body).into_owned()];
    for name in [
        "host",
        "forwarded",
        "x-forwarded-for",
        "x-forwarded-host",
        "x-forwarded-proto",
        "via",
        "x-secret-hop",
        "te",
        "cookie",
    ] {
        let value = head.headers.get(name).map_or("-", |value| value.to_str().unwrap());
        lines.push(format!("{name}: {value}"));
    }
    let response =
        Response::builder().status(201).header("x-service", "1").header("keep-alive", "timeout=1");
    Ok(response.body(Full::from(lines.join("\n"))).unwrap())
}

async fn service() -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let builder = Builder::new(TokioExecutor::new());
                let stream = TokioIo::new(stream);
                let _ = builder.serve_connection_with_upgrades(stream, service_fn(echo)).await;
            });
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn a_local_server_gets_what_visitors_send() {
    let target = service().await;
    let forwards = Forwards::default().with(&format!("the booking service=http://{target}"), false);
    let server = demo_with(forwards.unwrap()).await;
    let url = "https://lanternferries.example/api/seats?of=14&x=%20";
    let fields = [
        ("cookie", "a=1"),
        ("connection", "x-secret-hop"),
        ("x-secret-hop", "1"),
        ("te", "gzip"),
        // What a visitor says of others is dropped.
        ("forwarded", "for=203.0.113.9"),
        ("x-forwarded-for", "203.0.113.9"),
        ("x-forwarded-host", "evil.example"),
    ];
    let response = server.ask("PUT", url, &fields).await;
    let text = String::from_utf8_lossy(response.body()).into_owned();
    let wanted = format!(
        "PUT /api/seats?of=14&x=%20\n\nhost: {target}\nforwarded: for=127.0.0.1;host=\"lanternferries.example\";proto=https\n\
         x-forwarded-for: 127.0.0.1\nx-forwarded-host: lanternferries.example\nx-forwarded-proto: https\n\
         via: 1.1 ravel-preview\nx-secret-hop: -\nte: -\ncookie: a=1"
    );
    assert_eq!((response.status().as_u16(), text), (201, wanted));
    assert!(
        response.headers().contains_key("x-service")
            && !response.headers().contains_key("keep-alive")
    );
    let over_http2 = server.ask_over_http2("POST", url, &[]).await.unwrap();
    assert!(
        String::from_utf8_lossy(over_http2.body())
            .contains("host=\"lanternferries.example\";proto=https")
    );
    let head = server.ask("HEAD", url, &[]).await;
    assert_eq!((head.status().as_u16(), head.body().len()), (201, 0));
    let logged = server.log.last();
    assert!(
        logged
            .iter()
            .any(|record| record.sent().status() == 201 && record.sent().body_bytes() > 100)
    );

    // An upgraded connection carries bytes both ways.
    let address = ("127.0.0.1", port(server.addresses.http()));
    let mut stream = TcpStream::connect(address).await.unwrap();
    // Plain HTTP is sent on to HTTPS for the site's hosts, not for this machine's own names.
    let asked = format!(
        "GET /api/echo HTTP/1.1\r\nhost: localhost:{}\r\nconnection: upgrade\r\nupgrade: echo\r\n\r\n",
        address.1
    );
    stream.write_all(asked.as_bytes()).await.unwrap();
    let mut head = Vec::new();
    while !head.ends_with(b"\r\n\r\n") {
        head.push(stream.read_u8().await.unwrap());
    }
    assert!(head.starts_with(b"HTTP/1.1 101 "), "{}", String::from_utf8_lossy(&head));
    stream.write_all(b"hello").await.unwrap();
    let mut back = [0; 5];
    stream.read_exact(&mut back).await.unwrap();
    assert_eq!(&back, b"hello");

    // HTTP/1.0 cannot be left for another protocol.
    let mut stream = TcpStream::connect(address).await.unwrap();
    let asked = asked.replace("HTTP/1.1", "HTTP/1.0");
    stream.write_all(asked.as_bytes()).await.unwrap();
    let mut all = String::new();
    stream.read_to_string(&mut all).await.unwrap();
    assert!(all.starts_with("HTTP/1.0 201 ") && all.contains("GET /api/echo"), "{all}");
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_answer_is_explained() {
    let url = "https://lanternferries.example/api/seats";
    let said = |response: Response<Bytes>| {
        assert_eq!(response.status(), 502);
        String::from_utf8_lossy(response.body()).into_owned()
    };
    let server = demo().await;
    let text = said(server.ask("POST", url, &[]).await);
    assert!(text.contains("`--forward \"the booking service\"=http://127.0.0.1:PORT`"), "{text}");
    server.end().await;
    let closed = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
    let forwards = Forwards::default().with(&format!("the booking service=http://{closed}"), false);
    let server = demo_with(forwards.unwrap()).await;
    let text = said(server.ask("GET", url, &[]).await);
    assert!(text.contains("does not answer: Connection refused"), "{text}");
    let text = said(server.ask("GET", url, &[("via", "1.1 ravel-preview")]).await);
    assert!(text.contains("is this server itself"), "{text}");
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn forwards_say_what_is_wrong_with_them() {
    let cases = [
        ("api", "has no `=`"),
        ("api=ftp://127.0.0.1", "is not `http://`"),
        ("api=https://127.0.0.1", "is not `http://`"),
        ("api=http://127.0.0.1:3000/below", "nothing behind it"),
        ("api=http://192.0.2.1", "--forward-anywhere"),
        ("api=http://host.example", "--forward-anywhere"),
        ("api=not a url", "is not a URL"),
    ];
    for (text, why) in cases {
        let error = Forwards::default().with(text, false).unwrap_err();
        assert!(error.contains(why), "{text}: {error}");
    }
    for text in ["api=http://[::1]:3000", "a = b=http://localhost", "\"api\"=http://127.0.0.2/"] {
        assert!(Forwards::default().with(text, false).is_ok(), "{text}");
    }
    assert!(Forwards::default().with("api=http://192.0.2.1", true).is_ok());
    // A name that no rule has would never be asked.
    let server = demo().await;
    let wrong = Forwards::default().with("the ticket office=http://127.0.0.1:9", false).unwrap();
    let error =
        Server::bind(options(server.folder.path()).with_forwards(wrong)).await.err().unwrap();
    let said = "no rule says that `the ticket office` answers elsewhere; the rules have `the booking service`";
    assert_eq!(error.to_string(), said);
    server.end().await;
}
