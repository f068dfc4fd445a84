//! What records say, by their types.

use std::str::FromStr;

use hickory_proto::rr::rdata::{NULL, TXT};
use hickory_proto::rr::{Name, RData, RecordType};
use hickory_proto::serialize::binary::BinDecoder;

use super::scan::Word;

/// Types with a mnemonic that the DNS package does not know (IANA, "Resource Record TYPEs").
const OTHER_TYPES: [(&str, u16); 29] = [
    ("MD", 3),
    ("MF", 4),
    ("MB", 7),
    ("MG", 8),
    ("MR", 9),
    ("WKS", 11),
    ("MINFO", 14),
    ("RP", 17),
    ("AFSDB", 18),
    ("X25", 19),
    ("ISDN", 20),
    ("RT", 21),
    ("PX", 26),
    ("GPOS", 27),
    ("LOC", 29),
    ("KX", 36),
    ("APL", 42),
    ("IPSECKEY", 45),
    ("DHCID", 49),
    ("HIP", 55),
    ("ZONEMD", 63),
    ("SPF", 99),
    ("NID", 104),
    ("L32", 105),
    ("L64", 106),
    ("LP", 107),
    ("EUI48", 108),
    ("EUI64", 109),
    ("URI", 256),
];

/// The type that a word names: a mnemonic, or `TYPE` and a number (RFC 3597, section 5).
pub(super) fn kind(word: &str) -> Option<RecordType> {
    let upper = word.to_ascii_uppercase();
    let numbered = || upper.strip_prefix("TYPE")?.parse::<u16>().ok();
    let other = || OTHER_TYPES.iter().find(|(name, _)| *name == upper).map(|(_, code)| *code);
    match RecordType::from_str(&upper) {
        Ok(RecordType::ANY | RecordType::AXFR | RecordType::IXFR | RecordType::OPT) => None,
        Ok(RecordType::ANAME) => None,
        Ok(kind) => Some(kind),
        Err(_) => numbered().or_else(other).map(RecordType::from),
    }
}

/// Which words of a type's data are names.
fn names(kind: RecordType) -> &'static [usize] {
    match kind {
        RecordType::CNAME | RecordType::NS | RecordType::PTR => &[0],
        RecordType::SOA => &[0, 1],
        RecordType::MX | RecordType::HTTPS | RecordType::SVCB => &[1],
        RecordType::SRV => &[3],
        RecordType::NAPTR => &[5],
        _ => &[],
    }
}

/// What must stand as the data of a type, and how many words that is at least and at most.
fn wanted(kind: RecordType) -> (&'static str, usize, usize) {
    match kind {
        RecordType::A => ("an IPv4 address", 1, 1),
        RecordType::AAAA => ("an IPv6 address", 1, 1),
        RecordType::CNAME | RecordType::NS | RecordType::PTR => ("a name", 1, 1),
        RecordType::SOA => ("two names, then serial, refresh, retry, expire and minimum", 7, 7),
        RecordType::TXT => ("texts of up to 255 bytes", 1, usize::MAX),
        RecordType::MX => ("a preference and a name", 2, 2),
        RecordType::SRV => ("priority, weight, port and a name", 4, 4),
        RecordType::CAA => ("flags, a tag and a value", 3, 3),
        _ => ("data of its type", 1, usize::MAX),
    }
}

