//! What is served is what the library says, on real sockets.

use std::fs;
use std::time::Duration;

use crate::common::{Running, demo, options};
use bytes::Bytes;
use http::{Response, StatusCode};
use ravel::{Outcome, Request};
use ravel_serve::{Server, Site};

/// A response has the status, the header fields and the file of an answer.
async fn is_as_decided(server: &Running, site: &Site, request: &Request) -> Option<String> {
    let answer = site.edge().answer(request);
    let fields: Vec<(&str, &str)> = request
        .headers()
        .iter()
        .map(|(name, value)| (name.as_str(), value.to_str().unwrap()))
        .collect();
    let response = match server.try_ask(request.method().as_str(), request.url(), &fields).await {
        // For a host that the site does not have there is no certificate either.
        Err(_) if answer.status() == Some(421) => return None,
        response => response.unwrap(),
    };
    let status = if answer.outcome() == Outcome::Elsewhere {
        502
    } else {
        answer.status().unwrap_or_default()
    };
    assert_eq!(response.status().as_u16(), status, "{}", request.url());
    for header in answer.headers() {
        let found = response
            .headers()
            .get_all(header.name())
            .iter()
            .any(|value| value.as_bytes() == header.value().as_bytes());
        assert!(found, "{} lacks {}: {}", request.url(), header.name(), header.value());
    }
    if let (Some(file), "GET") = (answer.file(), request.method().as_str()) {
        assert_eq!(
            response.body(),
            &fs::read(server.path("dist").join(file)).unwrap(),
            "{}",
            request.url()
        );
    }
    if request.url().starts_with("https:") && request.url().parse::<http::Uri>().is_ok() {
        is_the_same_over_http2(server, request, &fields, &response).await;
    }
    answer.location().map(str::to_owned)
}

