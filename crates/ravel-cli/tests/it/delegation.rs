//! `ravel domain ask` finds a domain's own name servers: root, parent and zone stand on loopback.
#![cfg(target_os = "linux")] // Elsewhere 127.0.0.2 and on are no addresses of the machine.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::time::{Duration, Instant};

use crate::common::{folder, run};
use ravel_dns::Zone;
use ravel_serve::NameServer;
use serde_json::Value;
use tempfile::TempDir;
use tokio::runtime::Runtime;
use tokio::task::JoinHandle;

const SOA: &str = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n";
const ROOT: &str = "@ 1h NS a.root.\na.root. 1h A 127.0.0.2\nexample. 1h NS ns.example.\n\
                    ns.example. 1h A 127.0.0.3\n";
const PARENT: &str = "@ 1h NS ns\nns 1h A 127.0.0.3\nh 2d NS ns1.h\nh 2d NS ns2.h\nns1.h 2d A 127.0.0.4\n\
                      ns2.h 2d A 127.0.0.5\n";
const ZONE: &str = "@ 1h NS ns1\n@ 1h NS ns2\nns1 1h A 127.0.0.4\nns2 1h A 127.0.0.5\n@ 1h A 192.0.2.44\n\
                    www 1h CNAME edge.host.example.\n_o 1h TXT \"p-1\"\n";
const OLD: &str =
    "@ 1h NS ns1\n@ 2h A 203.0.113.80\nwww 3h CNAME old.example.\n_o 1h TXT \"p-1\"\n";

/// Name servers on one port of several addresses.
struct Servers {
    runtime: Runtime,
    port: u16,
    running: Vec<(u8, JoinHandle<()>)>,
}

impl Servers {
    fn start(zones: &[(u8, &str, String)]) -> Servers {
        let mut runtime = Runtime::new().unwrap();
        // A port that is free at the first address may be taken at another.
        for _ in 0..20 {
            let mut servers = Servers { runtime, port: 0, running: Vec::new() };
            if zones.iter().all(|(host, origin, text)| servers.add(*host, origin, text)) {
                return servers;
            }
            for (_, running) in &servers.running {
                running.abort();
            }
            runtime = servers.runtime;
        }
        panic!("no port is free at all addresses");
    }

    fn add(&mut self, host: u8, origin: &str, text: &str) -> bool {
        let zone = Zone::parse(origin, &format!("{SOA}{text}")).unwrap();
        let at = SocketAddr::from((Ipv4Addr::new(127, 0, 0, host), self.port));
        let Ok(server) = self.runtime.block_on(NameServer::bind(zone, at)) else { return false };
        self.port = server.address().port();
        let run = async move { server.run(std::future::pending()).await.unwrap() };
        self.running.push((host, self.runtime.spawn(run)));
        true
    }

    fn stop(&mut self, host: u8) {
        for (_, running) in self.running.iter().filter(|(at, _)| *at == host) {
            running.abort();
        }
        while self.running.iter().any(|(at, running)| *at == host && !running.is_finished()) {
            std::thread::sleep(Duration::from_millis(10));
        }
        self.running.retain(|(at, _)| *at != host);
    }

    fn ask(&self, site: &Path, more: &[&str]) -> (i32, String, String) {
        let port = self.port.to_string();
        let common = ["domain", "ask", "--root", "root.hints", "--dns-port", &port];
        run(site, &[&common[..], more].concat(), "")
    }
}

fn site() -> TempDir {
    folder(&[
        (
            "edge.ravel",
            "site https://www.h.example/\n  alias h.example\ndomain h.example\n  host edge.host.example\n  \
             address 192.0.2.44\n  verification _o \"p-1\"\n",
        ),
        ("none.hints", "; nothing\n"),
        ("root.hints", "; the root\n.  3600 NS a.root.\na.root. 3600 A 127.0.0.2 ; here\n"),
    ])
}

fn zones(parent: &str, zone: &str) -> Vec<(u8, &'static str, String)> {
    let zone = |host| (host, "h.example", zone.to_owned());
    vec![(2, ".", ROOT.to_owned()), (3, "example", parent.to_owned()), zone(4), zone(5)]
}

#[test]
fn the_servers_of_a_domain_are_found_and_compared() {
    let site = site();
    let key = format!("h 1h TYPE43 \\# 36 30390d02{}\n", "00".repeat(32));
    let cases = [
        (PARENT.to_owned(), ZONE.to_owned(), 0, "says what is needed"),
        (
            PARENT.to_owned(),
            ZONE.replace("@ 1h NS ns2\n", "@ 1h NS ns3\n"),
            0,
            "names the server ns3.h.example, and the parent does not",
        ),
        (
            PARENT.to_owned(),
            ZONE.replace("@ 1h NS ns2\n", ""),
            0,
            "the parent names the server ns2.h.example",
        ),
        (
            PARENT.to_owned(),
            ZONE.replace("ns1 1h A 127.0.0.4", "ns1 1h A 127.0.0.9"),
            0,
            "the parent says that ns1.h.example is 127.0.0.4",
        ),
        (
            format!("{PARENT}{key}"),
            ZONE.to_owned(),
            1,
            "resolvers that validate get nothing at all",
        ),
        (PARENT.to_owned(), OLD.to_owned(), 1, "says something else in 2 rows"),
        (
            PARENT.replace("h 2d NS ns1.h\nh 2d NS ns2.h\n", ""),
            ZONE.to_owned(),
            2,
            "does not delegate `h.example`",
        ),
        ("@ 1h NS ns\n".to_owned(), ZONE.to_owned(), 2, "knows no name `h.example`"),
    ];
    for (parent, zone, wanted, shown) in cases {
        let servers = Servers::start(&zones(&parent, &zone));
        let (status, out, errors) = servers.ask(site.path(), &[]);
        assert_eq!(status, wanted, "{shown}: {out}{errors}");
        assert!(format!("{out}{errors}").contains(shown), "{shown}: {out}{errors}");
    }
}

