//! Zone files: what is read, what is refused and where, what is answered, and what changes leave as
//! it stood.

use proptest::prelude::*;
use ravel_dns::Zone;
use ravel_dns::zone::{Change, Changes, Lookup, Name, NewRecord, Record, RecordType};

const SOA: &str = "@ 3600 IN SOA ns1 hostmaster 7 7200 900 1209600 600\n";

fn zone(body: &str) -> Zone {
    Zone::parse("harbour.example", &format!("{SOA}{body}"))
        .unwrap_or_else(|error| panic!("{error}\n{body}"))
}

fn name(text: &str) -> Name {
    text.parse().unwrap()
}

/// A record in one line: name, life, type, data.
fn line(record: &Record) -> String {
    let data = record.data().as_ref().map_or("?".to_owned(), ToString::to_string);
    format!("{} {} {} {data}", record.name(), record.ttl(), record.kind())
}

#[test]
fn the_notations_of_master_files_are_read() {
    let cases: &[(&str, &[&str])] = &[
        ("www 60 IN A 192.0.2.1", &["www.harbour.example 60 A 192.0.2.1"]),
        ("www IN 60 A 192.0.2.1", &["www.harbour.example 60 A 192.0.2.1"]),
        ("www in a 192.0.2.1 ; no TTL", &["www.harbour.example 3600 A 192.0.2.1"]),
        ("www CLASS1 TYPE1 \\# 4 C0000201", &["www.harbour.example 3600 A 192.0.2.1"]),
        ("WWW.Harbour.Example. 1h30m A 192.0.2.1", &["WWW.Harbour.Example 5400 A 192.0.2.1"]),
        (
            "a 5 A 192.0.2.1\n  A 192.0.2.2\n\tAAAA 2001:db8::1",
            &[
                "a.harbour.example 5 A 192.0.2.1",
                "a.harbour.example 5 A 192.0.2.2",
                "a.harbour.example 5 AAAA 2001:db8::1",
            ],
        ),
        (
            "$TTL 2d\n@ MX ( 10\n ; a comment\n mail ) ; another\n",
            &["harbour.example 172800 MX 10 mail.harbour.example."],
        ),
        (
            "$ORIGIN sub\nx CNAME y\n$ORIGIN other.harbour.example.\n@ CNAME x.",
            &[
                "x.sub.harbour.example 3600 CNAME y.sub.harbour.example.",
                "other.harbour.example 3600 CNAME x.",
            ],
        ),
        (
            "t TXT plain \"two words; and \\\"more\\\"\" \"\\200\\092\"",
            &["t.harbour.example 3600 TXT \"plain\" \"two words; and \\\"more\\\"\" \"\\200\\\\\""],
        ),
        (
            "@ CAA 128 issue \"authority.example; account=7\"",
            &["harbour.example 3600 CAA 128 issue \"authority.example; account=7\""],
        ),
        (
            "_sip._tcp SRV 10 5 5060 phone",
            &["_sip._tcp.harbour.example 3600 SRV 10 5 5060 phone.harbour.example."],
        ),
        ("*.preview CNAME host.example.", &["*.preview.harbour.example 3600 CNAME host.example."]),
        ("x TYPE65280 \\# 3 0a0b 0c", &["x.harbour.example 3600 TYPE65280 \\# 3 0A0B0C"]),
        ("x LOC 53 0 0.000 N 8 0 0.000 E 0.00m", &["x.harbour.example 3600 TYPE29 ?"]),
        ("a\\.b A 192.0.2.9", &["a\\.b.harbour.example 3600 A 192.0.2.9"]),
        ("\r\nwww A 192.0.2.1\r\n", &["www.harbour.example 3600 A 192.0.2.1"]),
    ];
    for (body, expected) in cases {
        let zone = zone(body);
        let found: Vec<String> = zone.records().skip(1).map(line).collect();
        let expected: Vec<String> = expected.iter().map(|line| (*line).to_owned()).collect();
        let plain =
            |lines: &[String]| lines.iter().map(|line| line.to_uppercase()).collect::<Vec<_>>();
        assert_eq!(plain(&found), plain(&expected), "{body}");
    }
}

