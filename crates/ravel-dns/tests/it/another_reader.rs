//! Zones held against another reader of them, that of `hickory-proto`: what both read holds the same
//! records.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};

use hickory_proto::rr::Name;
use hickory_proto::serialize::binary::BinEncodable;
use hickory_proto::serialize::txt::Parser;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use ravel_dns::Zone;
use ravel_dns::zone::{RecordData, RecordType};

const ORIGIN: &str = "harbour.example";

/// The records of a zone, each in one line.
fn ours(text: &str) -> Result<BTreeSet<String>, String> {
    let zone = Zone::parse(ORIGIN, text).map_err(|error| error.to_string())?;
    let lines = zone.records().map(|record| {
        let data = record.data().as_ref().map_or("?".to_owned(), ToString::to_string);
        format!(
            "{} {} {} {data}",
            record.name().to_string().to_lowercase(),
            record.ttl(),
            record.kind()
        )
    });
    Ok(lines.collect())
}

fn theirs(text: &str) -> Result<BTreeSet<String>, String> {
    let origin = Name::from_ascii(format!("{ORIGIN}.")).unwrap();
    let (_, sets) =
        Parser::new(text, None, Some(origin)).parse().map_err(|error| error.to_string())?;
    let records = sets.values().flat_map(|set| set.records_without_rrsigs());
    let lines = records.map(|record| {
        let name = record.name.to_lowercase().to_ascii();
        let name = name.trim_end_matches('.');
        let kind = RecordType::from_code(record.record_type().into());
        format!(
            "{name} {} {kind} {}",
            record.ttl,
            RecordData::from_wire(kind, &record.data.to_bytes().unwrap()).unwrap()
        )
    });
    Ok(lines.collect())
}

#[test]
fn a_zone_as_it_is_kept_is_read_alike() {
    let text = "\
$TTL 1h
@       IN SOA ns1 hostmaster ( 2026110703 ; serial
                7200 900 1209600 600 )
        IN NS  ns1.dns.example.
        IN NS  ns2.dns.example.
        300 IN A 192.0.2.44
        IN AAAA 2001:db8::44
        IN MX  10 mail
        IN TXT \"v=spf1 -all\"
        IN CAA 0 issue \"ca.example\"
www     IN CNAME harbour.example.
mail 2h IN A   192.0.2.45
$ORIGIN sub.harbour.example.
@       IN NS  ns.harbour.example.
deep    IN TXT \"one\" \"two\"
*       IN A   198.51.100.7
";
    let read = ours(text).unwrap();
    assert_eq!(read, theirs(text).unwrap());
    assert_eq!(read.len(), 13);
}

/// A line that both readers know: a name, perhaps a TTL and a class, a type and its data.
fn line() -> impl Strategy<Value = String> {
    let name =
        prop::sample::select(vec!["@", "www", "a.b", "*.w", "_x._tcp", "far.harbour.example.", ""]);
    let life = prop::sample::select(vec!["", "60", "1h", "2d12h", "3600"]);
    let class = prop::sample::select(vec!["", "IN"]);
    let data = prop::sample::select(vec![
        "A 192.0.2.7",
        "A 203.0.113.8",
        "AAAA 2001:db8::7",
        "MX 10 mail",
        "MX ( 20\n mail.example. )",
        "TXT \"one two\"",
        "TXT \"one\" \"two\"",
        "NS ns.example.",
        "SRV 1 2 443 target.example.",
        "CNAME elsewhere.example.",
    ]);
    (name, life, class, data)
        .prop_map(|(name, life, class, data)| format!("{name}\t{life} {class} {data}"))
}

/// Whether the other reader means the same by what it reads: each set has one life (RFC 2181,
/// section 5.2), and a CNAME is alone.
fn is_plain(read: &BTreeSet<String>) -> bool {
    let mut lives: BTreeMap<[&str; 2], &str> = BTreeMap::new();
    let one_life = read.iter().all(|record| {
        let words: Vec<&str> = record.splitn(4, ' ').collect();
        *lives.entry([words[0], words[2]]).or_insert(words[1]) == words[1]
    });
    one_life && !(read.iter().any(|record| record.contains(" CNAME ")) && read.len() > 2)
}

#[test]
fn what_both_read_is_the_same() {
    let config = Config { cases: 3_000, failure_persistence: None, ..Config::default() };
    let compared = Cell::new(0);
    let zones = (prop::collection::vec(line(), 0..8), prop::option::of(0..8usize));
    let outcome = TestRunner::new(config).run(&zones, |(mut lines, origin)| {
        if let Some(at) = origin.filter(|at| *at < lines.len()) {
            lines.insert(at, "$ORIGIN sub.harbour.example.".to_owned());
        }
        let soa = "@ IN SOA ns1 host 7 7200 900 1209600 600";
        let text = format!("$TTL 1h\n{soa}\n{}\n", lines.join("\n"));
        if let (Ok(read), Ok(other)) = (ours(&text), theirs(&text))
            && is_plain(&read)
        {
            compared.set(compared.get() + 1);
            prop_assert_eq!(read, other, "{}", text);
        }
        Ok(())
    });
    outcome.unwrap_or_else(|error| panic!("{error}"));
    assert!(compared.get() > 600, "only {} zones were compared", compared.get());
}
