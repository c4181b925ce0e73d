//! Dates with their distance, sizes with their unit, fingerprints in short.

use jiff::Timestamp;
use jiff::tz::Offset;
use ninekeys_core::model::{Role, Use};

const DAY: i64 = 86_400;

/// A blank between what belongs together, a number and its unit: no line is broken there. It is printed as any other.
pub(crate) const TIE: char = '\u{a0}';

/// A text whose words stay on one line.
pub(crate) fn tied(text: &str) -> String {
    text.chars().map(|c| if c == ' ' { TIE } else { c }).collect()
}

/// What a key is for: each role that it has with its apps, signing first.
pub(crate) fn by_role(uses: &[Use]) -> Vec<(Role, Vec<&str>)> {
    let of = |role: Role| {
        let apps: Vec<&str> =
            uses.iter().filter(|one| one.role == role).map(|one| one.app.as_str()).collect();
        (role, apps)
    };
    [Role::Signing, Role::Upload].into_iter().map(of).filter(|(_, apps)| !apps.is_empty()).collect()
}

const MONTHS: [&str; 12] =
    ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/// `11 Jun 2031`
pub(crate) fn day(at: Timestamp) -> String {
    let mut out = String::new();
    push_day(&mut out, at);
    out
}

fn push_day(out: &mut String, at: Timestamp) {
    // without a pattern that would be read each time: a list may have 100,000 of them
    let date = Offset::UTC.to_datetime(at).date();
    let month = usize::try_from(date.month() - 1).ok().and_then(|month| MONTHS.get(month)).unwrap_or(&"");
    push_number(out, u64::try_from(date.day()).unwrap_or_default(), 1);
    out.push(TIE);
    out.push_str(month);
    out.push(TIE);
    push_number(out, u64::try_from(date.year()).unwrap_or_default(), 4);
}

/// `23 d`, `28 y`, `4 d ago`, `today`: days, beyond two years in years.
pub(crate) fn distance(now: Timestamp, then: Timestamp) -> String {
    let mut out = String::new();
    push_distance(&mut out, now, then);
    out
}

fn push_distance(out: &mut String, now: Timestamp, then: Timestamp) {
    let seconds = then.as_second() - now.as_second();
    let days = seconds.abs() / DAY;
    let (length, unit) = if days > 2 * 365 { ((days * 400 + 73_048) / 146_097, "y") } else { (days, "d") };
    if days == 0 {
        return out.push_str("today");
    }
    push_number(out, length.unsigned_abs(), 1);
    out.push(TIE);
    out.push_str(unit);
    if seconds < 0 {
        out.push(TIE);
        out.push_str("ago");
    }
}

/// A number in so many digits at least: many times faster than by a pattern.
fn push_number(out: &mut String, number: u64, digits: u32) {
    let mut place = 10_u64.pow(digits.max(number.checked_ilog10().unwrap_or(0) + 1) - 1);
    while place > 0 {
        let digit = u8::try_from(number / place % 10).unwrap_or_default();
        out.push(char::from(b'0' + digit));
        place /= 10;
    }
}

/// `11 Jun 2031, 23 d`
pub(crate) fn day_and_distance(now: Timestamp, then: Timestamp) -> String {
    let mut out = String::with_capacity(32);
    push_day_and_distance(&mut out, now, then);
    out
}

pub(crate) fn push_day_and_distance(out: &mut String, now: Timestamp, then: Timestamp) {
    push_day(out, then);
    out.push_str(", ");
    push_distance(out, now, then);
}

/// Findings of a check that let a build through.
pub(crate) fn stops_nothing(findings: usize) -> String {
    match findings {
        1 => "1 finding that stops nothing: ninekeys check says it".to_owned(),
        many => format!("{} that stop nothing: ninekeys check says them", count(many, "finding")),
    }
}

/// `19 May 2031 12:00 UTC`
pub(crate) fn moment(at: Timestamp) -> String {
    tied(&at.strftime("%-d %b %Y %H:%M UTC").to_string())
}

