//! Moments, to the second.

use std::fmt;
use std::str::FromStr;
use std::time::SystemTime;

use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

/// A moment, to the second. It keeps the offset from UTC that it was written with, and is shown with
/// it; two moments are equal if they are at the same time.
///
/// ```
/// use ravel_dns::Moment;
///
/// let noon: Moment = "2026-03-01T12:00:00+01:00".parse()?;
/// assert_eq!(noon.plus(90).to_string(), "2026-03-01T12:01:30+01:00");
/// assert_eq!(noon, "2026-03-01T11:00:00Z".parse()?);
/// assert_eq!(noon.plus(90).since(noon), 90);
/// # Ok::<(), ravel_dns::MomentError>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Moment(OffsetDateTime);

/// A text that is no moment; what it must look like is in its message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MomentError(());

/// The first and the last second of the years 1 to 9999, from 1970 on.
const FIRST: i64 = -62_135_596_800;
const LAST: i64 = 253_402_300_799;

impl Moment {
    /// The moment that is so many seconds after (or, if negative, before) the first of January 1970,
    /// in UTC; at most in the year 9999.
    ///
    /// ```
    /// assert_eq!(ravel_dns::Moment::from_unix(0).to_string(), "1970-01-01T00:00:00Z");
    /// ```
    pub fn from_unix(seconds: i64) -> Moment {
        Moment(OffsetDateTime::UNIX_EPOCH).plus(seconds)
    }

    /// Seconds since the first of January 1970, in UTC.
    pub fn unix(self) -> i64 {
        self.0.unix_timestamp()
    }

    /// The moment so many seconds later (or, if negative, earlier); at most in the year 9999.
    ///
    /// ```
    /// assert_eq!(ravel_dns::Moment::from_unix(0).plus(90).unix(), 90);
    /// ```
    pub fn plus(self, seconds: i64) -> Moment {
        // What the clock package can count to depends on who else uses it.
        let unix = self.unix().saturating_add(seconds).clamp(FIRST, LAST);
        Moment(self.0.saturating_add(Duration::seconds(unix - self.unix())))
    }

    /// The seconds from an earlier moment to this one; negative if it is a later one.
    ///
    /// ```
    /// let start = ravel_dns::Moment::from_unix(0);
    /// assert_eq!(start.since(start.plus(90)), -90);
    /// ```
    pub fn since(self, earlier: Moment) -> i64 {
        self.unix().saturating_sub(earlier.unix())
    }

    /// Its day, as RFC 3339 writes it: `2026-03-01`.
    pub fn date(self) -> String {
        self.0.date().to_string()
    }

    pub(crate) fn of(time: OffsetDateTime) -> Moment {
        Moment(time.replace_nanosecond(0).unwrap_or(time))
    }
}

impl From<SystemTime> for Moment {
    fn from(time: SystemTime) -> Moment {
        Moment::of(time.into())
    }
}

impl FromStr for Moment {
    type Err = MomentError;

    fn from_str(text: &str) -> Result<Moment, MomentError> {
        OffsetDateTime::parse(text, &Rfc3339).map(Moment::of).map_err(|_| MomentError(()))
    }
}

impl fmt::Display for Moment {
    /// As RFC 3339 writes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.format(&Rfc3339).unwrap_or_default())
    }
}

impl fmt::Display for MomentError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(
            "write date, time and offset as in 2027-03-01T06:00:00Z or 2027-03-01T07:00:00+01:00",
        )
    }
}

impl std::error::Error for MomentError {}
