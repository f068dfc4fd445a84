//! What is sent, over HTTP/1.1 and HTTP/2, is what the standards say (RFC 9110, 9112 and 9113).

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;

use crate::common::{Running, demo, port};
use bytes::Bytes;
use http::Response;

type Fields<'f> = &'f [(&'f str, &'f str)];

/// A request, and what is wanted of its answer: the status, fields (empty for one that is not
/// there), and the length of the body.
type Case<'c> = (&'c str, &'c str, Fields<'c>, u16, Fields<'c>, Option<usize>);

async fn both(
    server: &Running,
    method: &str,
    path: &str,
    fields: Fields<'_>,
) -> [Response<Bytes>; 2] {
    let url = format!("https://lanternferries.example{path}");
    [
        server.try_ask(method, &url, fields).await.unwrap(),
        server
            .ask_over_http2(method, &url, fields)
            .await
            .unwrap_or_else(|why| panic!("{method} {path} {fields:?}: {why}")),
    ]
}

fn field(response: &Response<Bytes>, name: &str) -> String {
    let lines = response.headers().get_all(name).iter().map(|value| value.to_str().unwrap());
    lines.collect::<Vec<_>>().join(", ")
}

#[tokio::test(flavor = "multi_thread")]
async fn both_versions_answer_as_the_standards_say() {
    let server = demo().await;
    let length = 40_000_usize;
    let text: String = (0..length).map(|at| char::from(b'a' + (at % 23) as u8)).collect();
    fs::write(server.path("dist/long.txt"), &text).unwrap();
    fs::write(server.path("dist/horn.mp3"), &text).unwrap();
    fs::write(server.path("dist/empty.txt"), "").unwrap();
    let rules = server.path("edge.ravel");
    let more = "headers /long.txt\n  when header x-tide is high\n  set x-water: high\n";
    fs::write(&rules, format!("{}\n{more}", fs::read_to_string(&rules).unwrap())).unwrap();
    // Files and rules may be read anew one after the other: it waits for both.
    for tried in 0.. {
        let [empty, long] =
            ["empty.txt", "long.txt"].map(|file| format!("https://lanternferries.example/{file}"));
        let is_read = server.ask("GET", &empty, &[]).await.status() == 200
            && field(&server.ask("GET", &long, &[]).await, "vary").contains("x-tide");
        if is_read {
            break;
        }
        assert!(tried < 400, "the files and the rules are read anew within 20 s");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let [whole, _] = both(&server, "GET", "/long.txt", &[]).await;
    let (tag, date) = (field(&whole, "etag"), field(&whole, "last-modified"));
    let [zipped, _] = both(&server, "GET", "/long.txt", &[("accept-encoding", "gzip")]).await;
    let zipped_tag = field(&zipped, "etag");
    assert!(
        tag.starts_with('"') && zipped_tag.starts_with('"') && tag != zipped_tag,
        "{tag} {zipped_tag}"
    );
    let weak = format!("W/{tag}");
    let both_tags = format!("\"x\", {tag}");
    let full = length.to_string();
    let vary = ("vary", "x-tide, accept-encoding");
    let cases: &[Case<'_>] = &[
        (
            "GET",
            "/long.txt",
            &[],
            200,
            &[vary, ("accept-ranges", "bytes"), ("content-length", &full)],
            Some(length),
        ),
        (
            "HEAD",
            "/long.txt",
            &[],
            200,
            &[vary, ("etag", &tag), ("content-length", &full)],
            Some(0),
        ),
        (
            "HEAD",
            "/long.txt",
            &[("accept-encoding", "gzip")],
            200,
            &[vary, ("content-encoding", "gzip"), ("etag", &zipped_tag)],
            Some(0),
        ),
        (
            "HEAD",
            "/summer",
            &[],
            302,
            &[("location", "https://lanternferries.example/offers/summer-2027/")],
            Some(0),
        ),
        (
            "HEAD",
            "/no-such-page",
            &[],
            404,
            &[("content-type", "text/html; charset=utf-8")],
            Some(0),
        ),
        ("HEAD", "/loyalty/x", &[], 410, &[], Some(0)),
        ("HEAD", "/api/x", &[], 502, &[], Some(0)),
        // Conditions (section 13).
        (
            "GET",
            "/long.txt",
            &[("if-none-match", &tag)],
            304,
            &[vary, ("etag", &tag), ("content-type", "")],
            Some(0),
        ),
        ("GET", "/long.txt", &[("if-none-match", &weak)], 304, &[], Some(0)),
        ("GET", "/long.txt", &[("if-none-match", &both_tags)], 304, &[], Some(0)),
        ("GET", "/long.txt", &[("if-none-match", "*")], 304, &[], Some(0)),
        ("HEAD", "/long.txt", &[("if-none-match", &tag)], 304, &[vary], Some(0)),
        ("GET", "/long.txt", &[("if-none-match", &zipped_tag)], 200, &[], Some(length)),
        (
            "GET",
            "/long.txt",
            &[("if-none-match", &zipped_tag), ("accept-encoding", "gzip")],
            304,
            &[("etag", &zipped_tag)],
            Some(0),
        ),
        (
            "GET",
            "/long.txt",
            &[("if-none-match", "\"other\""), ("if-modified-since", &date)],
            200,
            &[],
            Some(length),
        ),
        ("GET", "/long.txt", &[("if-modified-since", &date)], 304, &[vary], Some(0)),
        (
            "GET",
            "/long.txt",
            &[("if-modified-since", "Sat, 01 Jan 2000 00:00:00 GMT")],
            200,
            &[],
            Some(length),
        ),
        ("GET", "/long.txt", &[("if-modified-since", "yesterday")], 200, &[], Some(length)),
        ("GET", "/long.txt", &[("if-match", &tag)], 200, &[], Some(length)),
        (
            "GET",
            "/long.txt",
            &[("if-match", &weak)],
            412,
            &[("content-type", "text/plain; charset=utf-8")],
            None,
        ),
        ("GET", "/long.txt", &[("if-match", "\"other\"")], 412, &[], None),
        (
            "GET",
            "/long.txt",
            &[("if-unmodified-since", "Sat, 01 Jan 2000 00:00:00 GMT")],
            412,
            &[],
            None,
        ),
        // Ranges (section 14).
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=0-9")],
            206,
            &[vary, ("content-range", "bytes 0-9/40000"), ("content-length", "10")],
            Some(10),
        ),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=-10")],
            206,
            &[("content-range", "bytes 39990-39999/40000")],
            Some(10),
        ),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=-90000")],
            206,
            &[("content-range", "bytes 0-39999/40000")],
            Some(length),
        ),
        ("GET", "/long.txt", &[("range", "bytes=39999-90000")], 206, &[], Some(1)),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=40000-")],
            416,
            &[("content-range", "bytes */40000")],
            None,
        ),
        ("GET", "/long.txt", &[("range", "pages=1-2")], 200, &[], Some(length)),
        ("GET", "/long.txt", &[("range", "bytes=9-0")], 200, &[], Some(length)),
        ("GET", "/long.txt", &[("range", "bytes=0-9"), ("if-range", &tag)], 206, &[], Some(10)),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=0-9"), ("if-range", &weak)],
            200,
            &[],
            Some(length),
        ),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=0-9"), ("if-range", "\"other\"")],
            200,
            &[],
            Some(length),
        ),
        ("GET", "/long.txt", &[("range", "bytes=0-9"), ("if-range", &date)], 206, &[], Some(10)),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=0-9"), ("if-range", "Sat, 01 Jan 2000 00:00:00 GMT")],
            200,
            &[],
            Some(length),
        ),
        (
            "GET",
            "/long.txt",
            &[("range", "bytes=0-9"), ("accept-encoding", "gzip")],
            206,
            &[("content-encoding", ""), ("etag", &tag)],
            Some(10),
        ),
        ("HEAD", "/long.txt", &[("range", "bytes=0-9")], 200, &[("content-range", "")], Some(0)),
        ("GET", "/no-such-page", &[("range", "bytes=0-9")], 404, &[("content-range", "")], None),
        (
            "GET",
            "/empty.txt",
            &[("range", "bytes=0-")],
            416,
            &[("content-range", "bytes */0")],
            None,
        ),
        ("GET", "/empty.txt", &[], 200, &[("content-length", "0"), ("vary", "")], Some(0)),
        // Encodings (section 12.5.3).
        (
            "GET",
            "/long.txt",
            &[("accept-encoding", "br, gzip")],
            200,
            &[("content-encoding", "gzip")],
            None,
        ),
        (
            "GET",
            "/long.txt",
            &[("accept-encoding", "br, gzip;q=0")],
            200,
            &[("content-encoding", "")],
            None,
        ),
        (
            "GET",
            "/long.txt",
            &[("accept-encoding", "identity;q=0, gzip")],
            200,
            &[("content-encoding", "gzip")],
            None,
        ),
        ("GET", "/long.txt", &[("accept-encoding", "identity;q=0")], 406, &[], None),
        (
            "GET",
            "/horn.mp3",
            &[("accept-encoding", "gzip, br")],
            200,
            &[("content-encoding", ""), ("content-type", "audio/mpeg")],
            Some(length),
        ),
        (
            "GET",
            "/horn.mp3",
            &[("accept-encoding", "identity;q=0, gzip")],
            200,
            &[("content-encoding", "gzip"), ("vary", "accept-encoding")],
            None,
        ),
        // Methods.
        ("POST", "/long.txt", &[], 405, &[("allow", "GET, HEAD")], None),
        ("DELETE", "/summer", &[], 302, &[], None),
    ];
    for (method, path, fields, status, wanted, bytes) in cases {
        for (version, response) in [1, 2].into_iter().zip(both(&server, method, path, fields).await)
        {
            let what = format!("HTTP/{version}: {method} {path} {fields:?}");
            assert_eq!(response.status().as_u16(), *status, "{what}");
            for (name, value) in *wanted {
                assert_eq!(field(&response, name), *value, "{what}: {name}");
            }
            if let Some(bytes) = bytes {
                assert_eq!(response.body().len(), *bytes, "{what}");
            }
        }
    }
    // The parts are those of the text, whole and in an envelope.
    let [part, _] = both(&server, "GET", "/long.txt", &[("range", "bytes=100-199")]).await;
    assert_eq!(part.body(), &text.as_bytes()[100..200]);
    for response in both(&server, "GET", "/long.txt", &[("range", "bytes=5-6, -3")]).await {
        assert_eq!(response.status(), 206);
        let stated = field(&response, "content-type");
        let boundary = stated.strip_prefix("multipart/byteranges; boundary=").unwrap();
        let part = |range: &str, bytes: &str| {
            format!(
                "\r\n--{boundary}\r\ncontent-type: text/plain; charset=utf-8\r\ncontent-range: bytes {range}/40000\r\n\r\n{bytes}"
            )
        };
        let wanted = part("5-6", &text[5..7])
            + &part("39997-39999", &text[39_997..])
            + &format!("\r\n--{boundary}--\r\n");
        assert_eq!(String::from_utf8_lossy(response.body()), wanted);
    }
    // What is logged is what was sent.
    let logged = server.log.last();
    let any = |status: u16, range: bool, bytes: u64| {
        logged.iter().any(|record| {
            let sent = record.sent();
            let has_range = sent.headers().contains_key("content-range");
            let is_it = (sent.status(), has_range, sent.body_bytes()) == (status, range, bytes);
            is_it && sent.complete() && record.file() == Some("long.txt")
        })
    };
    assert!(any(304, false, 0) && any(206, true, 100) && any(200, false, 40_000));
    assert!(logged.iter().any(|record| record.sent().status() == 416));
    server.end().await;
}

