//! Days of the calendar, as logs write them.

use std::fmt;

use time::{Date, Month, OffsetDateTime};

/// A day of the Gregorian calendar, in the time zone of the log.
///
/// ```
/// assert_eq!(ravel_traffic::Day::from_date(2026, 11, 26).unwrap().to_string(), "2026-11-26");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Day(i32);

impl Day {
    /// A day by year, month and day of the month; none if there is no such day.
    pub fn from_date(year: i32, month: u8, day: u8) -> Option<Day> {
        let date = Date::from_calendar_date(year, Month::try_from(month).ok()?, day).ok()?;
        Some(Day(date.to_julian_day()))
    }

    /// The day of a moment, in seconds since 1970 began.
    pub fn from_seconds(seconds: i64) -> Option<Day> {
        let moment = OffsetDateTime::from_unix_timestamp(seconds).ok()?;
        Some(Day(moment.date().to_julian_day()))
    }

    /// The day's number: that of the next is one more.
    pub fn number(self) -> i32 {
        self.0
    }

    /// The day with a number.
    pub fn from_number(number: i32) -> Option<Day> {
        Date::from_julian_day(number).ok().map(|date| Day(date.to_julian_day()))
    }

    /// Year, month and day of the month.
    pub fn date(self) -> (i32, u8, u8) {
        let date = Date::from_julian_day(self.0).unwrap_or(Date::MIN);
        (date.year(), u8::from(date.month()), date.day())
    }
}

impl fmt::Display for Day {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (year, month, day) = self.date();
        write!(f, "{year:04}-{month:02}-{day:02}")
    }
}

impl std::str::FromStr for Day {
    type Err = ();

    fn from_str(text: &str) -> Result<Day, ()> {
        iso(text.as_bytes()).ok_or(())
    }
}

/// `2026-11-26`, at the beginning of a text.
pub(crate) fn iso(text: &[u8]) -> Option<Day> {
    let date = text.get(..10).filter(|date| date[4] == b'-' && date[7] == b'-')?;
    Day::from_date(number(&date[..4])?, small(&date[5..7])?, small(&date[8..])?)
}

/// `26/Nov/2026`, whole.
fn common(text: &[u8]) -> Option<Day> {
    const MONTHS: [&[u8; 3]; 12] = [
        b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov",
        b"Dec",
    ];
    if text.len() != 11 || text[2] != b'/' || text[6] != b'/' {
        return None;
    }
    let month = MONTHS.iter().position(|name| name[..] == text[3..6])?;
    Day::from_date(number(&text[7..])?, month as u8 + 1, small(&text[..2])?)
}

fn number(digits: &[u8]) -> Option<i32> {
    let digit = |number: i32, byte: &u8| {
        byte.is_ascii_digit().then(|| number * 10 + i32::from(byte - b'0'))
    };
    digits.iter().try_fold(0, digit)
}

fn small(digits: &[u8]) -> Option<u8> {
    number(digits).and_then(|number| u8::try_from(number).ok())
}

/// Reads dates of which most are that of the line before.
#[derive(Debug, Default)]
pub(crate) struct DayReader {
    text: [u8; 11],
    day: Option<Day>,
}

impl DayReader {
    /// The day of `26/Nov/2026`.
    pub(crate) fn common(&mut self, text: &[u8]) -> Option<Day> {
        if self.day.is_some() && self.text == *text {
            return self.day;
        }
        self.day = common(text);
        if self.day.is_some() {
            self.text.copy_from_slice(text);
        }
        self.day
    }
}
