//! Points in time of property lists.

/// Seconds between 1970 and 2001, where property lists count from.
const EPOCH: i64 = 978_307_200;
const DAY: i64 = 86_400;

/// A point in time, in seconds since the start of 2001, UTC.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Date(f64);

impl Date {
    /// From seconds since 2001. Nothing for a time whose year has not four digits.
    pub(super) fn of_seconds(seconds: f64) -> Option<Self> {
        let first = (days(0, 1, 1) * DAY - EPOCH) as f64;
        let end = (days(10_000, 1, 1) * DAY - EPOCH) as f64;
        (first..end).contains(&seconds).then_some(Date(seconds))
    }

    /// Seconds since the start of 2001.
    pub(super) fn seconds(self) -> f64 {
        self.0
    }

    /// From whole seconds since 1970. Nothing for a time whose year has not four digits.
    pub fn of_unix(seconds: i64) -> Option<Self> {
        Date::of_seconds(seconds.checked_sub(EPOCH)? as f64)
    }

    /// Whole seconds since 1970.
    pub fn unix(self) -> i64 {
        // its years have four digits: the number fits
        self.0.floor() as i64 + EPOCH
    }

    /// Reads a date and a time of RFC 3339, section 5.6.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (date, time) = text.split_once(['T', 't'])?;
        let [year, month, day] = numbers(date, '-', [4, 2, 2])?;
        let at = time.find(['Z', 'z', '+', '-'])?;
        let (clock, zone) = time.split_at_checked(at)?;
        let (clock, part) = clock.split_once('.').map_or((clock, None), |(clock, part)| (clock, Some(part)));
        let [hour, minute, second] = numbers(clock, ':', [2, 2, 2])?;
        let part = match part {
            None => 0.0,
            Some(digits) if digits.bytes().all(|digit| digit.is_ascii_digit()) && !digits.is_empty() => {
                format!("0.{digits}").parse::<f64>().ok()?
            }
            Some(_) => return None,
        };
        let offset = match zone.split_at_checked(1)? {
            ("Z" | "z", "") => 0,
            (sign, zone) => {
                let [hours, minutes] = numbers(zone, ':', [2, 2])?;
                let offset = (hours <= 23 && minutes <= 59).then_some(hours * 3_600 + minutes * 60)?;
                if sign == "-" { -offset } else { offset }
            }
        };
        let is_date = (1..=12).contains(&month) && (1..=days_of_month(year, month)).contains(&day);
        // a leap second is the first second of the next minute
        let is_time = hour <= 23 && minute <= 59 && second <= 60;
        if !is_date || !is_time {
            return None;
        }
        let whole = days(year, month, day) * DAY + hour * 3_600 + minute * 60 + second - offset - EPOCH;
        Date::of_seconds(whole as f64 + part)
    }
}

impl std::fmt::Display for Date {
    /// In whole seconds, as XML has it.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (day, second) = (self.unix().div_euclid(DAY), self.unix().rem_euclid(DAY));
        let mut year = 1970 + day / 366 - i64::from(day < 0);
        while days(year + 1, 1, 1) <= day {
            year += 1;
        }
        while days(year, 1, 1) > day {
            year -= 1;
        }
        let month = (1..=12).rev().find(|month| days(year, *month, 1) <= day).unwrap_or(1);
        let day = day - days(year, month, 1) + 1;
        let (hour, minute, second) = (second / 3_600, second / 60 % 60, second % 60);
        write!(f, "{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}Z")
    }
}

/// Numbers of exactly these many digits, with a separator between them.
fn numbers<const N: usize>(text: &str, separator: char, digits: [usize; N]) -> Option<[i64; N]> {
    let mut out = [0; N];
    let mut parts = text.split(separator);
    for (slot, digits) in out.iter_mut().zip(digits) {
        let part = parts.next()?;
        if part.len() != digits || !part.bytes().all(|digit| digit.is_ascii_digit()) {
            return None;
        }
        *slot = part.parse().ok()?;
    }
    parts.next().is_none().then_some(out)
}

fn is_leap(year: i64) -> bool {
    year % 4 == 0 && (year % 100 != 0 || year % 400 == 0)
}

fn days_of_month(year: i64, month: i64) -> i64 {
    match month {
        2 => 28 + i64::from(is_leap(year)),
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Days between 1970 and a date of the Gregorian calendar, negative before.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let years = |year: i64| {
        // whole years before this one, counted from year 0
        let last = year - 1;
        year * 365 + last.div_euclid(4) - last.div_euclid(100) + last.div_euclid(400)
    };
    let months: i64 = (1..month).map(|month| days_of_month(year, month)).sum();
    years(year) - years(1970) + months + day - 1
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn dates_are_read_with_offsets_and_fractions_and_nothing_else() {
        let unix = |text: &str| Date::parse(text).map(Date::unix);
        assert_eq!(unix("1970-01-01T00:00:00Z"), Some(0));
        assert_eq!(unix("2031-05-19T14:30:01+02:30"), unix("2031-05-19T12:00:01Z"));
        assert_eq!(unix("2024-02-29T23:59:60Z"), unix("2024-03-01T00:00:00Z"));
        assert_eq!(Date::parse("2001-01-01T00:00:00.25Z").map(Date::seconds), Some(0.25));
        assert_eq!(Date::parse("2000-12-31T23:59:59.5Z").unwrap().to_string(), "2000-12-31T23:59:59Z");
        for bad in [
            "",
            "2031-05-19",
            "2031-05-19T12:00:00",
            "2031-05-19 12:00:00Z",
            "2031-02-29T00:00:00Z",
            "2031-13-01T00:00:00Z",
            "2031-05-19T24:00:00Z",
            "2031-05-19T12:00:00.Z",
            "2031-05-19T12:00Z",
            "+031-05-19T12:00:00Z",
            "2031-5-19T12:00:00Z",
            "2031-05-19T12:00:00+0200",
            "2031-05-19T12:00:00Zx",
        ] {
            assert_eq!(Date::parse(bad), None, "{bad}");
        }
        assert_eq!(Date::of_seconds(f64::NAN), None);
        assert_eq!(Date::of_unix(i64::MIN), None);
        assert_eq!(Date::of_unix(253_402_300_799).unwrap().to_string(), "9999-12-31T23:59:59Z");
        assert_eq!(Date::of_unix(253_402_300_800), None);
    }

    proptest! {
        #[test]
        fn every_second_is_read_as_it_is_written(second in -62_167_219_200i64..253_402_300_800) {
            let date = Date::of_unix(second).unwrap();
            prop_assert_eq!(date.unix(), second);
            prop_assert_eq!(Date::parse(&date.to_string()), Some(date));
            let theirs = plist::Date::from_xml_format(&date.to_string()).unwrap();
            prop_assert_eq!(theirs.to_xml_format(), date.to_string());
        }
    }
}