/// `the store`, or which of several.
pub(crate) fn the_store(store: Option<&str>) -> String {
    store.map_or_else(|| "the store".into(), |store| format!("the store {store}"))
}

/// `84.1 MiB`; what is smaller in KiB or bytes, so that nothing is 0.
pub(crate) fn size(bytes: u64) -> String {
    let tenths = bytes.saturating_mul(10) / (1 << 20);
    match bytes {
        ..1024 => return count(usize::try_from(bytes).unwrap_or(usize::MAX), "byte"),
        // what would be rounded to 0.0 MiB
        _ if tenths == 0 => return tied(&format!("{}.{} KiB", bytes >> 10, (bytes % 1024) * 10 / 1024)),
        _ => {}
    }
    tied(&format!("{}.{} MiB", tenths / 10, tenths % 10))
}

/// Three bytes of a fingerprint: `8C:41:D0…`
pub(crate) fn short(fingerprint: &str) -> String {
    let mut out = String::with_capacity(12);
    push_short(&mut out, fingerprint);
    out
}

pub(crate) fn push_short(out: &mut String, fingerprint: &str) {
    pairs(fingerprint, 3, out);
    out.push('…');
}

/// A whole fingerprint: `8C:41:D0:…`
pub(crate) fn whole(fingerprint: &str) -> String {
    let mut out = String::with_capacity(fingerprint.len() * 3 / 2);
    pairs(fingerprint, usize::MAX, &mut out);
    out
}

/// Digits in large letters, two by two with colons between, as many pairs as are wanted.
fn pairs(digits: &str, most: usize, out: &mut String) {
    for (index, digit) in digits.chars().take(most.saturating_mul(2)).enumerate() {
        if index > 0 && index.is_multiple_of(2) {
            out.push(':');
        }
        out.push(digit.to_ascii_uppercase());
    }
}

/// `1 error`, `2 errors`
pub(crate) fn count(number: usize, word: &str) -> String {
    let mut out = String::new();
    push_count(&mut out, number, word);
    out
}

pub(crate) fn push_count(out: &mut String, number: usize, word: &str) {
    push_number(out, number as u64, 1);
    out.push(TIE);
    out.extend(word.chars().map(|letter| if letter == ' ' { TIE } else { letter }));
    if number != 1 {
        out.push('s');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn distances_are_in_days_and_beyond_two_years_in_years() {
        let now: Timestamp = "2031-05-19T00:00:00Z".parse().unwrap();
        let at = |text: &str| distance(now, text.parse().unwrap()).replace(TIE, " ");
        assert_eq!(at("2031-06-11T00:00:00Z"), "23 d");
        assert_eq!(at("2031-05-15T00:00:00Z"), "4 d ago");
        assert_eq!(at("2031-05-19T20:00:00Z"), "today");
        assert_eq!(at("2059-05-19T00:00:00Z"), "28 y");
        assert_eq!(at("2059-05-18T23:59:59Z"), "28 y", "a second after it was made, 30 years are 30");
        assert_eq!(at("2033-05-18T00:00:00Z"), "730 d");
    }

    #[test]
    fn sizes_and_fingerprints_are_short() {
        assert_eq!(size(88_185_241), tied("84.0 MiB"));
        assert_eq!(size(5_000), tied("4.8 KiB"));
        assert_eq!((size(0), size(1), size(1023)), (tied("0 bytes"), tied("1 byte"), tied("1023 bytes")));
        assert_eq!((size(1024), size(104_858)), (tied("1.0 KiB"), tied("0.1 MiB")));
        assert_eq!(short("8c41d0ff00"), "8C:41:D0…");
        assert_eq!(whole("8c41d0"), "8C:41:D0");
        assert_eq!((count(1, "error"), count(2, "error")), (tied("1 error"), tied("2 errors")));
    }
}
