//! What records say, by their types.

use std::fmt;
use std::net::IpAddr;

use hickory_proto::rr::rdata::name::PTR;
use hickory_proto::rr::rdata::{A, AAAA, CNAME, MX, NS, NULL, SRV, TXT};
use hickory_proto::rr::{self, RData};
use hickory_proto::serialize::binary::{BinDecoder, BinEncodable, Restrict};

use super::name::absolute;
use super::scan::{Word, unescape};
use super::{Name, RecordType, fields};

/// What a record says (RFC 1035, section 3.3, and the standards of the types since).
///
/// ```
/// use ravel_dns::zone::{RecordData, RecordType};
///
/// let address = RecordData::from_wire(RecordType::A, &[192, 0, 2, 44]).unwrap();
/// assert_eq!(address.to_string(), "192.0.2.44");
/// assert_eq!((address.record_type(), address.to_wire()), (RecordType::A, vec![192, 0, 2, 44]));
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordData(pub(crate) RData);

impl RecordData {
    /// Reads the form of messages, without compressed names; none if these bytes are no data of the
    /// type.
    ///
    /// ```
    /// use ravel_dns::zone::{RecordData, RecordType};
    ///
    /// assert_eq!(RecordData::from_wire(RecordType::A, &[1]), None);
    /// ```
    pub fn from_wire(kind: RecordType, bytes: &[u8]) -> Option<RecordData> {
        let data = match kind.known() {
            code @ rr::RecordType::Unknown(_) => {
                let mut rdata = NULL::new();
                rdata.anything = bytes.to_vec();
                RData::Unknown { code, rdata }
            }
            kind => {
                let len = Restrict::new(u16::try_from(bytes.len()).ok()?);
                RData::read(&mut BinDecoder::new(bytes), kind, len).ok()?
            }
        };
        Some(RecordData(data))
    }

    /// The form of messages, without compressed names.
    pub fn to_wire(&self) -> Vec<u8> {
        self.0.to_bytes().unwrap_or_default()
    }

    /// The type of records that say this.
    pub fn record_type(&self) -> RecordType {
        RecordType::of(self.0.record_type())
    }

    pub(crate) fn address(address: IpAddr) -> RecordData {
        RecordData(match address {
            IpAddr::V4(ip) => RData::A(A(ip)),
            IpAddr::V6(ip) => RData::AAAA(AAAA(ip)),
        })
    }

    pub(crate) fn alias_of(name: Name) -> RecordData {
        RecordData(RData::CNAME(CNAME(name.0)))
    }

    pub(crate) fn name_server(name: Name) -> RecordData {
        RecordData(RData::NS(NS(name.0)))
    }

    pub(crate) fn text(text: &str) -> RecordData {
        RecordData(RData::TXT(TXT::from_bytes(text.as_bytes().chunks(255).collect())))
    }

    /// The name that a CNAME leads to.
    pub(crate) fn alias(&self) -> Option<Name> {
        match &self.0 {
            RData::CNAME(target) => Some(Name(target.0.clone())),
            _ => None,
        }
    }

    /// The name that an NS record or a CNAME leads to.
    ///
    /// ```
    /// use ravel_dns::zone::{RecordData, RecordType};
    ///
    /// let data = RecordData::from_wire(RecordType::NS, b"\x03ns1\x07example\0").unwrap();
    /// assert_eq!(data.target().unwrap().to_string(), "ns1.example");
    /// ```
    pub fn target(&self) -> Option<Name> {
        match &self.0 {
            RData::NS(target) => Some(Name(target.0.clone())),
            _ => self.alias(),
        }
    }

    /// The address that an A or AAAA record says.
    ///
    /// ```
    /// use ravel_dns::zone::{RecordData, RecordType};
    ///
    /// let data = RecordData::from_wire(RecordType::A, &[192, 0, 2, 44]).unwrap();
    /// assert_eq!(data.ip(), Some([192, 0, 2, 44].into()));
    /// ```
    pub fn ip(&self) -> Option<IpAddr> {
        match &self.0 {
            RData::A(address) => Some(IpAddr::V4(address.0)),
            RData::AAAA(address) => Some(IpAddr::V6(address.0)),
            _ => None,
        }
    }

    /// The bytes that a TXT record says, its texts put together.
    pub(crate) fn said(&self) -> Vec<u8> {
        match &self.0 {
            RData::TXT(txt) => txt.txt_data.concat(),
            _ => Vec::new(),
        }
    }

    /// The serial and the minimum that an SOA states.
    pub(super) fn soa(&self) -> Option<(u32, u32)> {
        match &self.0 {
            RData::SOA(soa) => Some((soa.serial, soa.minimum)),
            _ => None,
        }
    }
}

