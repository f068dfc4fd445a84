//! Data that the DNS package does not read from text, field by field in wire form.

use std::net::Ipv4Addr;

use super::name::absolute;
use super::scan::{Word, unescape};
use super::{Name, RecordType};

/// A field of a record's data.
#[derive(Debug, Clone, Copy)]
enum Field {
    /// A name, not compressed (RFC 3597, section 4).
    Name,
    U8,
    U16,
    U32,
    /// A text with its length before it (RFC 1035, section 3.3).
    Text,
    /// One such text or more, up to the end.
    Texts,
    /// A text without its length.
    Rest,
    V4,
    /// Bytes in hexadecimal, with `-` between them or not, up to the end.
    Hex,
    /// Four numbers of 16 bits in hexadecimal, with `:` between them (RFC 6742, section 2).
    Groups,
    /// Bytes in Base64 (RFC 4648), up to the end.
    Base64,
}

/// The fields of a type by its number; none for those that are not written so.
fn fields(kind: RecordType) -> Option<&'static [Field]> {
    use Field::{Base64, Groups, Hex, Name, Rest, Text, Texts, U8, U16, U32, V4};
    Some(match kind.code() {
        // MD, MF, MB, MG, MR, DNAME
        3 | 4 | 7 | 8 | 9 | 39 => &[Name],
        // MINFO, RP
        14 | 17 => &[Name, Name],
        // AFSDB, RT, KX, LP
        18 | 21 | 36 | 107 => &[U16, Name],
        // X25
        19 => &[Text],
        // ISDN, SPF
        20 | 99 => &[Texts],
        // PX
        26 => &[U16, Name, Name],
        // GPOS
        27 => &[Text, Text, Text],
        // DNSKEY, CDNSKEY
        48 | 60 => &[U16, U8, U8, Base64],
        // DHCID
        49 => &[Base64],
        // CDS
        59 => &[U16, U8, U8, Hex],
        // ZONEMD
        63 => &[U32, U8, U8, Hex],
        // NID, L64
        104 | 106 => &[U16, Groups],
        // L32
        105 => &[U16, V4],
        // EUI48, EUI64
        108 | 109 => &[Hex],
        // URI
        256 => &[U16, U16, Rest],
        // CAA
        257 => &[U8, Text, Rest],
        _ => return None,
    })
}

/// Whether numbers of a type may be written as mnemonics (RFC 4034, appendix A).
pub(super) fn has_mnemonics(kind: RecordType) -> bool {
    matches!(kind.code(), 48 | 59 | 60)
}

/// The data of a type in wire form; none where it is not written field by field.
///
/// # Errors
/// The word that is no such field, or that there are too few.
pub(super) fn wire(
    kind: RecordType,
    words: &[Word<'_>],
    origin: &Name,
) -> Option<Result<Vec<u8>, Option<usize>>> {
    let fields = fields(kind)?;
    let (mut out, mut at) = (Vec::new(), 0);
    for field in fields {
        let Some(rest) = words.get(at..).filter(|rest| !rest.is_empty()) else {
            return Some(Err(None));
        };
        match written(*field, rest, origin, &mut out) {
            Some(taken) => at += taken,
            None => return Some(Err(Some(at))),
        }
    }
    Some(if at == words.len() { Ok(out) } else { Err(Some(at)) })
}

/// Writes a field; how many words it takes, or none where it is not written there.
fn written(field: Field, words: &[Word<'_>], origin: &Name, out: &mut Vec<u8>) -> Option<usize> {
    let word = &words[0];
    let joined = || words.iter().map(|word| word.text).collect::<String>();
    let mut text = |word: &Word<'_>| {
        let bytes = unescape(word.text)?;
        out.push(u8::try_from(bytes.len()).ok()?);
        out.extend(bytes);
        Some(())
    };
    match field {
        Field::Text => text(word)?,
        Field::Texts => {
            words.iter().try_for_each(text)?;
            return Some(words.len());
        }
        Field::Name => {
            for label in absolute(word.text, origin)?.labels() {
                out.push(u8::try_from(label.len()).ok()?);
                out.extend_from_slice(label);
            }
            out.push(0);
        }
        Field::U8 => out.push(word.text.parse().ok()?),
        Field::U16 => out.extend(word.text.parse::<u16>().ok()?.to_be_bytes()),
        Field::U32 => out.extend(word.text.parse::<u32>().ok()?.to_be_bytes()),
        Field::V4 => out.extend(word.text.parse::<Ipv4Addr>().ok()?.octets()),
        Field::Rest => out.extend(unescape(word.text)?),
        Field::Groups => {
            let groups = word.text.split(':');
            let groups: Option<Vec<u16>> =
                groups.map(|group| u16::from_str_radix(group, 16).ok()).collect();
            let groups = groups.filter(|groups| groups.len() == 4)?;
            out.extend(groups.into_iter().flat_map(u16::to_be_bytes));
        }
        Field::Hex => {
            let digits = joined().replace('-', "").to_ascii_lowercase();
            out.extend(data_encoding::HEXLOWER.decode(digits.as_bytes()).ok()?);
            return Some(words.len());
        }
        Field::Base64 => {
            out.extend(data_encoding::BASE64.decode(joined().as_bytes()).ok()?);
            return Some(words.len());
        }
    }
    Some(1)
}