/// Sends bytes on a connection, and reads until it is closed.
fn raw(server: &Running, request: &str) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port(server.addresses.http()))).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_requests_are_answered() {
    let server = demo().await;
    let answers = tokio::task::block_in_place(|| {
        let host = "host: www.lanternferries.example\r\nconnection: close\r\n";
        let body = "x".repeat(40_000);
        [
            raw(&server, &format!("POST / HTTP/1.1\r\n{host}content-length: 40000\r\n\r\n{body}")),
            raw(&server, &format!("GET / HTTP/1.1\r\n{host}host: other.example\r\n\r\n")),
            raw(&server, "GET / HTTP/1.1\r\nconnection: close\r\n\r\n"),
            raw(&server, &format!("GET //.. HTTP/1.1\r\n{host}\r\n")),
        ]
    });
    let statuses: Vec<&str> =
        answers.iter().map(|answer| answer.split(' ').nth(1).unwrap()).collect();
    assert_eq!(statuses, ["308", "400", "400", "301"], "{answers:#?}");
    server.end().await;
}

/// What cannot be read costs that file alone, and a pipe holds nobody up.
#[cfg(unix)]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_file_any_more_is_said() {
    let server = demo().await;
    let url = "https://lanternferries.example/fleet";
    fs::remove_file(server.path("dist/fleet.html")).unwrap();
    assert_eq!(server.ask("GET", url, &[]).await.status(), 404);
    fs::write(server.folder.path().join("secret.html"), "secret").unwrap();
    let secret = server.folder.path().join("secret.html");
    std::os::unix::fs::symlink(secret, server.path("dist/fleet.html")).unwrap();
    assert_eq!(server.ask("GET", url, &[]).await.status(), 404, "a link leads out of the folder");
    fs::remove_file(server.path("dist/fleet.html")).unwrap();
    let made = std::process::Command::new("mkfifo").arg(server.path("dist/fleet.html")).status();
    assert!(made.unwrap().success());
    assert_eq!(server.ask("GET", url, &[]).await.status(), 404, "a pipe is not a file");
    server.end().await;
}
