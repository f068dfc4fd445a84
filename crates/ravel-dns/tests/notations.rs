//! Hostile notations, read as BIND's `named-compilezone` reads them: values in wire form, and TTLs.

use std::collections::BTreeSet;
use std::fs;
use std::process::Command;

use ravel_dns::Zone;

const BASE: &str = "$TTL 1h\n@ IN SOA ns1 host 1 2h 15m 2w 30m\n@ NS ns1\nns1 A 192.0.2.53\n";

/// Each is a line of its own behind the base.
const NOTATIONS: [&str; 75] = [
    r#"a_b A 192.0.2.1"#,
    r#"_x._y TXT "t""#,
    r#"a/b A 192.0.2.1"#,
    r#"a+b A 192.0.2.1"#,
    r#"a\.b A 192.0.2.1"#,
    r#"a\046b A 192.0.2.1"#,
    r#"a\032b A 192.0.2.1"#,
    r#"A.B.C A 192.0.2.1"#,
    r#"* A 192.0.2.1"#,
    r#"*.w A 192.0.2.1"#,
    r#"x 300 IN A 192.0.2.1"#,
    r#"x IN 300 A 192.0.2.1"#,
    r#"x 1h30m A 192.0.2.1"#,
    r#"x 1H A 192.0.2.1"#,
    r#"x 1w2d3h4m5s A 192.0.2.1"#,
    r#"x A ( 192.0.2.1 )"#,
    r#"x ( A 192.0.2.1 )"#,
    r#"x TXT ( "a" "b" )"#,
    r#"x TXT ( ( "a" ) "b" )"#,
    r#"x TXT "a;b" ; c"#,
    r#"x TXT a\;b"#,
    r#"x TXT "a\"b""#,
    r#"x TXT "a\\b""#,
    r#"x TXT "\065\066""#,
    r#"x TXT abc"#,
    r#"x TXT "" """#,
    r#"x TXT "a"b"#,
    r#"x TXT a"b""#,
    r#"x MX 10 @"#,
    r#"x MX 10 mail.other.example."#,
    r#"x MX 010 mail"#,
    r#"x CNAME @"#,
    r#"x CNAME a\.b.c"#,
    r#"x CNAME ."#,
    r#"x PTR x.y."#,
    r#"x SRV 1 2 3 ."#,
    r#"x CAA 0 issue "ca.example""#,
    r#"x CAA 128 iodef "mailto:a@b.example""#,
    r#"x CAA 0 issue ca.example"#,
    r#"x AAAA 2001:DB8::1"#,
    r#"x AAAA ::ffff:192.0.2.1"#,
    r#"x A 192.0.2.001"#,
    r#"x TYPE1 \# 4 C0000201"#,
    r#"x A \# 4 C0000201"#,
    r#"x TYPE65280 \# 3 ab cd ef"#,
    r#"x TYPE65280 \# 0"#,
    r#"x CLASS1 A 192.0.2.1"#,
    r#"x in a 192.0.2.1"#,
    r#"x A 192.0.2.1;c"#,
    r#"x	A	192.0.2.1"#,
    r#"X A 192.0.2.1"#,
    r#"x HTTPS 0 other.example."#,
    r#"x SVCB 1 svc port=8443"#,
    r#"x DNAME other.example."#,
    r#"x NAPTR 100 10 "u" "E2U+sip" "!^.*$!sip:i@h.example!" ."#,
    r#"x DS 12345 13 2 0000000000000000000000000000000000000000000000000000000000000000"#,
    r#"x DNSKEY 257 3 13 AAAA"#,
    r#"x SSHFP 1 1 123456789abcdef67890123456789abcdef67890"#,
    r#"x TLSA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000"#,
    r#"x LOC 1 0 0 N 2 0 0 E 0m"#,
    r#"x HINFO "a" "b""#,
    r#"x RP a b"#,
    r#"x 0 A 192.0.2.1"#,
    r#"x 2147483647 A 192.0.2.1"#,
    r#"x URI 10 1 "ftp://x.example""#,
    r#"x OPENPGPKEY AAAA"#,
    r#"x TXT "tab	in""#,
    r#"x CNAME a/b.c"#,
    r#"x MX 10 a\046b"#,
    r#"x NS a+b.other.example."#,
    r#"x SRV 1 2 3 a\.b"#,
    r#"a\"b A 192.0.2.1"#,
    r#"a\;b A 192.0.2.1"#,
    r#"\@ A 192.0.2.1"#,
    r#"x TXT ( ( ( "a" ) ) )"#,
];

/// The records of a zone in wire form; what has a notation that is not known is left out.
fn records(text: &str) -> Result<BTreeSet<String>, String> {
    let zone = Zone::parse("harbour.example", text).map_err(|error| error.to_string())?;
    let line = |record: &ravel_dns::zone::Record| {
        let data = record.data()?.to_wire();
        let name = record.name().to_master().to_lowercase();
        Some(format!("{name} {} {} {data:02x?}", record.ttl(), record.kind()))
    };
    Ok(zone.records().filter_map(line).collect())
}

/// Zones that are written are read as what they were read from.
#[test]
fn names_and_data_outlive_being_written() {
    for notation in NOTATIONS {
        let Ok(zone) = Zone::parse("harbour.example", &format!("{BASE}{notation}\n")) else {
            continue;
        };
        for record in zone.records() {
            let name = record.name().to_master();
            assert_eq!(name.parse().as_ref(), Ok(record.name()), "{notation}");
            let Some(data) = record.data() else { continue };
            let text = format!("{BASE}y {} {} {data}\n", record.ttl(), record.kind());
            if record.kind() == ravel_dns::zone::RecordType::SOA {
                continue;
            }
            let again = Zone::parse("harbour.example", &text)
                .unwrap_or_else(|error| panic!("{error}: {text}"));
            let last = again.records().last().unwrap();
            assert_eq!(last.data(), Some(data), "{notation}: {text}");
        }
    }
}

#[test]
#[ignore = "needs named-compilezone"]
fn notations_are_read_as_a_name_server_reads_them() {
    let folder = std::env::temp_dir().join(format!("ravel-notations-{}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    let [file, compiled] = ["in.zone", "out.zone"].map(|name| folder.join(name));
    let (mut same, mut refused) = (0, 0);
    for notation in NOTATIONS {
        fs::write(&file, format!("{BASE}{notation}\n")).unwrap();
        let run = Command::new("named-compilezone")
            .args(["-i", "none", "-k", "ignore", "-f", "text", "-F", "text", "-s", "full", "-o"])
            .args([&compiled])
            .arg("harbour.example")
            .arg(&file)
            .output()
            .expect("named-compilezone runs");
        let ours = records(&format!("{BASE}{notation}\n"));
        if !run.status.success() {
            assert!(
                ours.is_err(),
                "{notation} is refused: {}",
                String::from_utf8_lossy(&run.stdout)
            );
            refused += 1;
            continue;
        }
        let theirs = records(&fs::read_to_string(&compiled).unwrap());
        assert_eq!(ours, theirs, "{notation}");
        same += 1;
    }
    fs::remove_dir_all(&folder).unwrap();
    println!("{same} read alike, {refused} refused alike");
    assert!(same >= 60);
}
