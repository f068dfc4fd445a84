//! `ravel test --live`: on the served demo, on a site that differs, and on servers that mean no
//! good.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::common::{demo, folder, ravel, run};
use serde_json::Value;

struct Ending(Child);

impl Drop for Ending {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Serves a site; gives what `test --live` needs to reach it.
fn serve(folder: &Path) -> (Ending, Vec<String>) {
    let authority = folder.join("authority");
    let mut command = ravel(folder);
    command
        .args(["serve", "--json", "--http", "0", "--https", "0", "--inspect", "0", "--authority"])
        .arg(&authority);
    let mut serving = Ending(command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap());
    let mut line = String::new();
    let mut out = BufReader::new(serving.0.stdout.take().unwrap());
    out.read_line(&mut line).unwrap();
    // The rest is read, so that the server can go on.
    std::thread::spawn(move || std::io::copy(&mut out, &mut std::io::sink()));
    let begun: Value = serde_json::from_str(&line).unwrap();
    let at = |name: &str| {
        begun[name]
            .as_str()
            .unwrap()
            .trim_start_matches("https://")
            .trim_start_matches("http://")
            .to_owned()
    };
    let reach =
        ["--connect", &at("https"), "--connect-http", &at("http"), "--ca"].map(str::to_owned);
    (serving, reach.into_iter().chain([begun["authority"].as_str().unwrap().to_owned()]).collect())
}

fn live(folder: &Path, reach: &[String], more: &[&str]) -> (i32, String, String) {
    let reach = reach.iter().map(String::as_str);
    let arguments: Vec<&str> =
        ["test", "--live"].into_iter().chain(reach).chain(more.iter().copied()).collect();
    run(folder, &arguments, "")
}

#[test]
fn the_served_demo_is_as_expected() {
    let demo = demo();
    let (_serving, reach) = serve(demo.path());
    let (status, out, errors) = live(demo.path(), &reach, &["--report", "junit.xml"]);
    assert_eq!(status, 0, "{out}{errors}");
    assert!(out.starts_with("35 expectations hold on the live site\n"), "{out}");
    assert!(
        out.contains("`expect every` was sampled")
            && out.contains("not asked: edge.ravel:103  /api/seats"),
        "{out}"
    );
    let junit = fs::read_to_string(demo.path().join("junit.xml")).unwrap();
    assert!(junit.contains("tests=\"37\" skipped=\"2\" failures=\"0\""), "{junit}");
}

#[test]
fn a_site_that_differs_is_told_from_wrong_rules() {
    let (ours, theirs) = (demo(), demo());
    let path = theirs.path().join("edge.ravel");
    let rules = fs::read_to_string(&path).unwrap();
    // An older version: another target, another page, and a header field that is not set.
    let older = rules
        .replace("redirect /summer -> /offers/summer-2027/", "redirect /summer -> /timetable/")
        .replace("  set x-content-type-options: nosniff\n", "");
    assert_ne!(older, rules);
    fs::write(&path, older).unwrap();
    fs::write(
        theirs.path().join("dist/about.html"),
        "<!doctype html>\n<title>About</title>\n<h1>As it was</h1>\n",
    )
    .unwrap();
    let (_serving, reach) = serve(theirs.path());
    let (status, out, errors) = live(ours.path(), &reach, &["--json"]);
    assert_eq!(status, 1, "{out}{errors}");
    let data: Value = serde_json::from_str(&out).unwrap();
    let failed: Vec<&Value> = data["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|verdict| verdict["failures"] != serde_json::json!([]))
        .collect();
    let asked: Vec<&str> =
        failed.iter().map(|verdict| verdict["asked"].as_str().unwrap()).collect();
    assert_eq!(
        asked,
        [
            "/about",
            "http://www.lanternferries.example/summer",
            "/summer?from=poster",
            "/no-such-page",
            "https://spring.preview.lanternferries.example/summer"
        ]
    );
    assert!(failed.iter().all(|verdict| {
        verdict["rules"]
            .as_str()
            .unwrap()
            .contains("the site answers otherwise than these rules do")
    }));
    let got = failed[0]["failures"][0]["got"].as_str().unwrap();
    assert!(got.contains("that are not those of `about.html`"), "{got}");
    let (_, out, _) = live(ours.path(), &reach, &["--report", "junit.xml"]);
    for part in [
        "5 of 35 expectations failed on the live site",
        "expected  serves /about.html",
        "got       goes to https://lanternferries.example/timetable/",
        "rules     goes to https://lanternferries.example/offers/summer-2027/",
        "an older version, a cache, or",
        "got       404 without x-content-type-options",
    ] {
        assert!(out.contains(part), "{part} is not in {out}");
    }
    let junit = fs::read_to_string(ours.path().join("junit.xml")).unwrap();
    assert!(
        junit.contains("failures=\"5\"")
            && junit.contains("<failure message=\"/about at edge.ravel:78\">"),
        "{junit}"
    );

    // The same failures of a rule that is wrong here, too.
    let path = ours.path().join("edge.ravel");
    let rules = fs::read_to_string(&path).unwrap();
    fs::write(
        &path,
        rules
            .replace("redirect /summer -> /offers/summer-2027/", "redirect /summer -> /timetable/"),
    )
    .unwrap();
    let (_, out, _) = live(ours.path(), &reach, &[]);
    assert!(out.contains("these rules do not do it, either"), "{out}");
}

/// A server on loopback that answers each request as `answer` says, with the path.
fn hostile(answer: impl Fn(&str, &mut TcpStream) + Clone + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().map_while(Result::ok) {
            let answer = answer.clone();
            std::thread::spawn(move || {
                let (mut head, mut block) = (Vec::new(), [0; 2048]);
                loop {
                    let len = stream.read(&mut block).unwrap_or(0);
                    head.extend_from_slice(&block[..len]);
                    let is_text = head.first().is_some_and(u8::is_ascii_uppercase);
                    if len == 0 || !is_text || head.ends_with(b"\r\n\r\n") {
                        break;
                    }
                }
                let head = String::from_utf8_lossy(&head).into_owned();
                answer(head.split(' ').nth(1).unwrap_or("/"), &mut stream);
                // What is left unread when it is closed would take back what was answered.
                let _ = stream.shutdown(Shutdown::Write);
                let _ = stream.set_read_timeout(Some(Duration::from_secs(1)));
                while stream.read(&mut block).is_ok_and(|len| len > 0) {}
            });
        }
    });
    address
}