#[test]
fn what_is_no_zone_is_refused_with_its_line() {
    let cases = [
        ("www A 192.0.2", "line 2: expected an IPv4 address, found `192.0.2`"),
        ("www AAAA 192.0.2.1", "line 2: expected an IPv6 address, found `192.0.2.1`"),
        ("www A", "line 2: expected an IPv4 address, found the end of the record"),
        ("www A 192.0.2.1 192.0.2.2", "line 2: expected the end of the record, found `192.0.2.2`"),
        ("www CNMAE x", "line 2: expected a type such as `A` or `CNAME`, found `CNMAE`"),
        (
            "www 60 IN",
            "line 2: expected a type such as `A` or `CNAME`, found the end of the record",
        ),
        ("@ MX mail", "line 2: expected a preference and a name, found the end of the record"),
        ("@ MX ten mail", "line 2: expected a preference and a name, found `ten`"),
        ("@ CAA x issue \";\"", "line 2: expected flags, a tag and a value, found `x`"),
        ("@ URI 1 2", "line 2: expected data of its type, found the end of the record"),
        ("@ AFSDB one x", "line 2: expected data of its type, found `one`"),
        ("@ L32 10 192.0.2.1 x", "line 2: expected data of its type, found `x`"),
        ("@ SRV 1 2 mail x", "line 2: expected priority, weight, port and a name, found `mail`"),
        (
            "@ TXT \"open\nx A 192.0.2.1",
            "line 2: this quote is not closed on its line; close it, and write `\\\"` for a quote inside",
        ),
        ("\n@ MX ( 10 mail\n", "line 3: unclosed `(`; write `)` where the record ends"),
        (
            "@ MX 10 mail )",
            "line 2: unbalanced `)`; remove it, or write `(` where the record begins",
        ),
        (
            "$INCLUDE other.zone",
            "line 2: cannot read `other.zone`, which is included here: nothing reads files here",
        ),
        (
            "$INCLDUE other.zone",
            "line 2: `$INCLDUE` is no directive; there are `$ORIGIN`, `$TTL`, `$INCLUDE` and `$GENERATE`",
        ),
        ("$INCLUDE", "line 2: expected the name of a file, found the end of the record"),
        (
            "$GENERATE 1-9/0 a$ A 192.0.2.$",
            "line 2: expected a range as in `1-10` or `0-254/2`, found `1-9/0`",
        ),
        (
            "$GENERATE 1-9 a$ MX 10 m$",
            "line 2: expected the end of the line (data of several words is one in quotes), found `m$`",
        ),
        (
            "$GENERATE 250-260 a$ A 192.0.2.$",
            "line 2: expected an IPv4 address, found `192.0.2.256`",
        ),
        (
            "$GENERATE 0-99999 a$ A 192.0.2.1",
            "line 2: with this line `$GENERATE` stands for 100000 records; at most 65536 are read so",
        ),
        ("$TTL soon", "line 2: expected a TTL in seconds, found `soon`"),
        ("$TTL", "line 2: expected a TTL in seconds, found the end of the record"),
        ("$ORIGIN a. b", "line 2: expected the end of the line, found `b`"),
        ("www CH A 192.0.2.1", "line 2: the class `CH` is not supported; write `IN`"),
        (
            "@ SOA ns1 hostmaster 7 7200 900 1209600 600",
            "line 2: this is a second SOA record; a zone has one",
        ),
        (
            "x TYPE65280 \\# 3 0a0b",
            "line 2: expected `\\#`, a length and as many bytes in hexadecimal, found `\\#`",
        ),
    ];
    for (body, expected) in cases {
        let found = Zone::parse("harbour.example", &format!("{SOA}{body}")).unwrap_err();
        assert_eq!(found.to_string(), expected, "{body}");
    }
    let whole = [
        ("", "line 1: the zone has no SOA record; export it whole from the DNS host"),
        (
            "  A 192.0.2.1",
            "line 1: this record has no name, and there is none before it; begin the line with a name or `@`",
        ),
        (
            "www A 192.0.2.1",
            "line 1: expected a TTL in seconds (here, or in `$TTL` above), found `A`",
        ),
        (
            "other.example. 60 SOA a b 1 2 3 4 5",
            "line 1: this is the zone of `other.example`, and `harbour.example` was meant",
        ),
    ];
    for (text, expected) in whole {
        assert_eq!(
            Zone::parse("harbour.example", text).unwrap_err().to_string(),
            expected,
            "{text}"
        );
    }
}

