//! A short-link service decided by the library: a server of one thread that asks the edge for every
//! request.
//!
//! Without arguments it listens on a free port, asks itself three links and ends; with an address
//! such as `127.0.0.1:8000` it serves there until it is stopped.

use std::error::Error;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};

use http::Method;
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules};

const LINKS: &str = "\
site http://go.lanternferries.example/
redirect /s/summer -> https://lanternferries.example/offers/summer-2027/
redirect /s/{port} -> https://lanternferries.example/ports/{port}/
  where port is one of skerry, heronsea
";

fn main() -> Result<(), Box<dyn Error>> {
    let edge = Edge::new(&Rules::parse(LINKS)?, FileList::default());
    if let Some(address) = std::env::args().nth(1) {
        let listener = TcpListener::bind(address)?;
        println!("listening on {}", listener.local_addr()?);
        return listener.incoming().try_for_each(|stream| Ok(serve(&edge, stream?)?));
    }
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let address = listener.local_addr()?;
    for link in ["/s/summer", "/s/skerry?by=mail", "/x"] {
        let mut client = TcpStream::connect(address)?;
        write!(
            client,
            "GET {link} HTTP/1.1\r\nhost: go.lanternferries.example\r\nconnection: close\r\n\r\n"
        )?;
        serve(&edge, listener.accept()?.0)?;
        let mut answer = String::new();
        client.read_to_string(&mut answer)?;
        let location = answer.lines().find_map(|line| line.strip_prefix("location: "));
        println!("{link:18} {} {}", answer.get(9..12).unwrap_or_default(), location.unwrap_or("-"));
    }
    Ok(())
}

/// Reads one request, and answers it as the edge says.
fn serve(edge: &Edge, mut stream: TcpStream) -> std::io::Result<()> {
    let mut lines = BufReader::new(stream.try_clone()?.take(8_192)).lines();
    let line = lines.next().transpose()?.unwrap_or_default();
    let mut words = line.split(' ');
    let method =
        words.next().and_then(|word| Method::from_bytes(word.as_bytes()).ok()).unwrap_or_default();
    let target = words.next().unwrap_or_default();
    let mut host = String::new();
    for line in lines {
        let line = line?;
        match line.split_once(':') {
            Some((name, value)) if name.eq_ignore_ascii_case("host") => {
                host = value.trim().to_owned()
            }
            Some(_) => {}
            None => break,
        }
    }
    let request = Request::from_parts(method, Scheme::Http, &host, target);
    let answer = edge.answer(&request);
    let body = answer.body();
    write!(
        stream,
        "HTTP/1.1 {} \r\nconnection: close\r\ncontent-length: {}\r\n",
        answer.status().unwrap_or_default(),
        body.len()
    )?;
    for header in answer.headers() {
        write!(stream, "{}: {}\r\n", header.name(), header.value())?;
    }
    write!(stream, "\r\n{body}")
}