#[test]
fn resolvers_say_how_long_they_keep_what_is_old() {
    let site = site();
    let servers =
        Servers::start(&[zones(PARENT, ZONE), vec![(6, "h.example", OLD.to_owned())]].concat());
    let resolver = format!("127.0.0.6:{}", servers.port);
    let (status, out, errors) = servers.ask(site.path(), &["--resolver", &resolver]);
    assert_eq!(status, 1, "{out}{errors}");
    assert!(
        out.contains(&format!(
            "resolver {resolver}  says something else in 2 rows, which it keeps for up to 3 h"
        )),
        "{out}"
    );
    assert!(out.contains("delegates it to ns1.h.example, ns2.h.example, for 2 d"), "{out}");
    let (_, json, _) = servers.ask(site.path(), &["--resolver", &resolver, "--json"]);
    let data: Value = serde_json::from_str(&json).unwrap();
    let names: Vec<&str> = data["domains"][0]["servers"]
        .as_array()
        .unwrap()
        .iter()
        .map(|server| server["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["ns1.h.example", "ns2.h.example", "resolver"]);
    assert_eq!(data["domains"][0]["delegation"]["ttl"], 172_800);
    for (refused, why) in [
        (&["127.0.0.4", "--resolver", "127.0.0.6"][..], "cannot be used with"),
        (&["--timeout", "3"], "--wait"),
        (&["--root", "none.hints"], "has no address of a root server"),
    ] {
        let (status, _, errors) = run(site.path(), &[&["domain", "ask"], refused].concat(), "");
        assert!(status == 2 && errors.contains(why), "{refused:?}: {errors}");
    }
}

#[test]
fn waiting_ends_when_everything_is_visible() {
    let site = site();
    let mut servers =
        Servers::start(&[zones(PARENT, ZONE), vec![(6, "h.example", OLD.to_owned())]].concat());
    let resolver = format!("127.0.0.6:{}", servers.port);
    let (status, out, _) =
        servers.ask(site.path(), &["--resolver", &resolver, "--wait", "--timeout", "1"]);
    assert!(
        status == 1
            && out
                .contains("2 of 3 servers say what is needed; old records are kept for up to 3 h"),
        "{out}"
    );
    let port = servers.port.to_string();
    let path = site.path().to_owned();
    let begin = Instant::now();
    let waiting = std::thread::spawn(move || {
        let arguments = [
            "domain",
            "ask",
            "--root",
            "root.hints",
            "--dns-port",
            &port,
            "--resolver",
            &resolver,
            "--wait",
            "--timeout",
            "60",
        ];
        run(&path, &arguments, "")
    });
    std::thread::sleep(Duration::from_secs(1));
    servers.stop(6);
    assert!(servers.add(6, "h.example", ZONE));
    let (status, out, errors) = waiting.join().unwrap();
    assert!(status == 0 && begin.elapsed() < Duration::from_secs(50), "{out}{errors}");
    assert!(out.contains("asked again in 5 s") && out.contains("says what is needed"), "{out}");
}

/// A real resolver, that keeps what it fetched.
#[test]
#[ignore = "needs unbound"]
fn a_resolver_is_asked_for_the_way_there() {
    let site = site();
    let mut servers = Servers::start(&zones(PARENT, OLD));
    let stub = |zone: &str, host: u8| {
        format!("stub-zone:\n  name: \"{zone}\"\n  stub-addr: 127.0.0.{host}@{}\n", servers.port)
    };
    let resolver = format!("127.0.0.7:{}", servers.port);
    let settings = format!(
        "server:\n  interface: 127.0.0.7\n  port: {}\n  directory: \"{folder}\"\n  chroot: \"\"\n  username: \"\"\n  \
         pidfile: \"\"\n  use-syslog: no\n  do-not-query-localhost: no\n  module-config: \"iterator\"\n  \
         domain-insecure: \"example\"\n{}{}{}remote-control:\n  control-enable: no\n",
        servers.port,
        stub(".", 2),
        stub("example", 3),
        stub("h.example", 4),
        folder = site.path().display(),
    );
    std::fs::write(site.path().join("unbound.conf"), settings).unwrap();
    let mut unbound = std::process::Command::new("unbound")
        .args(["-d", "-c", "unbound.conf"])
        .current_dir(site.path())
        .spawn()
        .unwrap();
    let port = servers.port.to_string();
    let arguments = ["domain", "ask", "--resolver", &resolver, "--dns-port", &port];
    let ask = || run(site.path(), &arguments, "");
    let mut first = ask();
    for _ in 0..100 {
        if first.0 != 2 {
            break;
        }
        std::thread::sleep(Duration::from_millis(100));
        first = ask();
    }
    assert!(first.1.contains("127.0.0.3"), "found by way of the parent: {}{}", first.1, first.2);
    for host in [4, 5] {
        servers.stop(host);
        assert!(servers.add(host, "h.example", ZONE));
    }
    std::thread::sleep(Duration::from_millis(1_100));
    let (status, out, errors) = ask();
    unbound.kill().unwrap();
    unbound.wait().unwrap();
    assert_eq!(status, 1, "{out}{errors}");
    let line = |of: &str| out.lines().find(|line| line.starts_with(of)).unwrap_or_default();
    assert!(line("ns1.h.example").ends_with("says what is needed"), "{out}");
    // Its time has begun to run down.
    assert!(line("resolver").contains("which it keeps for up to 2 h 59 min"), "{out}");
}
