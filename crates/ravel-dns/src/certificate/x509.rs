//! What is looked at of a certificate (RFC 5280, section 4.1).
//!
//! ```text
//!   Certificate ── TBSCertificate ─┬─ issuer, validity, subject, key
//!                                  └─ extensions: names, keys, what it may sign
//! ```

use yasna::models::ObjectIdentifier;
use yasna::{ASN1Error, ASN1ErrorKind, ASN1Result, BERReader, BERReaderSeq, Tag, parse_der};

use super::{Link, PermittedName};
use crate::Moment;

/// An extension: which one, and its DER.
type Extension = (ObjectIdentifier, Vec<u8>);

/// Reads one from DER.
pub(super) fn link(der: Vec<u8>) -> Result<Link, &'static str> {
    let parsed = parse_der(&der, |reader| {
        reader.read_sequence(|reader| {
            let link = reader.next().read_sequence(to_be_signed)?;
            reader.next().read_der()?; // The algorithm of the signature,
            reader.next().read_bitvec_bytes()?; // and the signature: who follows the chain asks.
            Ok(link)
        })
    });
    let link = parsed.map_err(|error| match error.kind() {
        ASN1ErrorKind::Eof => "it is cut off",
        ASN1ErrorKind::Extra => "something follows it in its block",
        _ => "it is not a certificate (RFC 5280, section 4.1)",
    })?;
    Ok(Link { der, ..link })
}

fn to_be_signed(reader: &mut BERReaderSeq<'_, '_>) -> ASN1Result<Link> {
    // Its version, number and algorithm say nothing of whom it is for.
    reader
        .read_optional(|reader| reader.read_tagged(Tag::context(0), |reader| reader.read_u8()))?;
    reader.next().read_bigint_bytes()?;
    reader.next().read_der()?;
    let issuer = reader.next().read_der()?;
    let (from, until) = reader
        .next()
        .read_sequence(|reader| Ok((moment(reader.next())?, moment(reader.next())?)))?;
    let subject = reader.next().read_der()?;
    let key = reader.next().read_der()?;
    for unique in [1, 2] {
        reader.read_optional(|reader| {
            reader.read_tagged_implicit(Tag::context(unique), |reader| reader.read_bitvec_bytes())
        })?;
    }
    let extensions = reader.read_optional(|reader| {
        reader.read_tagged(Tag::context(3), |reader| reader.collect_sequence_of(extension))
    })?;
    let extensions = extensions.unwrap_or_default();
    let signs = read(&extensions, 15, |reader| reader.read_bitvec_bytes()).is_none_or(may_sign);
    let is_authority = read(&extensions, 19, is_authority).unwrap_or_default();
    Ok(Link {
        der: Vec::new(),
        subject: in_words(&subject)?,
        issuer: in_words(&issuer)?,
        names: (subject, issuer),
        key,
        keys: (
            read(&extensions, 14, |reader| reader.read_bytes()),
            read(&extensions, 35, issuer_key).flatten(),
        ),
        hosts: read(&extensions, 17, dns_names).unwrap_or_default(),
        from,
        until,
        is_authority: is_authority && signs,
        permitted: read(&extensions, 30, permitted).flatten(),
    })
}

fn moment(reader: BERReader<'_, '_>) -> ASN1Result<Moment> {
    let time = match reader.lookahead_tag()? == yasna::tags::TAG_UTCTIME {
        true => *reader.read_utctime()?.datetime(),
        false => *reader.read_generalized_time()?.datetime(),
    };
    Ok(Moment::of(time))
}

fn extension(reader: BERReader<'_, '_>) -> ASN1Result<Extension> {
    reader.read_sequence(|reader| {
        let name = reader.next().read_oid()?;
        reader.read_optional(|reader| reader.read_bool())?;
        Ok((name, reader.next().read_bytes()?))
    })
}

/// What the extension `2.5.29.NUMBER` says. One that cannot be read says nothing; who follows the
/// chain refuses it.
fn read<T>(
    extensions: &[Extension],
    number: u64,
    reads: impl FnOnce(BERReader<'_, '_>) -> ASN1Result<T>,
) -> Option<T> {
    let (_, der) = extensions.iter().find(|(name, _)| **name.components() == [2, 5, 29, number])?;
    parse_der(der, reads).ok()
}

/// Whether a key usage has `keyCertSign` (section 4.2.1.3).
fn may_sign((bits, _): (Vec<u8>, usize)) -> bool {
    bits.first().is_some_and(|first| first & 0b100 != 0)
}