#[test]
fn questions_are_answered_as_a_name_server_does() {
    let zone = zone(
        "@ A 192.0.2.1\nwww CNAME @\n*.wild A 192.0.2.2\nown.wild TXT x\na.deep.down A 192.0.2.3\n\
         sub NS ns.sub\nns.sub A 192.0.2.4\n",
    );
    let cases = [
        ("harbour.example", RecordType::A, "192.0.2.1"),
        ("HARBOUR.example", RecordType::A, "192.0.2.1"),
        ("harbour.example", RecordType::AAAA, "no data"),
        ("www.harbour.example", RecordType::A, "alias harbour.example"),
        ("www.harbour.example", RecordType::CNAME, "harbour.example."),
        ("x.wild.harbour.example", RecordType::A, "192.0.2.2"),
        ("x.y.wild.harbour.example", RecordType::A, "192.0.2.2"),
        ("x.wild.harbour.example", RecordType::TXT, "no data"),
        ("own.wild.harbour.example", RecordType::A, "no data"),
        ("wild.harbour.example", RecordType::A, "no data"),
        ("down.harbour.example", RecordType::A, "no data"),
        ("x.down.harbour.example", RecordType::A, "no name"),
        ("x.harbour.example", RecordType::A, "no name"),
        ("sub.harbour.example", RecordType::A, "delegated"),
        ("x.sub.harbour.example", RecordType::A, "delegated"),
        ("ns.sub.harbour.example", RecordType::A, "delegated"),
        ("other.example", RecordType::A, "no name"),
    ];
    for (asked, kind, expected) in cases {
        let found = match zone.lookup(&name(asked), kind) {
            Lookup::Records(records) => {
                records.iter().map(|record| record.data().as_ref().unwrap().to_string()).collect()
            }
            Lookup::Alias(_, target) => format!("alias {target}"),
            Lookup::Delegated(_) => "delegated".to_owned(),
            Lookup::NoData => "no data".to_owned(),
            Lookup::NoName => "no name".to_owned(),
        };
        assert_eq!(found, expected, "{asked} {kind}");
    }
    assert_eq!(zone.negative_ttl(), 600);
}

/// A record as text, in one of many notations; a blank name stands for the one before.
fn written() -> impl Strategy<Value = String> {
    let names = prop::sample::select(vec![
        "",
        "",
        "@",
        "www",
        "a.b",
        "*.w",
        "_x",
        "HARBOUR.EXAMPLE.",
        "c\\.d",
        "\\065",
    ]);
    let lives = prop::sample::select(vec!["", "", "60", "1h", "2d12h", "0"]);
    let classes = prop::sample::select(vec!["", "IN", "in", "CLASS1"]);
    let data = prop::sample::select(vec![
        "A 192.0.2.7",
        "a 203.0.113.8",
        "AAAA 2001:db8::7",
        "CNAME elsewhere.example.",
        "CNAME @",
        "MX 10 mail",
        "MX ( 10\n\tmail.example. ) ; in brackets",
        "TXT \"one; two\" three",
        "TXT (\"a\" ; why\n \"b\\\"\\;\\003\")",
        "CAA 0 issue \";\"",
        "SRV 1 2 3 srv",
        "NS ns.example.",
        "TYPE65280 \\# 2 BEEF",
        "LOC 1 0 0 N 2 0 0 E 0m",
    ]);
    (
        names,
        lives,
        classes,
        data,
        any::<bool>(),
        prop::sample::select(vec!["", " ; a comment", "\t"]),
    )
        .prop_map(|(name, life, class, data, life_first, end)| {
            let (one, two) = if life_first { (life, class) } else { (class, life) };
            format!("{name}\t{one} {two} {data}{end}")
        })
}