const HOSTILE: &str = "site http://harbour.example/\n  files dist\nexpect /slow serves /index.html\nexpect /round is a loop\n\
    expect /long serves /index.html\nexpect /away goes to http://away.example/x as 302\nexpect /half serves /index.html\nexpect /odd serves /index.html\n";

#[test]
fn servers_that_mean_no_good_do_not_hurt() {
    let address = hostile(|path, stream| {
        let number: u32 = path.rsplit('/').next().and_then(|last| last.parse().ok()).unwrap_or(0);
        let _ = match path {
            "/slow" => {
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\n<");
                std::thread::sleep(Duration::from_secs(8));
                Ok(())
            }
            // As much as is wanted of it.
            "/long" => {
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 10000000000\r\n\r\n");
                let block = vec![b'x'; 1 << 16];
                while stream.write_all(&block).is_ok() {}
                Ok(())
            }
            "/away" => stream.write_all(b"HTTP/1.1 302 Found\r\nlocation: http://away.example/x\r\ncontent-length: 0\r\n\r\n"),
            "/half" => stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\nhalf"),
            "/odd" => stream.write_all(b"SSH-2.0-none\r\n"),
            _ => stream.write_all(
                format!(
                    "HTTP/1.1 302 Found\r\nlocation: /round/{}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n",
                    number + 1
                )
                .as_bytes(),
            ),
        };
    });
    let site = folder(&[("edge.ravel", HOSTILE), ("dist/index.html", "<p>home")]);
    let start = Instant::now();
    let (status, out, errors) =
        run(site.path(), &["test", "--live", "--connect", &address, "--timeout", "3"], "");
    assert_eq!(status, 1, "{out}{errors}");
    assert!(start.elapsed() < Duration::from_secs(60), "{:?}", start.elapsed());
    for part in [
        "4 of 6 expectations failed",
        "no whole answer within 3 s",
        "200 with more than 16 MiB",
        "the body breaks off",
    ] {
        assert!(out.contains(part), "{part} is not in {out}");
    }
}

