//! Hostile notations, read as BIND's `named-compilezone` reads them: values in wire form, and TTLs.

use std::collections::BTreeSet;
use std::fs;
use std::process::Command;

use ravel_dns::Zone;

const BASE: &str = "$TTL 1h\n@ IN SOA ns1 host 1 2h 15m 2w 30m\n@ NS ns1\nns1 A 192.0.2.53\n";

/// Each is a line of its own behind the base.
const NOTATIONS: [&str; 115] = [
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
    r#"x AFSDB 1 a"#,
    r#"x KX 1 a"#,
    r#"x X25 311061700956"#,
    r#"x ISDN "150" "004""#,
    r#"x RT 1 a"#,
    r#"x PX 1 a b"#,
    r#"x SPF "v=spf1 -all""#,
    r#"x EUI48 00-00-5e-00-53-2a"#,
    r#"x DHCID AAIBY2/AuCccgoJbsaxcQc9TUapptP69lOjxfNuVAA2kjEA="#,
    r#"x NID 10 0014:4fff:ff20:ee64"#,
    r#"x L32 10 192.0.2.1"#,
    r#"x L64 10 2001:0db8:1140:1000"#,
    r#"x LP 10 a"#,
    r#"x HTTPS 1 . alpn="h2,h3" port=443"#,
    r#"x HTTPS 1 . ipv4hint=192.0.2.1,192.0.2.2"#,
    r#"x MINFO a b"#,
    r#"x GPOS 1.5 2 3"#,
    r#"x.other.example. A 192.0.2.1"#,
    "$GENERATE 1-3 g$ A 192.0.2.$",
    "$GENERATE 0-8/4 g$ 300 IN A 192.0.2.$",
    "$GENERATE 1-2 g${10} CNAME t${0,3}",
    "$GENERATE 9-10 g${0,4,x} TXT \"n ${0,2,X} o ${0,3,o}\"",
    "$GENERATE 18-19 ${0,4,n}.r CNAME x",
    "$GENERATE 18-19 ${0,3,n}.r CNAME x",
    "$GENERATE 171-171 ${0,8,N}.r CNAME x",
    "$GENERATE 1-2 g$$ A 192.0.2.1",
    "$GENERATE 1-2 g\\$ A 192.0.2.1",
    "$GENERATE 5-6 g${-5} A 192.0.2.$",
    "$GENERATE 1-2 g$ MX 10 m$",
    "$GENERATE 1-2 g$ MX \"10 m$\"",
    "$GENERATE 1-2 g$ TXT \"\\\"a $\\\" b\"",
    "$GENERATE 1-2 g$ A 192.0.2.$\n 60 TXT before",
    "$GENERATE 2-1 g$ A 192.0.2.1",
    "$GENERATE 1-2/0 g$ A 192.0.2.1",
    "$GENERATE 1-2 g${x} A 192.0.2.1",
    "$INCLUDE part.zone",
    "$INCLUDE part.zone sub",
    "$INCLUDE part.zone sub\nafter A 192.0.2.7\n A 192.0.2.8",
    "$INCLUDE ttl.zone\nafter A 192.0.2.7",
    "$INCLUDE nothing.zone",
];

/// The files that are included.
const PARTS: [(&str, &str); 3] = [
    (
        "part.zone",
        "p A 192.0.2.1\n AAAA 2001:db8::1\n$ORIGIN deep\nq CNAME p\n$INCLUDE inner.zone\n",
    ),
    ("inner.zone", "i 5m TXT \"inner\"\n"),
    ("ttl.zone", "$TTL 2h\nt A 192.0.2.1\n"),
];

/// A zone, with what it includes.
fn zone(text: &str) -> Result<Zone, String> {
    let read = |name: &str| {
        let part = PARTS.iter().find(|(part, _)| *part == name);
        part.map(|(_, text)| text.as_bytes().to_vec()).ok_or("no such file")
    };
    Zone::parse_with("harbour.example", text, "", read).map_err(|error| error.to_string())
}

/// The records of a zone in wire form; what has a notation that is not known is left out.
fn records(text: &str) -> Result<BTreeSet<String>, String> {
    let zone = zone(text)?;
    // A name server passes over what is not in the zone.
    let line = |record: &ravel_dns::zone::Record| {
        zone.origin().holds(record.name()).then_some(())?;
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
        let Ok(zone) = zone(&format!("{BASE}{notation}\n")) else { continue };
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
    for (name, text) in PARTS {
        fs::write(folder.join(name), text).unwrap();
    }
    let [file, compiled] = ["in.zone", "out.zone"].map(|name| folder.join(name));
    let (mut same, mut refused) = (0, 0);
    for notation in NOTATIONS {
        fs::write(&file, format!("{BASE}{notation}\n")).unwrap();
        let run = Command::new("named-compilezone")
            .current_dir(&folder)
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
    assert!(same >= 100);
}

/// What a directive stands for is written as the directive until one of its records changes, and
/// then as records; all others stay as they are.
#[test]
fn directives_are_written_out_where_their_records_change() {
    use ravel_dns::zone::{Change, Changes, NewRecord, Record, RecordType};

    let text = format!(
        "{BASE}one A 192.0.2.4\n$GENERATE 1-2 g$ 60 A 192.0.2.$ ; berths\n TXT still-one\n$INCLUDE part.zone sub\n\
         last LOC 1 0 0 N 2 0 0 E 0m\n"
    );
    let zone = zone(&text).unwrap();
    let key = |record: &Record| {
        (record.name().to_string(), record.kind(), record.ttl(), record.data().cloned())
    };
    let records: Vec<_> = zone.records().map(key).collect();
    let added =
        NewRecord::new("new.harbour.example".parse().unwrap(), 9, RecordType::A, "192.0.2.99");
    for number in 0..records.len() {
        if records[number].1 == RecordType::SOA {
            continue;
        }
        for change in [Change::Remove, Change::Set { ttl: Some(7), data: None }] {
            let mut changes = Changes::default();
            changes.change(number as u32, change.clone());
            changes.add(added.clone());
            let written = zone.with(&changes);
            let mut wanted = records.clone();
            match change {
                Change::Remove => drop(wanted.remove(number)),
                Change::Set { .. } => wanted[number].2 = 7,
            }
            wanted.retain(|record| record.1 != RecordType::SOA);
            let again = zone.changed(&changes);
            let mut found: Vec<_> = again.records().map(key).collect();
            found.retain(|record| record.1 != RecordType::SOA && !record.0.starts_with("new."));
            assert_eq!(found, wanted, "{number} {change:?}: {written}");
            assert_eq!((again.records().len(), again.serial()), (wanted.len() + 2, 2), "{written}");
            let is_in = |name: &str| records[number].0.starts_with(name);
            assert_eq!(written.contains("\n$GENERATE"), !is_in("g"), "{written}");
            assert_eq!(
                written.contains("\n$INCLUDE"),
                !records[number].0.contains("sub.harbour"),
                "{written}"
            );
        }
    }
    assert_eq!(zone.with(&Changes::default()), text);
}
