//! Zones that are written, beside BIND: `named` serves them, and `delv` validates one that is signed
//! again.

use std::fs;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::common::{folder, run};
use crate::hostile::{BASE, NOTATIONS, PARTS};
use ravel_dns::Zone;
use ravel_serve::NameServer;

const RULES: &str = "site https://www.harbour.example/\n  alias harbour.example\ndomain harbour.example\n  host \
    site.host.example\n  address 192.0.2.44, 2001:db8:44::1\n  verification _proof \"p-1\"\n  zone harbour.zone\n";

struct Named(Child, u16);

impl Named {
    fn start(folder: &Path, zone: &Path) -> Named {
        let free = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
        let port = free.local_addr().unwrap().port();
        drop(free);
        let text = format!(
            "options {{ directory \"{0}\"; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }};\n\
             pid-file none; session-keyfile none; recursion no; check-names primary ignore; check-integrity no;\n\
             dnssec-validation no; minimal-responses yes; }};\n\
             controls {{ }};\nzone harbour.example {{ type primary; file \"{1}\"; }};\n",
            folder.display(),
            zone.display()
        );
        fs::write(folder.join("named.conf"), text).unwrap();
        let child = Command::new("named")
            .args(["-g", "-c"])
            .arg(folder.join("named.conf"))
            .stderr(Stdio::null())
            .spawn()
            .expect("named runs");
        let named = Named(child, port);
        for _ in 0..100 {
            if dig(port, &["harbour.example SOA".to_owned()]).contains("TYPE6") {
                return named;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        panic!("named does not answer");
    }
}

impl Drop for Named {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The answers to many questions, in the notation of RFC 3597, sorted.
fn dig(port: u16, questions: &[String]) -> String {
    let file = tempfile::NamedTempFile::new().unwrap();
    fs::write(file.path(), questions.join("\n")).unwrap();
    let run = Command::new("dig")
        .args(["@127.0.0.1", "-p", &port.to_string(), "+norecurse", "+noall", "+answer"])
        .args(["+unknownformat", "+tries=2", "+time=2", "-f"])
        .arg(file.path())
        .output()
        .expect("dig runs");
    String::from_utf8(run.stdout).unwrap()
}

fn tool(folder: &Path, name: &str, arguments: &[&str]) -> String {
    let run = Command::new(name).args(arguments).current_dir(folder).output().unwrap();
    let said = String::from_utf8_lossy(&[run.stdout, run.stderr].concat()).into_owned();
    assert!(run.status.success(), "{name} {arguments:?}: {said}");
    said
}

/// A zone of all notations is planned, written, served and asked: our server and `named` give the
/// same of what is written.
#[test]
#[ignore = "needs named and dig"]
fn what_is_written_is_served_as_named_serves_it() {
    let mut text = BASE.to_owned();
    let mut taken = 0;
    for (number, notation) in NOTATIONS.iter().enumerate() {
        // Each in a name of its own, so that none keeps another away.
        let one = format!("$ORIGIN n{number}\n{notation}\n$ORIGIN harbour.example.\n");
        let compiled =
            folder(&[("one.zone", &format!("{BASE}{one}")), PARTS[0], PARTS[1], PARTS[2]]);
        let checked = Command::new("named-checkzone")
            .args(["-i", "none", "-k", "ignore", "harbour.example", "one.zone"])
            .current_dir(compiled.path())
            .output()
            .expect("named-checkzone runs");
        // What only we can read is not asked.
        if checked.status.success() {
            text.push_str(&one);
            taken += 1;
        }
    }
    assert!(taken >= 60, "{taken}");
    let site =
        folder(&[("edge.ravel", RULES), ("harbour.zone", &text), PARTS[0], PARTS[1], PARTS[2]]);
    let (status, out, errors) = run(site.path(), &["domain", "write", "new.zone"], "");
    assert_eq!(status, 0, "{out}{errors}");
    let (status, out, errors) = run(site.path(), &["domain", "--zone", "new.zone"], "");
    assert!(out.contains("4 as needed") && !out.contains("to add"), "{status} {out}{errors}");

    let written = fs::read_to_string(site.path().join("new.zone")).unwrap();
    let read = |name: &str| fs::read(site.path().join(name));
    let zone = Zone::parse_with("harbour.example", &written, "", read).unwrap();
    let mut questions: Vec<String> = Vec::new();
    for record in zone.records().filter(|record| zone.origin().holds(record.name())) {
        // What is kept in a notation that is not known is answered with NOTIMP.
        if record.data().is_some() {
            questions.push(format!("{} TYPE{}", record.name().to_master(), record.kind().code()));
        }
    }
    questions.sort();
    questions.dedup();
    let named = Named::start(site.path(), &site.path().join("new.zone"));
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let at = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    let server = runtime.block_on(NameServer::bind(zone, at)).unwrap();
    let port = server.address().port();
    runtime.spawn(async move { server.run(std::future::pending()).await });
    let answers = |port| {
        let text = dig(port, &questions);
        let mut lines: Vec<String> = text
            .lines()
            .filter(|line| !line.starts_with(';') && !line.is_empty())
            .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase())
            .collect();
        lines.sort();
        lines.dedup();
        lines
    };
    let (ours, theirs) = (answers(port), answers(named.1));
    let only = |these: &[String], those: &[String]| -> Vec<String> {
        these.iter().filter(|line| !those.contains(line)).cloned().collect()
    };
    assert!(
        only(&ours, &theirs).is_empty() && only(&theirs, &ours).is_empty(),
        "ours alone: {:#?}\ntheirs alone: {:#?}",
        only(&ours, &theirs),
        only(&theirs, &ours)
    );
    assert!(theirs.len() > 90, "{}", theirs.len());
    println!("{taken} notations, {} questions, {} answers", questions.len(), theirs.len());
    // What is served is what is needed.
    let server = format!("127.0.0.1:{}", named.1);
    let (status, out, errors) = run(site.path(), &["domain", "ask", &server], "");
    assert_eq!(status, 0, "{out}{errors}");
}

/// A signed zone is changed, signed again, and validates.
#[test]
#[ignore = "needs named, delv and the tools that sign zones"]
fn a_signed_zone_that_is_written_is_signed_again_and_validates() {
    let zone = "$TTL 1h\n@ SOA ns1 host 1 2h 15m 2w 30m\n@ NS ns1\nns1 A 127.0.0.1\n@ A 203.0.113.80\n\
                www CNAME former.example.\n";
    let site = folder(&[("edge.ravel", RULES), ("plain.zone", zone)]);
    let at = site.path();
    let key =
        tool(at, "dnssec-keygen", &["-q", "-a", "ECDSAP256SHA256", "-f", "KSK", "harbour.example"]);
    let zone_key = tool(at, "dnssec-keygen", &["-q", "-a", "ECDSAP256SHA256", "harbour.example"]);
    let sign = |from: &str, to: &str| {
        let keys = [key.trim(), zone_key.trim()];
        tool(
            at,
            "dnssec-signzone",
            &["-q", "-S", "-o", "harbour.example", "-f", to, from, keys[0], keys[1]],
        )
    };
    sign("plain.zone", "harbour.zone");
    let (status, out, errors) = run(at, &["domain", "write", "new.zone"], "");
    assert!(status == 2 && errors.contains("sign it"), "{out}{errors}");
    let (status, out, errors) = run(at, &["domain", "write", "new.zone", "--unsigned"], "");
    assert_eq!(status, 0, "{out}{errors}");
    sign("new.zone", "signed.zone");
    let named = Named::start(at, &at.join("signed.zone"));
    let public = fs::read_to_string(at.join(format!("{}.key", key.trim()))).unwrap();
    let words: Vec<&str> =
        public.lines().find(|line| line.contains("DNSKEY")).unwrap().split_whitespace().collect();
    let anchor = format!(
        "trust-anchors {{ harbour.example. static-key {} {} {} \"{}\"; }};\n",
        words[3],
        words[4],
        words[5],
        words[6..].concat()
    );
    fs::write(at.join("anchor"), anchor).unwrap();
    let port = named.1.to_string();
    for (question, wanted) in
        [("harbour.example", "192.0.2.44"), ("www.harbour.example", "site.host.example.")]
    {
        let kind = if wanted.ends_with('.') { "CNAME" } else { "A" };
        let said = tool(
            at,
            "delv",
            &["@127.0.0.1", "-p", &port, "-a", "anchor", "+root=harbour.example", question, kind],
        );
        assert!(said.contains("; fully validated") && said.contains(wanted), "{said}");
    }
    // Without being signed again it does not.
    drop(named);
    let named = Named::start(at, &at.join("new.zone"));
    let port = named.1.to_string();
    let run = Command::new("delv")
        .args([
            "@127.0.0.1",
            "-p",
            &port,
            "-a",
            "anchor",
            "+root=harbour.example",
            "harbour.example",
            "A",
        ])
        .current_dir(at)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&[run.stdout, run.stderr].concat()).into_owned();
    assert!(!said.contains("fully validated"), "{said}");
}