/// HTTP/2 gives the same answer; to HEAD, too, without a body.
async fn is_the_same_over_http2(
    server: &Running,
    request: &Request,
    fields: &[(&str, &str)],
    over_http1: &Response<Bytes>,
) {
    let url = request.url();
    let head = request.method().as_str() == "GET";
    for method in [request.method().as_str()].into_iter().chain(head.then_some("HEAD")) {
        let response = server.ask_over_http2(method, url, fields).await.unwrap();
        assert_eq!(response.status(), over_http1.status(), "{method} {url}");
        for (name, value) in over_http1.headers() {
            let is_there = response.headers().get_all(name).iter().any(|other| other == value);
            let is_of_http1 = matches!(name.as_str(), "date" | "connection" | "transfer-encoding");
            assert!(is_there || is_of_http1, "{method} {url} lacks {name}: {value:?}");
        }
        match method {
            "HEAD" => assert!(response.body().is_empty(), "{url}"),
            _ => assert_eq!(response.body(), over_http1.body(), "{url}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_served_is_what_the_library_says() {
    let server = demo().await;
    let site = Site::read(&server.path("edge.ravel")).unwrap();
    let mut asked = 0;
    for expectation in site.rules().expectations() {
        let mut next = Some(expectation.url().to_string());
        while let Some(url) = next {
            let request = Request::new(expectation.method().clone(), &url)
                .unwrap()
                .with_headers(expectation.given().clone());
            let on_site =
                request.address().is_ok_and(|address| site.rules().site().has_host(address.host()));
            next = if on_site || asked == 0 {
                is_as_decided(&server, &site, &request).await
            } else {
                None
            };
            asked += 1;
        }
    }
    assert!(asked > 50, "only {asked} answers were compared");
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn visitors_keep_the_names_and_ports_they_came_with() {
    let server = demo().await;
    let (http, https) = (
        crate::common::port(server.addresses.http()),
        crate::common::port(server.addresses.https()),
    );
    let cases = [
        (
            "http://www.lanternferries.example/fleet",
            "https://lanternferries.example/fleet".to_owned(),
        ),
        (
            &*format!("http://www.lanternferries.example:{http}/fleet"),
            format!("https://lanternferries.example:{https}/fleet"),
        ),
        (
            &*format!("http://www.lanternferries.example.localhost:{http}/fleet"),
            format!("https://lanternferries.example.localhost:{https}/fleet"),
        ),
        (
            &*format!("https://LANTERNFERRIES.example.localhost:{https}/news/x"),
            "https://journal.lanternferries.example/x".to_owned(),
        ),
        (&*format!("http://localhost:{http}/about.html"), format!("http://localhost:{http}/about")),
        (
            &*format!("http://127.0.0.1:{http}/summer"),
            format!("http://127.0.0.1:{http}/offers/summer-2027/"),
        ),
    ];
    for (url, expected) in cases {
        let response = server.ask("GET", url, &[]).await;
        assert_eq!(response.headers()["location"], expected, "{url}");
    }
    let local = server.ask("GET", &format!("https://localhost:{https}/"), &[]).await;
    assert_eq!(
        (local.status(), &local.headers()["x-robots-tag"]),
        (StatusCode::OK, &"noindex".parse().unwrap())
    );
    assert!(
        server.try_ask("GET", "https://stranger.example/", &[]).await.is_err(),
        "no certificate for strangers"
    );
    assert_eq!(server.ask("GET", "http://stranger.example/", &[]).await.status(), 421);
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_inspector_shows_requests_and_answers_nobody_else() {
    let server = demo().await;
    server.ask("GET", "http://www.lanternferries.example/summer", &[]).await;
    let page = server.inspect("GET", "/", &[]).await;
    let text = String::from_utf8_lossy(page.body());
    for part in ["http://www.lanternferries.example/summer", "edge.ravel:17", "role=\"tree\""] {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    let details = server.inspect("GET", "/request/1?part=1", &[]).await;
    let text = String::from_utf8_lossy(details.body()).into_owned();
    for part in [
        "redirect /summer -&gt; /offers/summer-2027/",
        "expect http://www.lanternferries.example/summer goes to /offers/summer-2027/ as 302 in 1 hop",
        "--resolve www.lanternferries.example:",
        "location: https://lanternferries.example/offers/summer-2027/",
    ] {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    let archive = server.inspect("GET", "/requests.har", &[]).await;
    let archive: serde_json::Value = serde_json::from_slice(archive.body()).unwrap();
    let entry = &archive["log"]["entries"][0];
    assert_eq!(
        (&archive["log"]["version"], &entry["response"]["status"]),
        (&"1.2".into(), &302.into())
    );
    assert_eq!(server.inspect("GET", "/request/99", &[]).await.status(), 404);
    assert!(
        page.headers()["content-security-policy"]
            .to_str()
            .unwrap()
            .starts_with("default-src 'none'")
    );
    let own = format!("http://{}", server.addresses.inspect());
    type Fields<'f> = &'f [(&'f str, &'f str)];
    let cases: &[(&str, &str, Fields<'_>, u16)] = &[
        ("GET", "/", &[("host", "evil.example")], 421),
        ("GET", "/requests", &[("host", "www.lanternferries.example")], 421),
        ("POST", "/try", &[("origin", "http://evil.example")], 403),
        ("POST", "/try", &[], 403),
        ("POST", "/try", &[("origin", &own)], 405),
        ("POST", "/clear", &[], 403),
        ("POST", "/clear", &[("origin", &own)], 204),
        ("GET", "/request/1", &[], 404),
        ("GET", "/no-such", &[], 404),
        ("GET", "/inspect.js", &[], 200),
    ];
    for (method, target, fields, status) in cases {
        assert_eq!(
            server.inspect(method, target, fields).await.status().as_u16(),
            *status,
            "{method} {target} {fields:?}"
        );
    }
    let asked = server
        .inspect("GET", "/try?part=1&address=%2Fbook%2Fseat%2F14A&method=get&header=", &[])
        .await;
    assert!(String::from_utf8_lossy(asked.body()).contains("serves /book/index.html"));
    let wrong = server.inspect("GET", "/try?part=1&address=%2F&header=%3Cb%3E", &[]).await;
    assert!(String::from_utf8_lossy(wrong.body()).contains("`&lt;b&gt;` is not a header"));
    for _ in 0..400 {
        if server.live.checked().is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let state = server.inspect("GET", "/state", &[]).await;
    let state = String::from_utf8_lossy(state.body()).into_owned();
    assert!(
        state.contains("37 hold") && state.contains("https://www.lanternferries.example"),
        "{state}"
    );
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_end_waits_for_nobody_who_is_silent() {
    let server = demo().await;
    let silent = tokio::net::TcpStream::connect(server.addresses.http()).await.unwrap();
    let mut open = tokio::net::TcpStream::connect(server.addresses.inspect()).await.unwrap();
    let head = format!("GET /requests HTTP/1.1\r\nhost: {}\r\n\r\n", server.addresses.inspect());
    tokio::io::AsyncWriteExt::write_all(&mut open, head.as_bytes()).await.unwrap();
    let mut stream = tokio::io::BufReader::new(open);
    let mut line = String::new();
    tokio::io::AsyncBufReadExt::read_line(&mut stream, &mut line).await.unwrap();
    assert_eq!(line, "HTTP/1.1 200 OK\r\n");
    server.ask("GET", "http://www.lanternferries.example/summer", &[]).await;
    while !line.contains("/summer") {
        line.clear();
        tokio::io::AsyncBufReadExt::read_line(&mut stream, &mut line).await.unwrap();
    }
    let ended = tokio::time::timeout(Duration::from_secs(4), server.end()).await;
    assert!(ended.is_ok(), "open connections hold the end up");
    drop(silent);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_stands_in_the_way_is_said() {
    let server = demo().await;
    let again = options(server.folder.path()).with_ports(
        crate::common::port(server.addresses.http()),
        0,
        0,
    );
    let error = Server::bind(again).await.err().unwrap().to_string();
    assert!(
        error.contains(&format!("port {} is in use", crate::common::port(server.addresses.http()))),
        "{error}"
    );
    let nowhere =
        ravel_serve::Options::new(server.path("none.ravel"), server.folder.path().join("data"));
    assert!(Server::bind(nowhere).await.err().unwrap().to_string().contains("no such file"));
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = |name: &str| {
            fs::metadata(server.folder.path().join("data/lanternferries.example").join(name))
                .unwrap()
                .permissions()
                .mode()
                & 0o777
        };
        assert_eq!((mode("authority.key"), mode("authority.pem")), (0o600, 0o600));
    }
    // The same authority is used again.
    let before = fs::read(&server.authority).unwrap();
    let second = Server::bind(options(server.folder.path())).await.unwrap();
    assert_eq!(fs::read(second.authority().path()).unwrap(), before);
    server.end().await;
}

/// What is sent over a socket as it stands, and what comes back.
async fn raw(server: &Running, asked: &str) -> String {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    let address = ("127.0.0.1", server.addresses.http().port());
    let mut stream = tokio::net::TcpStream::connect(address).await.unwrap();
    stream.write_all(asked.as_bytes()).await.unwrap();
    let mut all = String::new();
    stream.read_to_string(&mut all).await.unwrap();
    all
}

/// A request that is no HTTP is refused before the rules are asked, and is logged with the reason.
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_read_is_logged() {
    let server = demo().await;
    for sign in ['<', '>'] {
        let asked =
            format!("GET /about{sign}x HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n");
        let said = raw(&server, &asked).await;
        assert!(said.starts_with("HTTP/1.1 400 "), "{sign}: {said}");
        let mut last = None;
        for _ in 0..100 {
            last = server.log.last().first().cloned();
            let expected = format!("/about%{:02X}x", u32::from(sign));
            if last.as_ref().is_some_and(|record| record.request().url().ends_with(&expected)) {
                break;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let record = last.unwrap();
        assert_eq!((record.sent().status(), record.outcome()), (400, Outcome::Refused), "{sign}");
        let why = record.answers()[0].steps()[0].result();
        assert!(why.contains(&format!("a raw `{sign}`")) && why.contains("RFC 9112"), "{why}");
    }
    server.end().await;
}

/// The host of an absolute target wins over the field (RFC 9112, section 3.2.2).
#[tokio::test(flavor = "multi_thread")]
async fn an_absolute_target_says_which_host_is_meant() {
    let server = demo().await;
    for host in ["localhost", "other.example", "lanternferries.example"] {
        let asked = format!(
            "GET http://localhost/about HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n\r\n"
        );
        let said = raw(&server, &asked).await;
        assert!(said.starts_with("HTTP/1.1 200 "), "{host}: {said}");
    }
    let two = "GET http://localhost/about HTTP/1.1\r\nhost: a.example\r\nhost: b.example\r\nconnection: close\r\n\r\n";
    assert!(raw(&server, two).await.starts_with("HTTP/1.1 400 "));
    server.end().await;
}
