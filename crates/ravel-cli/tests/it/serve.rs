//! `ravel serve` as a process: what it says, and how it ends.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Stdio};

use crate::common::{demo, ravel, run};
use serde_json::Value;

struct Ending(Child);

impl Drop for Ending {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn ask(address: &str, head: &str) -> String {
    let mut stream = TcpStream::connect(address).unwrap();
    stream.write_all(head.as_bytes()).unwrap();
    let mut text = String::new();
    stream.read_to_string(&mut text).unwrap();
    text
}

/// The command on ports that are free.
fn serve(
    folder: &std::path::Path,
    authority: impl AsRef<std::ffi::OsStr>,
) -> std::process::Command {
    let mut command = ravel(folder);
    let arguments = ["serve", "--json", "--http", "0", "--https", "0", "--inspect", "0"];
    command.args(arguments).arg("--authority").arg(authority);
    command
}

#[test]
fn it_says_where_it_is_and_what_it_answers_and_ends_when_asked() {
    let demo = demo();
    let authority = demo.path().join("authority");
    let mut command = serve(demo.path(), &authority);
    let mut serving =
        Ending(command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap());
    let mut lines = BufReader::new(serving.0.stdout.take().unwrap()).lines();
    let mut next = || serde_json::from_str::<Value>(&lines.next().unwrap().unwrap()).unwrap();
    let begun = next();
    let http = begun["http"].as_str().unwrap();
    assert!(
        authority.join("lanternferries.example/authority.pem").exists()
            && begun["authority"].as_str().unwrap().ends_with("authority.pem")
    );

    let answer = ask(
        http,
        "GET /summer HTTP/1.1\r\nhost: www.lanternferries.example.localhost:8080\r\nconnection: close\r\n\r\n",
    );
    assert!(answer.starts_with("HTTP/1.1 302 Found\r\n"), "{answer}");
    let record = next();
    assert_eq!(
        (&record["status"], &record["line"]),
        (&Value::from(302), &Value::from("edge.ravel:17"))
    );
    assert_eq!(record["url"], "http://www.lanternferries.example/summer");

    let long =
        format!("GET / HTTP/1.1\r\nhost: localhost\r\nx-long: {}\r\n\r\n", "a".repeat(64 * 1024));
    let mut stream = TcpStream::connect(http).unwrap();
    let _ = stream.write_all(long.as_bytes());
    let mut text = Vec::new();
    let _ = stream.read_to_end(&mut text);
    assert!(
        text.is_empty() || text.starts_with(b"HTTP/1.1 431"),
        "{}",
        String::from_utf8_lossy(&text)
    );

    // A second server for the same port says so, and ends with 2.
    let port = http.rsplit(':').next().unwrap();
    let (status, _, errors) = run(
        demo.path(),
        &["serve", "--http", port, "--https", "0", "--inspect", "0", "--authority", "a"],
        "",
    );
    assert_eq!(status, 2);
    assert!(errors.contains(&format!("port {port} is in use")), "{errors}");

    #[cfg(unix)]
    {
        let id = serving.0.id().to_string();
        assert!(std::process::Command::new("kill").args(["-INT", &id]).status().unwrap().success());
        assert_eq!(serving.0.wait().unwrap().code(), Some(0));
    }
}

/// A server of the demo in another process; what it prints is read by the test alone.
#[cfg(unix)]
fn begin(folder: &std::path::Path) -> (Ending, [String; 2], std::process::ChildStdout) {
    let mut command = serve(folder, "keys");
    command.stdout(Stdio::piped()).stderr(Stdio::null());
    let mut serving = Ending(command.spawn().unwrap());
    let mut out = serving.0.stdout.take().unwrap();
    // Byte for byte, so that nothing of what follows is read with it.
    let (mut line, mut byte) = (Vec::new(), [0]);
    while out.read(&mut byte).unwrap() == 1 && byte[0] != b'\n' {
        line.push(byte[0]);
    }
    let begun: Value = serde_json::from_slice(&line).unwrap();
    let addresses = ["http", "inspect"].map(|name| begun[name].as_str().unwrap().to_owned());
    (serving, addresses, out)
}

/// A reader that is slow gets every line; and when the server is told to end, it does so in time.
#[cfg(unix)]
#[test]
fn no_line_is_lost_and_the_end_comes_in_time() {
    const REQUESTS: usize = 6_000;
    let demo = demo();
    let (mut serving, [http, inspect], out) = begin(demo.path());
    let asking = std::thread::spawn(move || {
        let mut stream = TcpStream::connect(&http).unwrap();
        let mut answers = BufReader::new(stream.try_clone().unwrap());
        for number in 0..REQUESTS {
            let ask = format!("HEAD /summer?{number} HTTP/1.1\r\nhost: localhost\r\n\r\n");
            stream.write_all(ask.as_bytes()).unwrap();
            let mut line = String::new();
            while line != "\r\n" {
                line.clear();
                answers.read_line(&mut line).unwrap();
            }
        }
        stream
    });
    // Meanwhile more is printed than a pipe holds.
    std::thread::sleep(std::time::Duration::from_millis(1_500));
    let mut lines = BufReader::new(out).lines();
    for number in 0..REQUESTS {
        let record: Value = serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap();
        assert_eq!(record["url"], format!("http://localhost/summer?{number}"));
        assert_eq!((&record["bytes"], &record["complete"]), (&Value::from(0), &Value::from(true)));
    }
    let open = asking.join().unwrap();
    // The page stays small, however many there were.
    let host = inspect.trim_start_matches("http://");
    let page = ask(host, &format!("GET / HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n\r\n"));
    assert_eq!(page.matches("role=\"treeitem\"").count(), 300);
    assert!(page.len() < 300_000, "{} bytes", page.len());
    let id = serving.0.id().to_string();
    assert!(std::process::Command::new("kill").args(["-TERM", &id]).status().unwrap().success());
    let begun = std::time::Instant::now();
    assert_eq!(serving.0.wait().unwrap().code(), Some(0));
    assert!(begun.elapsed().as_secs() < 8, "an open connection holds the end up");
    drop(open);
}

/// What is printed into the folder that is served is no change of it.
#[cfg(unix)]
#[test]
fn its_own_output_is_no_change() {
    let demo = demo();
    let log = std::fs::File::create(demo.path().join("dist/requests.jsonl")).unwrap();
    let errors = std::fs::File::create(demo.path().join("errors.txt")).unwrap();
    let mut command = serve(demo.path(), "keys");
    command.env("RAVEL_LOG", "info").stdout(log).stderr(errors);
    let serving = Ending(command.spawn().unwrap());
    let printed = || std::fs::read_to_string(demo.path().join("dist/requests.jsonl")).unwrap();
    while !printed().contains('\n') {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let begun: Value = serde_json::from_str(printed().lines().next().unwrap()).unwrap();
    std::thread::sleep(std::time::Duration::from_millis(700));
    let read = || {
        std::fs::read_to_string(demo.path().join("errors.txt"))
            .unwrap()
            .matches("read again")
            .count()
    };
    let before = read();
    for _ in 0..5 {
        ask(
            begun["http"].as_str().unwrap(),
            "GET /summer HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n",
        );
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
    assert!(printed().lines().count() == 6 && read() == before, "{} reads", read());
    drop(serving);
}

/// A terminal that is closed cuts no answer, and the zone that is served follows its file.
#[cfg(unix)]
#[test]
fn a_closed_terminal_cuts_no_answer_and_the_zone_follows_its_file() {
    let demo = demo();
    let big = vec![b'x'; 24 << 20];
    std::fs::write(demo.path().join("dist/big.bin"), &big).unwrap();
    let mut command = serve(demo.path(), demo.path().join("authority"));
    let command = command.args(["--dns", "0"]).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut serving = Ending(command.spawn().unwrap());
    let mut out = BufReader::new(serving.0.stdout.take().unwrap());
    let mut line = String::new();
    out.read_line(&mut line).unwrap();
    std::thread::spawn(move || std::io::copy(&mut out, &mut std::io::sink()));
    let begun: Value = serde_json::from_str(&line).unwrap();

    let dns = begun["dns"].as_str().unwrap();
    let zone = demo.path().join("dns/lanternferries.example.zone");
    let text = std::fs::read_to_string(&zone).unwrap();
    std::fs::write(&zone, text.replace("192.0.2.44", "192.0.2.99")).unwrap();
    let mut answered = Vec::new();
    for _ in 0..60 {
        std::thread::sleep(std::time::Duration::from_millis(100));
        answered = question(dns);
        if answered.ends_with(&[192, 0, 2, 99]) {
            break;
        }
    }
    assert!(answered.ends_with(&[192, 0, 2, 99]), "{answered:?}");

    let http = begun["http"].as_str().unwrap();
    let mut stream = TcpStream::connect(http).unwrap();
    stream
        .write_all(b"GET /big.bin HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n")
        .unwrap();
    let mut first = [0; 1_000];
    stream.read_exact(&mut first).unwrap();
    let hangup = std::process::Command::new("kill")
        .args(["-HUP", &serving.0.id().to_string()])
        .status()
        .unwrap();
    assert!(hangup.success());
    std::thread::sleep(std::time::Duration::from_millis(300));
    let mut rest = Vec::new();
    stream.read_to_end(&mut rest).unwrap();
    let all = first.len() + rest.len();
    assert!(all > big.len(), "{all} bytes of {}", big.len());
    assert!(serving.0.wait().unwrap().success());
}

/// The answer to a question for the address of the demo's host (RFC 1035, section 4.1).
fn question(server: &str) -> Vec<u8> {
    let mut asked = b"\x12\x34\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00".to_vec();
    asked.extend(b"\x0elanternferries\x07example\x00\x00\x01\x00\x01");
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.set_read_timeout(Some(std::time::Duration::from_secs(5))).unwrap();
    socket.send_to(&asked, server).unwrap();
    let mut answer = [0; 512];
    let length = socket.recv(&mut answer).unwrap();
    answer[..length].to_vec()
}
