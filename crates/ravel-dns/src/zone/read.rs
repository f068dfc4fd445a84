//! Reads master files (RFC 1035, section 5).

use std::collections::BTreeMap;

use rustc_hash::FxHashMap;

use super::expand::Reading;
use super::{Name, Zone, ZoneError, ZoneErrorKind};

impl Zone {
    /// Reads a zone file; `domain` is its first origin, and the name that its SOA must have. What it
    /// includes is not read: see [`Zone::parse_with`].
    ///
    /// ```
    /// let error = ravel_dns::Zone::parse("h.example", "@ 1h A 192.0.2.44\n").unwrap_err();
    /// assert!(error.to_string().contains("no SOA record"));
    /// ```
    ///
    /// # Errors
    /// The first line that cannot be understood.
    pub fn parse(domain: &str, text: &str) -> Result<Zone, ZoneError> {
        Zone::parse_with(domain, text, "", |_| Err::<Vec<u8>, _>("nothing reads files here"))
    }

    /// Reads a zone file, and with `read` the files that it includes, by their names as seen from
    /// `folder`.
    ///
    /// ```
    /// let text = "@ 1h SOA ns1 hostmaster 1 2h 15m 2w 30m\n$INCLUDE hosts.zone\n$GENERATE 1-3 berth$ A 192.0.2.$\n";
    /// let read = |name: &str| match name {
    ///     "dns/hosts.zone" => Ok(b"www 1h A 192.0.2.44\n".to_vec()),
    ///     _ => Err("no such file"),
    /// };
    /// let zone = ravel_dns::Zone::parse_with("h.example", text, "dns", read)?;
    /// assert_eq!(zone.of(&"berth2.h.example".parse()?).count(), 1);
    /// assert_eq!(zone.records().len(), 5);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// The first line that cannot be understood.
    pub fn parse_with<E: std::fmt::Display>(
        domain: &str,
        text: &str,
        folder: &str,
        mut read: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Zone, ZoneError> {
        let fail = |line, kind| ZoneError { line, kind };
        if u32::try_from(text.len()).is_err() {
            return Err(fail(1, ZoneErrorKind::TooLarge));
        }
        let body = text.strip_prefix('\u{feff}').unwrap_or(text);
        let wanted = || ZoneErrorKind::Expected {
            wanted: "the name of a domain",
            found: Some(domain.to_owned()),
        };
        let origin: Name = domain.parse().map_err(|_| fail(1, wanted()))?;
        let zone = Zone {
            text: body.into(),
            origin: origin.clone(),
            entries: Vec::new(),
            names: FxHashMap::default(),
            soa: u32::MAX,
            expansions: Vec::new(),
            included: BTreeMap::new(),
            folder: match folder {
                "" => "".into(),
                folder => format!("{}/", folder.trim_end_matches('/')).into(),
            },
        };
        let mut read = |name: &str| read(name).map_err(|error| error.to_string());
        let mut reading = Reading::new(zone, &mut read);
        reading.text(body, None)?;
        let zone = reading.zone;
        if zone.soa == u32::MAX {
            let line = u32::try_from(1 + body.matches('\n').count()).unwrap_or(u32::MAX);
            return Err(fail(line, ZoneErrorKind::NoSoa));
        }
        Ok(zone)
    }
}