#[test]
fn what_can_not_be_reached_is_said_in_time() {
    let demo = demo();
    let start = Instant::now();
    let nobody = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    let (status, _, errors) = run(demo.path(), &["test", "--live", "--connect", &nobody], "");
    assert!(status == 2 && errors.contains(&format!("nothing listens at {nobody}")), "{errors}");
    // No TLS there, and a certificate that nobody trusts.
    let plain = hostile(|_, stream| drop(stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n")));
    let (status, out, errors) = run(
        demo.path(),
        &["test", "--live", "--connect", &plain, "--connect-http", &plain, "--timeout", "2"],
        "",
    );
    assert!(status == 1 && out.contains("expectations failed on the live site"), "{out}{errors}");
    let (_serving, reach) = serve(demo.path());
    let (status, out, _) = live(demo.path(), &reach[..4], &[]);
    assert!(status == 1 && out.contains("UnknownIssuer"), "{out}");
    let (status, _, errors) = live(demo.path(), &reach[..4], &["--ca", "edge.ravel"]);
    assert!(status == 2 && errors.contains("it holds no certificate"), "{errors}");
    let (status, _, errors) = run(demo.path(), &["test", "--connect", &nobody], "");
    assert!(status == 2 && errors.contains("--live"), "{errors}");
    assert!(start.elapsed() < Duration::from_secs(60), "{:?}", start.elapsed());
}

#[test]
fn the_rules_own_expectations_are_written_as_junit() {
    let site = folder(&[
        (
            "edge.ravel",
            "site https://harbour.example/\n  files dist\nexpect /a is missing\nexpect /b is gone\n",
        ),
        ("dist/index.html", ""),
    ]);
    let (status, ..) = run(site.path(), &["test", "--report", "junit.xml"], "");
    let junit = fs::read_to_string(site.path().join("junit.xml")).unwrap();
    assert!(
        status == 1
            && junit.contains("tests=\"2\" skipped=\"0\" failures=\"1\"")
            && junit.contains("expected is gone"),
        "{junit}"
    );
}

/// A server that answers the requests of its connections, each with its number on that connection
/// (from 0) and in all, by what `answer` gives; it closes a connection without an answer where that
/// is none. How many requests there were is counted.
fn scripted(
    answer: impl Fn(usize, &str) -> Option<String> + Send + Sync + 'static,
) -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let (asked, answer) = (Arc::new(AtomicUsize::new(0)), Arc::new(answer));
    let counted = Arc::clone(&asked);
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let (counted, answer) = (Arc::clone(&counted), Arc::clone(&answer));
            std::thread::spawn(move || {
                let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
                for number in 0.. {
                    let Some(Ok(head)) = lines.next() else { return };
                    while lines.next().is_some_and(|line| line.is_ok_and(|line| !line.is_empty())) {
                    }
                    counted.fetch_add(1, Ordering::Relaxed);
                    let path = head.split(' ').nth(1).unwrap_or_default();
                    let Some(answer) = answer(number, path) else { return };
                    (&stream).write_all(answer.as_bytes()).unwrap();
                }
            });
        }
    });
    (address, asked)
}

fn plain_test(address: SocketAddr, expectation: &str) -> (i32, String) {
    let rules = format!("site http://h.example/\n  http allow\nexpect {expectation}\n");
    let site = folder(&[("edge.ravel", &rules)]);
    let connect = address.to_string();
    let (status, said, errors) = run(site.path(), &["test", "--live", "--connect", &connect], "");
    (status, format!("{said}{errors}").split_whitespace().collect::<Vec<_>>().join(" "))
}

/// A connection that has answered may be closed at any time, and is tried once more; one that never
/// did is reported.
#[test]
fn a_request_is_sent_again_only_where_its_connection_had_answered() {
    let moved = "HTTP/1.1 301 Moved\r\nlocation: /b\r\ncontent-length: 0\r\n\r\n";
    let missing = "HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n";
    // The second request of a connection is not answered. On a busy machine the first connection may
    // not be free yet, and another is taken.
    let was_asked_again = (0..20).any(|_| {
        let (address, asked) = scripted(move |number, path| match (number, path) {
            (_, "/a") => Some(moved.to_owned()),
            (0, _) => Some(missing.to_owned()),
            _ => None,
        });
        let (status, said) = plain_test(address, "/a redirects to /b");
        assert_eq!(status, 0, "{said}");
        asked.load(Ordering::Relaxed) == 3
    });
    assert!(was_asked_again);
    let (address, asked) = scripted(|_, _| None);
    let (status, said) = plain_test(address, "/a is missing");
    assert!(status == 1 && said.contains("connection closed before message completed"), "{said}");
    assert_eq!(asked.load(Ordering::Relaxed), 1);
}

/// Browsers refuse an answer that leads to two places, and follow one that says the same twice.
#[test]
fn locations_that_differ_do_not_pass() {
    let two = |one: &str, other: &str| {
        format!(
            "HTTP/1.1 301 Moved\r\nlocation: {one}\r\nlocation: {other}\r\ncontent-length: 0\r\n\r\n"
        )
    };
    for (answer, holds) in [(two("/b", "/c"), false), (two("/b", "/b"), true)] {
        let (address, _) = scripted(move |_, _| Some(answer.clone()));
        let (status, said) = plain_test(address, "/a redirects to /b");
        assert_eq!(status == 0, holds, "{said}");
        assert!(holds || said.contains("301 to /b and /c: browsers refuse several"), "{said}");
    }
}
