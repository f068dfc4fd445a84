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

    /// A name of these labels; none where they are too long.
    pub(crate) fn from_labels(labels: &[Vec<u8>]) -> Option<Name> {
        rr::Name::from_labels(labels.iter().map(Vec::as_slice)).ok().map(Name)
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
        self.0.to_ascii()
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
        let whole = if text.ends_with('.') { text.to_owned() } else { format!("{text}.") };
        rr::Name::from_ascii(whole).map(Name).map_err(|_| NameError(()))
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
