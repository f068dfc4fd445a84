//! Names of the DNS.

use std::fmt;
use std::str::FromStr;

use hickory_proto::rr;

/// A name of the DNS, whole (RFC 1035, section 3.1). Names that differ in case alone are equal.
///
/// ```
/// use ravel_dns::zone::Name;
///
/// let www: Name = "www.harbour.example".parse()?;
/// assert_eq!(www, "WWW.harbour.example.".parse()?);
/// assert_eq!(www.to_string(), "www.harbour.example");
/// assert!("harbour.example".parse::<Name>()?.holds(&www));
/// # Ok::<(), ravel_dns::zone::NameError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(pub(crate) rr::Name);

/// A text that is not a valid name: a label is empty or longer than 63 bytes, or the whole longer than 255.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NameError(());

impl Name {
    /// Whether another name is this one or below it.
    ///
    /// ```
    /// use ravel_dns::zone::Name;
    ///
    /// assert!("h.example".parse::<Name>()?.holds(&"www.h.example".parse()?));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn holds(&self, name: &Name) -> bool {
        self.0.zone_of(&name.0)
    }

    /// A name of these labels, which may have any bytes; none where they are too long.
    ///
    /// ```
    /// use ravel_dns::zone::Name;
    ///
    /// let name = Name::from_labels([&b"a.b"[..], b"example"]).unwrap();
    /// assert_eq!(name.to_master(), "a\\.b.example.");
    /// assert_eq!("a\\046b.example".parse(), Ok(name));
    /// ```
    pub fn from_labels<'l>(labels: impl IntoIterator<Item = &'l [u8]>) -> Option<Name> {
        let mut name = rr::Name::from_labels(labels).ok()?;
        name.set_fqdn(true);
        Some(Name(name))
    }

    /// The labels, the first first.
    pub fn labels(&self) -> impl Iterator<Item = &[u8]> {
        self.0.iter()
    }

    /// Whether this is a name, or a wildcard that is directly above it.
    pub(crate) fn covers(&self, name: &Name) -> bool {
        self == name || (self.to_master().starts_with("*.") && name.above() == self.above())
    }

    /// The root, above every name.
    pub fn root() -> Name {
        Name(rr::Name::root())
    }

    /// The name as master files write it, with its final dot (RFC 1035, section 5.1).
    pub fn to_master(&self) -> String {
        let mut text = String::new();
        for label in self.0.iter() {
            write_label(label, &mut text);
            text.push('.');
        }
        if text.is_empty() { ".".to_owned() } else { text }
    }

    /// The name without its first label; the root is above itself.
    ///
    /// ```
    /// use ravel_dns::zone::Name;
    ///
    /// assert_eq!("www.h.example".parse::<Name>()?.above(), "h.example".parse()?);
    /// # Ok::<(), ravel_dns::zone::NameError>(())
    /// ```
    pub fn above(&self) -> Name {
        Name(self.0.base_name())
    }
}

impl FromStr for Name {
    type Err = NameError;

    /// Reads a whole name, with or without its final dot.
    fn from_str(text: &str) -> Result<Name, NameError> {
        let (labels, _) = labels(text).ok_or(NameError(()))?;
        Name::from_labels(labels.iter().map(Vec::as_slice)).ok_or(NameError(()))
    }
}

/// The labels of a name as master files write it, with `\X` and `\DDD` (RFC 1035, section 5.1), and
/// whether it ends with a dot.
pub(super) fn labels(text: &str) -> Option<(Vec<Vec<u8>>, bool)> {
    if !text.is_ascii() || text.is_empty() {
        return None;
    }
    let mut labels = Vec::new();
    if text == "." {
        return Some((labels, true));
    }
    let (mut label, mut rest) = (Vec::new(), text.as_bytes());
    while let Some((&byte, after)) = rest.split_first() {
        rest = after;
        match byte {
            b'.' if label.is_empty() => return None,
            b'.' => labels.push(std::mem::take(&mut label)),
            b'\\' if after.len() >= 3 && after[..3].iter().all(u8::is_ascii_digit) => {
                let code =
                    after[..3].iter().fold(0, |sum, digit| sum * 10 + u32::from(digit - b'0'));
                label.push(u8::try_from(code).ok()?);
                rest = &after[3..];
            }
            b'\\' => {
                label.push(*after.first()?);
                rest = &after[1..];
            }
            byte => label.push(byte),
        }
    }
    let is_whole = label.is_empty();
    if !is_whole {
        labels.push(label);
    }
    Some((labels, is_whole))
}

/// A name, whole; a relative one gets the origin.
pub(super) fn absolute(text: &str, origin: &Name) -> Option<Name> {
    if text == "@" {
        return Some(origin.clone());
    }
    let (mut labels, is_whole) = labels(text)?;
    if !is_whole {
        labels.extend(origin.0.iter().map(<[u8]>::to_vec));
    }
    Name::from_labels(labels.iter().map(Vec::as_slice))
}

/// A label as master files write it.
fn write_label(label: &[u8], text: &mut String) {
    for &byte in label {
        match byte {
            b'.' | b'\\' | b'"' | b';' | b'(' | b')' | b'@' | b'$' => {
                text.push('\\');
                text.push(char::from(byte));
            }
            b'!'..=b'~' => text.push(char::from(byte)),
            _ => text.push_str(&format!("\\{byte:03}")),
        }
    }
}

impl fmt::Display for Name {
    /// As people write it: without the final dot.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = self.to_master();
        f.write_str(text.strip_suffix('.').filter(|rest| !rest.is_empty()).unwrap_or(&text))
    }
}

impl fmt::Display for NameError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a name has labels of 1 to 63 bytes with dots between them, 255 bytes in all")
    }
}

impl std::error::Error for NameError {}