impl fmt::Display for RecordData {
    /// In the notation of master files.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            RData::TXT(txt) => {
                let parts: Vec<String> = txt.txt_data.iter().map(|part| quoted(part)).collect();
                f.write_str(&parts.join(" "))
            }
            RData::CAA(caa) => {
                let flags = u8::from(caa.issuer_critical) << 7 | caa.reserved_flags;
                write!(f, "{flags} {} {}", caa.tag, quoted(&caa.value))
            }
            RData::Unknown { rdata, .. } => {
                write!(f, "\\# {} ", rdata.anything.len())?;
                rdata.anything.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
            }
            RData::CNAME(CNAME(name)) | RData::NS(NS(name)) | RData::PTR(PTR(name)) => {
                f.write_str(&Name(name.clone()).to_master())
            }
            RData::MX(mx) => {
                write!(f, "{} {}", mx.preference, Name(mx.exchange.clone()).to_master())
            }
            RData::SRV(srv) => {
                let target = Name(srv.target.clone()).to_master();
                write!(f, "{} {} {} {target}", srv.priority, srv.weight, srv.port)
            }
            data => data.fmt(f),
        }
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
/// What is expected, and the word that is found instead, if any.
pub(super) fn read(
    kind: RecordType,
    words: &[Word<'_>],
    origin: &Name,
) -> Result<Option<RecordData>, (&'static str, Option<usize>)> {
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
        let txt = TXT::from_bytes(parts.iter().map(Vec::as_slice).collect());
        return Ok(Some(RecordData(RData::TXT(txt))));
    }
    if let Some(data) = named(kind, words, origin) {
        return Ok(Some(RecordData(data)));
    }
    if let Some(wire) = fields::wire(kind, words, origin) {
        let bytes = match wire {
            Ok(bytes) => bytes,
            // An algorithm may have a mnemonic, which is kept.
            Err(_) if fields::has_mnemonics(kind) => return Ok(None),
            Err(at) => return Err((what, at)),
        };
        return match RecordData::from_wire(kind, &bytes) {
            None if most < usize::MAX => Err((what, Some(wrong_word(kind, words)))),
            data => Ok(data),
        };
    }
    let is_service = matches!(kind, RecordType::SVCB | RecordType::HTTPS);
    let mut text = String::new();
    for (number, word) in words.iter().enumerate() {
        // A parameter's value may be quoted, and is part of its word (RFC 9460, section 2.1).
        let goes_on = is_service && number > 2 && words[number - 1].at.end == word.at.start;
        if goes_on && word.quoted && !word.text.contains([' ', '\t', '"', '\\']) {
            text.push_str(word.text);
            continue;
        }
        text.push_str(if number > 0 { " " } else { "" });
        if names(kind).contains(&number) {
            let name = absolute(word.text, origin).ok_or((what, Some(number)))?;
            text.push_str(&name.to_master());
        } else if word.quoted {
            text.push_str(&format!("\"{}\"", word.text));
        } else {
            text.push_str(word.text);
        }
    }
    match RData::try_from_str(kind.known(), &text) {
        Ok(data) => Ok(Some(RecordData(data))),
        Err(_) if most < usize::MAX => {
            Err((what, Some(if words.len() == 1 { 0 } else { wrong_word(kind, words) })))
        }
        Err(_) => Ok(None),
    }
}

/// Data that is a name, with numbers before it: its labels may have any bytes.
fn named(kind: RecordType, words: &[Word<'_>], origin: &Name) -> Option<RData> {
    let name = |at: usize| Some(absolute(words.get(at)?.text, origin)?.0);
    let number = |at: usize| words.get(at)?.text.parse::<u16>().ok();
    Some(match kind {
        RecordType::CNAME => RData::CNAME(CNAME(name(0)?)),
        RecordType::NS => RData::NS(NS(name(0)?)),
        RecordType::PTR => RData::PTR(PTR(name(0)?)),
        RecordType::MX => RData::MX(MX::new(number(0)?, name(1)?)),
        RecordType::SRV => RData::SRV(SRV::new(number(0)?, number(1)?, number(2)?, name(3)?)),
        _ => return None,
    })
}

/// The word of fixed data that is most likely the wrong one: the first that should be a number and
/// is none.
fn wrong_word(kind: RecordType, words: &[Word<'_>]) -> usize {
    let words_follow = if kind == RecordType::CAA { 1 } else { usize::MAX };
    let numbers = |at: &usize| !names(kind).contains(at) && *at < words_follow;
    (0..words.len()).filter(numbers).find(|at| words[*at].text.parse::<u32>().is_err()).unwrap_or(0)
}

/// Data of any type, as a length and bytes (RFC 3597, section 5).
fn generic(kind: RecordType, words: &[Word<'_>]) -> Option<RecordData> {
    let (len, digits) = words.split_first()?;
    let len: u16 = len.text.parse().ok()?;
    let digits: String = digits.iter().map(|word| word.text).collect();
    if !digits.is_ascii() || digits.len() != 2 * usize::from(len) {
        return None;
    }
    let byte = |at: usize| u8::from_str_radix(&digits[at..at + 2], 16).ok();
    let bytes: Vec<u8> = (0..digits.len()).step_by(2).map(byte).collect::<Option<_>>()?;
    RecordData::from_wire(kind, &bytes)
}

/// Bytes as a quoted text.
fn quoted(bytes: &[u8]) -> String {
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
