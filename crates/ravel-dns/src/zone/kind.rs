//! Types of records.

use std::fmt;
use std::str::FromStr;

use hickory_proto::rr;

/// The type of a record, by its number (IANA, "Resource Record TYPEs").
///
/// ```
/// use ravel_dns::zone::RecordType;
///
/// assert_eq!("cname".parse(), Ok(RecordType::CNAME));
/// assert_eq!(RecordType::from_code(65_280).to_string(), "TYPE65280");
/// assert_eq!(RecordType::AAAA.code(), 28);
/// # Ok::<(), ravel_dns::zone::RecordTypeError>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RecordType(u16);

/// A word that is not a type of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RecordTypeError(());

macro_rules! types {
    ($($name:ident = $code:literal $about:literal,)+) => {
        /// The types that are looked at here.
        impl RecordType {
            $(#[doc = $about] pub const $name: RecordType = RecordType($code);)+
        }
    };
}

types! {
    A = 1 "An IPv4 address.",
    NS = 2 "A name server.",
    CNAME = 5 "Another name for the same.",
    SOA = 6 "The start of a zone.",
    PTR = 12 "A name, for an address.",
    MX = 15 "A mail server.",
    TXT = 16 "Texts.",
    AAAA = 28 "An IPv6 address.",
    SRV = 33 "A server of a service.",
    NAPTR = 35 "A rule that rewrites names.",
    DNAME = 39 "Another name for all names below.",
    DS = 43 "The key of a zone below.",
    RRSIG = 46 "A signature.",
    NSEC = 47 "What names and types there are.",
    DNSKEY = 48 "A key that a zone is signed with.",
    NSEC3 = 50 "What hashes of names there are.",
    SVCB = 64 "How a service is reached.",
    HTTPS = 65 "How a web site is reached.",
    ANY = 255 "In a question: every type.",
    CAA = 257 "Who may issue certificates.",
}

/// Types with a mnemonic that the DNS package does not know.
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

impl RecordType {
    /// The type with this number.
    ///
    /// ```
    /// use ravel_dns::zone::RecordType;
    ///
    /// assert_eq!(RecordType::from_code(1), RecordType::A);
    /// ```
    pub const fn from_code(code: u16) -> RecordType {
        RecordType(code)
    }

    /// Its number.
    pub const fn code(self) -> u16 {
        self.0
    }

    pub(crate) fn of(kind: rr::RecordType) -> RecordType {
        RecordType(kind.into())
    }

    pub(crate) fn known(self) -> rr::RecordType {
        self.0.into()
    }
}

impl FromStr for RecordType {
    type Err = RecordTypeError;

    /// A mnemonic, in any case, or `TYPE` and a number (RFC 3597, section 5); of a record, so no
    /// type that only questions have.
    fn from_str(word: &str) -> Result<RecordType, RecordTypeError> {
        use rr::RecordType as Known;
        let upper = word.to_ascii_uppercase();
        let numbered = || upper.strip_prefix("TYPE")?.parse::<u16>().ok();
        let other = || OTHER_TYPES.iter().find(|(name, _)| *name == upper).map(|(_, code)| *code);
        match Known::from_str(&upper) {
            Ok(Known::ANY | Known::AXFR | Known::IXFR | Known::OPT | Known::ANAME) => None,
            Ok(kind) => Some(RecordType::of(kind)),
            Err(_) => numbered().or_else(other).map(RecordType),
        }
        .ok_or(RecordTypeError(()))
    }
}

impl fmt::Display for RecordType {
    /// As master files write it (RFC 3597, section 5).
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use rr::RecordType as Known;
        match self.known() {
            // The package has words of its own for the last two.
            Known::Unknown(_) | Known::ZERO | Known::ANAME => write!(f, "TYPE{}", self.0),
            kind => kind.fmt(f),
        }
    }
}

impl fmt::Display for RecordTypeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a type is a mnemonic such as `A` or `CNAME`, or `TYPE` and a number")
    }
}

impl std::error::Error for RecordTypeError {}