/// Reads the data of a record; none where the notation of its type is not known here.
///
/// # Errors
/// What should stand there, and the word that stands there instead, if any.
pub(super) fn read(
    kind: RecordType,
    words: &[Word<'_>],
    origin: &Name,
) -> Result<Option<RData>, (&'static str, Option<usize>)> {
    if words.first().is_some_and(|word| word.text == "\\#" && !word.quoted) {
        return generic(kind, &words[1..])
            .map(Some)
            .ok_or(("`\\#`, a length and as many bytes in hexadecimal", Some(0)));
    }
    let (what, least, most) = wanted(kind);
    if words.len() < least {
        return Err((what, None));
    }
    if words.len() > most {
        return Err(("the end of the record", Some(most)));
    }
    if kind == RecordType::TXT {
        let parts: Option<Vec<Vec<u8>>> =
            words.iter().map(|word| unescape(word.text).filter(|part| part.len() <= 255)).collect();
        let parts = parts.ok_or((what, Some(0)))?;
        return Ok(Some(RData::TXT(TXT::from_bytes(parts.iter().map(Vec::as_slice).collect()))));
    }
    let mut text = String::new();
    for (number, word) in words.iter().enumerate() {
        text.push_str(if number > 0 { " " } else { "" });
        if names(kind).contains(&number) {
            let name = absolute(word.text, origin).ok_or((what, Some(number)))?;
            text.push_str(&name.to_ascii());
        } else if word.quoted {
            text.push_str(&format!("\"{}\"", word.text));
        } else {
            text.push_str(word.text);
        }
    }
    match RData::try_from_str(kind, &text) {
        Ok(data) => Ok(Some(data)),
        Err(_) if most < usize::MAX => {
            Err((what, Some(if words.len() == 1 { 0 } else { wrong_word(kind, words) })))
        }
        Err(_) => Ok(None),
    }
}

/// The word of fixed data that is most likely the wrong one: the first that should be a number and
/// is none.
fn wrong_word(kind: RecordType, words: &[Word<'_>]) -> usize {
    let words_follow = if kind == RecordType::CAA { 1 } else { usize::MAX };
    let numbers = |at: &usize| !names(kind).contains(at) && *at < words_follow;
    (0..words.len()).filter(numbers).find(|at| words[*at].text.parse::<u32>().is_err()).unwrap_or(0)
}

/// Data of any type, as a length and bytes (RFC 3597, section 5).
fn generic(kind: RecordType, words: &[Word<'_>]) -> Option<RData> {
    let (len, digits) = words.split_first()?;
    let len: u16 = len.text.parse().ok()?;
    let digits: String = digits.iter().map(|word| word.text).collect();
    if !digits.is_ascii() || digits.len() != 2 * usize::from(len) {
        return None;
    }
    let byte = |at: usize| u8::from_str_radix(&digits[at..at + 2], 16).ok();
    let bytes: Vec<u8> = (0..digits.len()).step_by(2).map(byte).collect::<Option<_>>()?;
    let mut decoder = BinDecoder::new(&bytes);
    match kind {
        RecordType::Unknown(code) => {
            Some(RData::Unknown { code: RecordType::Unknown(code), rdata: NULL::with(bytes) })
        }
        kind => {
            let len = hickory_proto::serialize::binary::Restrict::new(len);
            RData::read(&mut decoder, kind, len).ok()
        }
    }
}

/// A name, whole; a relative one gets the origin.
pub(super) fn absolute(text: &str, origin: &Name) -> Option<Name> {
    if text == "@" {
        return Some(origin.clone());
    }
    let name = Name::from_ascii(text).ok()?;
    match name.is_fqdn() {
        true => Some(name),
        false => name.append_domain(origin).ok(),
    }
}

/// The bytes that a text with `\X` and `\DDD` stands for (RFC 1035, section 5.1).
fn unescape(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&byte, after)) = rest.split_first() {
        rest = after;
        if byte != b'\\' {
            bytes.push(byte);
            continue;
        }
        let digits = rest.get(..3).filter(|digits| digits.iter().all(u8::is_ascii_digit));
        match digits {
            Some(digits) => {
                bytes.push(std::str::from_utf8(digits).ok()?.parse().ok()?);
                rest = &rest[3..];
            }
            None => {
                let (&escaped, after) = rest.split_first()?;
                bytes.push(escaped);
                rest = after;
            }
        }
    }
    Some(bytes)
}

/// Bytes as a quoted text.
pub(super) fn quoted(bytes: &[u8]) -> String {
    let mut text = String::from("\"");
    for &byte in bytes {
        match byte {
            b'"' | b'\\' => text.extend(['\\', char::from(byte)]),
            b' '..=b'~' => text.push(char::from(byte)),
            byte => text.push_str(&format!("\\{byte:03}")),
        }
    }
    text.push('"');
    text
}
