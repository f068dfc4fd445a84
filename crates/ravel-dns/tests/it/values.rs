//! Names, types, data and moments as values: what is written of them reads the same, and is what the
//! DNS package and the clock package make of it.

use hickory_proto::rr::{self, RData};
use hickory_proto::serialize::binary::{BinDecoder, BinEncodable, Restrict};
use proptest::prelude::*;
use ravel_dns::zone::{Name, RecordData, RecordType};
use ravel_dns::{Certificate, CertificateError, Moment, Zone};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

#[test]
fn every_type_reads_as_it_is_written() {
    // Questions have these, records do not.
    let of_questions = [41, 251, 252, 255];
    for code in 0..=u16::MAX {
        let kind = RecordType::from_code(code);
        let read = kind.to_string().parse::<RecordType>();
        match of_questions.contains(&code) {
            true => assert!(read.is_err(), "{kind}"),
            false => assert_eq!(read, Ok(kind)),
        }
        assert_eq!(format!("TYPE{code}").parse(), Ok(kind));
        assert_eq!(kind.code(), code);
    }
    for word in ["", "B", "A A", "TYPE", "TYPE65536", "TYPE-1", "AAAAA"] {
        let error = word.parse::<RecordType>().unwrap_err();
        assert!(error.to_string().contains("TYPE"), "{word}");
    }
}

#[test]
fn names_are_whole_and_bounded() {
    let (label, long) = ("a".repeat(63), "a".repeat(64));
    let longest = [label.as_str(), &label, &label, &label[..61]].join(".");
    for good in ["h", "h.example", "*.h.example", "_x._tcp.h.example", &longest] {
        let name: Name = good.parse().unwrap();
        assert_eq!(name.to_string(), good);
        assert_eq!(name.to_master(), format!("{good}."));
        assert_eq!(name.to_master().parse(), Ok(name));
    }
    for bad in ["a..b", ".a", &long, &format!("{longest}a"), &format!("{longest}.a")] {
        assert!(bad.parse::<Name>().is_err(), "{bad}");
    }
    let zone: Name = "h.example".parse().unwrap();
    for (name, below) in [
        ("h.example", true),
        ("H.EXAMPLE.", true),
        ("a.b.h.example", true),
        ("bh.example", false),
        ("example", false),
        (".", false),
    ] {
        assert_eq!(zone.holds(&name.parse().unwrap()), below, "{name}");
    }
}

/// The seconds of the years 1 to 9999, from 1970 on.
const YEARS: std::ops::RangeInclusive<i64> = -62_135_596_800..=253_402_300_799;

/// Data of many types, in the notation of zone files.
const DATA: [&str; 13] = [
    "A 192.0.2.7",
    "AAAA 2001:db8::7",
    "NS ns1.dns.example.",
    "CNAME target.example.",
    "MX 10 mail.example.",
    "TXT \"one two\" \"three\"",
    "TXT \"\\200\\\"\\\\\"",
    "SRV 1 2 443 target.example.",
    "CAA 128 issue \"ca.example; account=7\"",
    "PTR host.example.",
    "TYPE65280 \\# 4 0a000001",
    "TYPE65280 \\# 0",
    "SSHFP 1 2 123456789abcdef67890123456789abcdef67890123456789abcdef123456789",
];

#[test]
fn data_has_one_form_in_messages() {
    for data in DATA {
        let text = format!("@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\nx 1h {data}\n");
        let zone =
            Zone::parse("h.example", &text).unwrap_or_else(|error| panic!("{data}: {error}"));
        let record = zone.records().nth(1).unwrap();
        let value = record.data().unwrap();
        assert_eq!(value.record_type(), record.kind());
        let wire = value.to_wire();
        assert_eq!(RecordData::from_wire(record.kind(), &wire).as_ref(), Some(value), "{data}");
        // The package reads the same out of it, and writes the same.
        let kind = rr::RecordType::from(record.kind().code());
        if !matches!(kind, rr::RecordType::Unknown(_)) {
            let len = Restrict::new(u16::try_from(wire.len()).unwrap());
            let mut decoder = BinDecoder::new(&wire);
            let theirs = RData::read(&mut decoder, kind, len).unwrap();
            assert_eq!(theirs.to_bytes().unwrap(), wire, "{data}");
        }
        // Cut anywhere, it is another value or none, and never a panic.
        for end in 0..wire.len() {
            assert_ne!(RecordData::from_wire(record.kind(), &wire[..end]).as_ref(), Some(value));
        }
    }
}

proptest! {
    #[test]
    fn any_bytes_as_data(code in 0..300_u16, bytes in prop::collection::vec(any::<u8>(), 0..40)) {
        let kind = RecordType::from_code(code);
        if let Some(data) = RecordData::from_wire(kind, &bytes) {
            let again = RecordData::from_wire(kind, &data.to_wire());
            prop_assert_eq!(again, Some(data));
        }
    }

    #[test]
    fn any_text_as_a_name(text in "[a-zA-Z0-9._*\\\\-]{0,80}") {
        if let Ok(name) = text.parse::<Name>() {
            prop_assert_eq!(name.to_master().parse::<Name>(), Ok(name.clone()));
            prop_assert!(name.holds(&name));
            prop_assert_eq!(text.to_uppercase().parse::<Name>(), Ok(name));
        }
    }

    #[test]
    fn moments_are_those_of_a_clock(seconds in YEARS, more in -9_000_000_000..9_000_000_000_i64) {
        let moment = Moment::from_unix(seconds);
        let theirs = OffsetDateTime::from_unix_timestamp(seconds).unwrap();
        prop_assert_eq!(moment.unix(), seconds);
        prop_assert_eq!(moment.to_string(), theirs.format(&Rfc3339).unwrap());
        prop_assert_eq!(moment.to_string().parse(), Ok(moment));
        prop_assert_eq!(moment.date(), theirs.date().to_string());
        if YEARS.contains(&(seconds + more)) {
            prop_assert_eq!(moment.plus(more).unix(), seconds + more);
            prop_assert_eq!(moment.plus(more).since(moment), more);
            prop_assert_eq!(moment.plus(more) > moment, more > 0);
        }
    }
}

#[test]
fn moments_are_written_with_their_offset() {
    let cases = [
        ("2027-03-01T06:00:00Z", Some("2027-03-01T06:00:00Z")),
        ("2027-03-01T06:00:00.75+02:00", Some("2027-03-01T06:00:00+02:00")),
        ("2027-03-01T06:00:00", None),
        ("2027-02-29T06:00:00Z", None),
        ("tomorrow", None),
    ];
    for (text, expected) in cases {
        let read = text.parse::<Moment>().map(|moment| moment.to_string());
        assert_eq!(read.as_deref().ok(), expected, "{text}");
    }
    let end = Moment::from_unix(i64::MAX);
    assert_eq!((end.date(), end.plus(1)), ("9999-12-31".to_owned(), end));
}

#[test]
fn what_is_no_certificate_is_said() {
    let block =
        |text: &str| format!("-----BEGIN CERTIFICATE-----\n{text}\n-----END CERTIFICATE-----\n");
    let cases = [
        (String::new(), CertificateError::Empty),
        ("a letter\n".to_owned(), CertificateError::Empty),
        ("-----BEGIN CERTIFICATE-----\nAAAA\n".to_owned(), CertificateError::Pem),
    ];
    for (text, expected) in cases {
        assert_eq!(Certificate::read(text.as_bytes()).unwrap_err(), expected, "{text}");
    }
    let error = Certificate::read(block("AAAA").as_bytes()).unwrap_err();
    assert!(matches!(error, CertificateError::X509 { number: 1, .. }), "{error}");
}