/// Section 4.2.1.9.
fn is_authority(reader: BERReader<'_, '_>) -> ASN1Result<bool> {
    reader.read_sequence(|reader| {
        let is = reader.read_optional(|reader| reader.read_bool())?;
        reader.read_optional(|reader| reader.read_u64())?;
        Ok(is.unwrap_or_default())
    })
}

/// The parts of a sequence, each with its tag and content.
fn parts(reader: BERReader<'_, '_>) -> ASN1Result<Vec<(Tag, Vec<u8>)>> {
    reader.collect_sequence_of(|reader| {
        let part = reader.read_tagged_der()?;
        Ok((part.tag(), part.value().to_owned()))
    })
}

/// Section 4.2.1.1.
fn issuer_key(reader: BERReader<'_, '_>) -> ASN1Result<Option<Vec<u8>>> {
    let key = parts(reader)?.into_iter().find(|(tag, _)| *tag == Tag::context(0));
    Ok(key.map(|(_, key)| key))
}

/// Section 4.2.1.6.
fn dns_names(reader: BERReader<'_, '_>) -> ASN1Result<Vec<String>> {
    let names =
        parts(reader)?.into_iter().filter_map(|(tag, name)| match general_name(tag, name) {
            Some(PermittedName::Dns(name)) => Some(name),
            _ => None,
        });
    Ok(names.collect())
}

fn general_name(tag: Tag, content: Vec<u8>) -> Option<PermittedName> {
    if tag == Tag::context(2) {
        let name = String::from_utf8(content).ok()?.to_ascii_lowercase();
        return name.is_ascii().then_some(PermittedName::Dns(name));
    }
    (tag == Tag::context(7)).then_some(PermittedName::Ip(content))
}

/// The names below which it may sign others (section 4.2.1.10).
fn permitted(reader: BERReader<'_, '_>) -> ASN1Result<Option<Vec<PermittedName>>> {
    reader.read_sequence(|reader| {
        let subtrees = reader.read_optional(|reader| {
            reader.read_tagged_implicit(Tag::context(0), |reader| {
                reader.collect_sequence_of(|reader| {
                    let base = parts(reader)?.into_iter().next();
                    Ok(base.and_then(|(tag, content)| general_name(tag, content)))
                })
            })
        })?;
        reader.read_optional(|reader| {
            reader.read_tagged_implicit(Tag::context(1), |reader| parts(reader))
        })?;
        Ok(subtrees.map(|subtrees| subtrees.into_iter().flatten().collect()))
    })
}

/// A name as it is read, its parts in their order: `CN=h.example, O=Lantern Ferries`.
fn in_words(der: &[u8]) -> ASN1Result<String> {
    let sets = parse_der(der, |reader| {
        reader.collect_sequence_of(|reader| {
            reader.collect_set_of(|reader| {
                reader.read_sequence(|reader| {
                    let kind = reader.next().read_oid()?;
                    let value = reader.next().read_tagged_der()?;
                    Ok(format!("{}={}", kind_of(&kind), text(value.tag(), value.value())?))
                })
            })
        })
    })?;
    Ok(sets.iter().map(|set| set.join(" + ")).collect::<Vec<_>>().join(", "))
}

fn kind_of(kind: &ObjectIdentifier) -> String {
    let known = match **kind.components() {
        [2, 5, 4, 3] => "CN",
        [2, 5, 4, 5] => "serialNumber",
        [2, 5, 4, 6] => "C",
        [2, 5, 4, 7] => "L",
        [2, 5, 4, 8] => "ST",
        [2, 5, 4, 9] => "STREET",
        [2, 5, 4, 10] => "O",
        [2, 5, 4, 11] => "OU",
        [0, 9, 2342, 19_200_300, 100, 1, 25] => "DC",
        [1, 2, 840, 113_549, 1, 9, 1] => "emailAddress",
        _ => return kind.to_string(),
    };
    known.to_owned()
}

/// A text of any of the kinds that names are made of (section 4.1.2.4).
fn text(tag: Tag, content: &[u8]) -> ASN1Result<String> {
    if tag != yasna::tags::TAG_BMPSTRING {
        return Ok(String::from_utf8_lossy(content).into_owned());
    }
    let units = content.chunks(2).map(|pair| match *pair {
        [high, low] => Ok(u16::from_be_bytes([high, low])),
        _ => Err(ASN1Error::new(ASN1ErrorKind::Invalid)),
    });
    Ok(String::from_utf16_lossy(&units.collect::<ASN1Result<Vec<u16>>>()?))
}
