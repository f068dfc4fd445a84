//! `ravel serve` as a process: what it says, and how it ends.

mod common;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Stdio};

use common::{demo, ravel, run};
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

#[test]
fn it_says_where_it_is_and_what_it_answers_and_ends_when_asked() {
    let demo = demo();
    let authority = demo.path().join("authority");
    let mut command = ravel(demo.path());
    command
        .args(["serve", "--json", "--http", "0", "--https", "0", "--inspect", "0", "--authority"])
        .arg(&authority);
    let mut serving =
        Ending(command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap());
    let mut lines = BufReader::new(serving.0.stdout.take().unwrap()).lines();
    let mut next = || serde_json::from_str::<Value>(&lines.next().unwrap().unwrap()).unwrap();
    let begun = next();
    let http = begun["http"].as_str().unwrap();
    assert!(
        authority.join("authority.pem").exists()
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