/// A zone in text: an SOA in some notation, then records, directives, comments and blank lines.
fn text() -> impl Strategy<Value = String> {
    let soa = prop::sample::select(vec![
        SOA.to_owned(),
        "; first\n@ SOA ns1 host ( 4294967295 ; serial\n 2h 15m 2w\n 10m )\n".to_owned(),
        "$TTL 1d\nharbour.example. IN SOA ns1 host 1 2 3 4 5\n".to_owned(),
    ]);
    let other = prop::sample::select(vec![
        "",
        "; a comment",
        "$TTL 5m",
        "$ORIGIN sub",
        "$ORIGIN harbour.example.",
        "   ",
    ]);
    let line = prop_oneof![6 => written(), 1 => other.prop_map(str::to_owned)];
    (
        soa,
        prop::collection::vec(line, 0..14),
        prop::sample::select(vec!["\n", "\r\n"]),
        any::<bool>(),
    )
        .prop_map(|(soa, lines, end, last)| {
            let mut text = soa.replace('\n', end);
            text.push_str(&lines.join("\n").replace('\n', end));
            if last {
                text.push_str(end);
            }
            text
        })
}

/// What becomes of each record, and what is added.
fn changes() -> impl Strategy<Value = (Vec<u8>, Vec<(usize, u32)>)> {
    (
        prop::collection::vec(0..8u8, 16),
        prop::collection::vec((0..5usize, prop::sample::select(vec![60, 300, 3600])), 0..3),
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4_000))]

    #[test]
    fn a_change_is_that_change_alone(text in text(), (fates, added) in changes()) {
        let zone = Zone::parse("harbour.example", &text).unwrap();
        let mut expected: Vec<String> = Vec::new();
        let mut changes = Changes::default();
        for (number, record) in (0..).zip(zone.records()) {
            let fate = if number == 0 { 7 } else { fates[number as usize % fates.len()] };
            let mut ttl = record.ttl();
            let mut said = line(record);
            match fate {
                0 => {
                    changes.change(number, Change::Remove);
                    continue;
                }
                1 => {
                    ttl = 77;
                    changes.change(number, Change::Set { ttl: Some(77), data: None });
                }
                2 if record.kind() == RecordType::A => {
                    let data = "198.51.100.9".to_owned();
                    changes.change(number, Change::Set { ttl: None, data: Some(data.clone()) });
                    said = format!("{} {} A {data}", record.name(), record.ttl());
                }
                _ => {}
            }
            expected.push(said.replacen(&format!(" {} ", record.ttl()), &format!(" {ttl} "), 1));
        }
        for (owner, ttl) in added {
            let owner = ["harbour.example", "www.harbour.example", "new.harbour.example", "*.w.harbour.example", "x.sub.harbour.example"][owner];
            changes.add(NewRecord::new(name(owner), ttl, RecordType::A, "192.0.2.200"));
            expected.push(format!("{owner} {ttl} A 192.0.2.200"));
        }
        let after = zone.changed(&changes);
        let soa = |line: &str, serial: u32| line.replacen(&format!(" {serial} "), " SERIAL ", 1);
        let mut found: Vec<String> = after.records().map(line).collect();
        found[0] = soa(&found[0], after.serial());
        expected[0] = soa(&expected[0], zone.serial());
        let lower = |mut lines: Vec<String>| { lines.iter_mut().for_each(|line| *line = line.to_lowercase()); lines.sort(); lines };
        prop_assert_eq!(lower(found), lower(expected), "{}\n--- became\n{}", text, after.text());
        let raised = if changes.is_empty() { zone.serial() } else { zone.serial().wrapping_add(1) };
        prop_assert_eq!(after.serial(), raised);
        if changes.is_empty() {
            prop_assert_eq!(after.text(), text);
        } else {
            let comments = |text: &str| text.lines().filter(|line| line.starts_with(';')).map(str::to_owned).collect::<Vec<_>>();
            prop_assert_eq!(comments(after.text()), comments(&text));
        }
    }

    /// Any text is refused with a line of it, or read: then it is kept to the byte, and each name of
    /// it is found.
    #[test]
    fn any_text_is_read_or_refused(text in "[ -~\n\t\"();\\\\$@]{0,120}") {
        for text in [text.clone(), format!("{SOA}{text}")] {
            match Zone::parse("harbour.example", &text) {
                Err(error) => prop_assert!((1..=text.lines().count() as u32 + 1).contains(&error.line()), "{error} in {text:?}"),
                Ok(zone) => {
                    let same = zone.changed(&Changes::default());
                    prop_assert_eq!(same.text(), text);
                    for record in zone.records() {
                        prop_assert!(zone.of(record.name()).any(|known| known.kind() == record.kind()));
                    }
                }
            }
        }
    }
}
