//! The one place that reads the clock.

use jiff::{SignedDuration, Timestamp};

/// The time of this command.
#[expect(clippy::disallowed_methods, reason = "this is where time comes in; `--at` replaces it")]
pub(crate) fn now() -> Timestamp {
    // whole seconds, as certificates have them
    let now = Timestamp::now();
    Timestamp::from_second(now.as_second()).unwrap_or(now)
}

/// Reads a time from the command line: RFC 3339, or a date for its first second in UTC.
pub(crate) fn parse(text: &str) -> Result<Timestamp, String> {
    let day = || text.parse::<jiff::civil::Date>().ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok();
    text.parse::<Timestamp>()
        .ok()
        .or_else(|| day().map(|zoned| zoned.timestamp()))
        .ok_or_else(|| "a time is written 2031-05-19T12:00:00Z, or 2031-05-19 for midnight UTC".into())
}

/// Reads a length of time from the command line: minutes, hours or days.
pub(crate) fn time(text: &str) -> Result<SignedDuration, String> {
    let wrong = || "a time is a number of minutes, hours or days: 30m, 8h, 2d".to_owned();
    let (number, unit) =
        text.char_indices().last().map(|(at, unit)| (text.get(..at), unit)).ok_or_else(wrong)?;
    let minutes = match unit {
        'm' => 1,
        'h' => 60,
        'd' => 24 * 60,
        _ => return Err(wrong()),
    };
    let number: i64 = number.and_then(|number| number.parse().ok()).ok_or_else(wrong)?;
    let seconds = number.checked_mul(minutes * 60).filter(|seconds| *seconds > 0).ok_or_else(wrong)?;
    Ok(SignedDuration::from_secs(seconds))
}
