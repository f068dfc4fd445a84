//! The small name server, and the questions that name servers are asked: real packets over
//! loopback.

use std::net::SocketAddr;
use std::process::Command;

use ravel::Rules;
use ravel_dns::{Requirement, Zone};
use ravel_serve::{NameServer, ServerAnswer, ask};
use tokio::sync::oneshot;

const RULES: &str = "site https://harbour.example/\n  alias www.harbour.example, mail.harbour.example\n  preview *.preview.harbour.example\n\
    domain harbour.example\n  host site.host.example\n  address 192.0.2.44\n  verification _edge-proof \"p-1\"\n  nameservers ns1.dns.example\n";

fn zone() -> Zone {
    let long: String = (0..90).map(|number| format!("many TXT \"{:->60}\"\n", number)).collect();
    let text = format!(
        "$TTL 1h\n@ SOA ns1.dns.example. host 7 7200 900 1209600 600\n@ NS ns1.dns.example.\n@ 60 A 192.0.2.44\n@ MX 10 mail\n\
         www CNAME former.host.example.\nmail A 203.0.113.25\n*.preview 300 CNAME site.host.example.\nback CNAME @\n\
         sub NS ns.sub\nround CNAME again\nagain CNAME round\nodd TYPE65280 \\# 2 BEEF\nplace LOC 1 0 0 N 2 0 0 E 0m\n{long}"
    );
    Zone::parse("harbour.example", &text).unwrap()
}

/// A server that answers until the sender is dropped.
async fn serving() -> (SocketAddr, oneshot::Sender<()>, tokio::task::JoinHandle<std::io::Result<()>>)
{
    let server = NameServer::bind(zone(), ([127, 0, 0, 1], 0).into()).await.unwrap();
    let (end, ended) = oneshot::channel();
    let address = server.address();
    (address, end, tokio::spawn(server.run(async move { drop(ended.await) })))
}

fn in_words(said: &ServerAnswer) -> String {
    match said {
        ServerAnswer::Records(records) => records
            .iter()
            .map(|(data, ttl)| format!("{} {} {ttl}", data.record_type(), data))
            .collect::<Vec<_>>()
            .join(", "),
        ServerAnswer::NoName => "no such name".to_owned(),
        ServerAnswer::Refused(why) => why.clone(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn servers_are_asked_what_is_wanted() {
    let (address, end, running) = serving().await;
    let rules = Rules::parse(RULES).unwrap();
    let wanted = Requirement::of(rules.site(), &rules.domains()[0]);
    let asked = ask(address, &wanted).await;
    let said = asked.said().as_ref().unwrap();
    let found: Vec<String> = wanted
        .iter()
        .zip(said)
        .map(|(wanted, said)| format!("{} {}: {}", wanted.host(), wanted.kind(), in_words(said)))
        .collect();
    assert_eq!(
        found,
        [
            "harbour.example A: A 192.0.2.44 60",
            "harbour.example AAAA: ",
            "www.harbour.example CNAME: CNAME former.host.example. 3600",
            "mail.harbour.example CNAME: A 203.0.113.25 3600",
            "*.preview.harbour.example CNAME: CNAME site.host.example. 300",
            "_edge-proof.harbour.example TXT: no such name",
            "harbour.example NS: NS ns1.dns.example. 3600",
        ]
    );
    drop(end);
    running.await.unwrap().unwrap();
    // Nobody answers there any more, and that is said in time.
    let silent = ask(address, &wanted).await;
    assert!(silent.said().is_err(), "{silent:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_fit_a_datagram_comes_over_tcp() {
    let (address, _end, _running) = serving().await;
    let rules = Rules::parse(&RULES.replace("_edge-proof", "many")).unwrap();
    let wanted: Vec<Requirement> = Requirement::of(rules.site(), &rules.domains()[0])
        .into_iter()
        .filter(|wanted| wanted.others())
        .collect();
    let asked = ask(address, &wanted).await;
    let said = asked.said().as_ref().unwrap();
    let ServerAnswer::Records(records) = &said[0] else { panic!("{said:?}") };
    assert_eq!(records.len(), 90);
}

/// `dig`, as people use it, on what the zone holds.
#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs dig"]
async fn dig_reads_the_small_server() {
    let (address, _end, _running) = serving().await;
    let dig = |arguments: &str| {
        let output = Command::new("dig")
            .args([
                "@127.0.0.1",
                "-p",
                &address.port().to_string(),
                "+norecurse",
                "+time=2",
                "+tries=1",
            ])
            .args(arguments.split(' '))
            .output()
            .expect("dig runs");
        String::from_utf8(output.stdout).unwrap()
    };
    let cases = [
        (
            "harbour.example A",
            &["status: NOERROR", "flags: qr aa", "harbour.example.\t60\tIN\tA\t192.0.2.44"][..],
        ),
        ("HARBOUR.example A +tcp", &["192.0.2.44"]),
        ("harbour.example AAAA", &["status: NOERROR", "ANSWER: 0", "SOA\tns1.dns.example."]),
        ("nothing.harbour.example A", &["status: NXDOMAIN", "600\tIN\tSOA"]),
        (
            "a.preview.harbour.example A",
            &["a.preview.harbour.example. 300 IN\tCNAME\tsite.host.example."],
        ),
        ("back.harbour.example A", &["CNAME\tharbour.example.", "60\tIN\tA\t192.0.2.44"]),
        (
            "x.sub.harbour.example A",
            &["AUTHORITY: 1", "sub.harbour.example.\t3600\tIN\tNS\tns.sub.harbour.example."],
        ),
        ("round.harbour.example A", &["status: SERVFAIL"]),
        ("odd.harbour.example TYPE65280", &["\\# 2 BEEF"]),
        ("place.harbour.example LOC", &["status: NOTIMP"]),
        ("other.example A", &["status: REFUSED"]),
        ("harbour.example A -c CH", &["status: REFUSED"]),
        ("many.harbour.example TXT +ignore +noedns", &["flags: qr aa tc"]),
        ("many.harbour.example TXT", &["ANSWER: 90"]),
    ];
    for (arguments, expected) in cases {
        let out = dig(arguments);
        for text in expected {
            let plain = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
            assert!(plain(&out).contains(&plain(text)), "dig {arguments}: no {text:?} in\n{out}");
        }
    }
}
