//! Points in time as facts say them (RFC 3339): as this tool writes them they are read digit by digit, since a list may have
//! 300,000 of them. Whatever else the standard has is left to the library.

use std::fmt;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::Offset;
use serde::de::{Deserializer, Error, Visitor};

/// For `deserialize_with`.
///
/// # Errors
/// What is no point in time.
pub fn read<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Timestamp, D::Error> {
    struct Text;

    impl Visitor<'_> for Text {
        type Value = Timestamp;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("a point in time (RFC 3339)")
        }

        fn visit_str<E: Error>(self, text: &str) -> Result<Timestamp, E> {
            match usual(text.as_bytes()) {
                Some(at) => Ok(at),
                None => text.parse().map_err(E::custom),
            }
        }
    }

    deserializer.deserialize_str(Text)
}

/// `2031-06-01T00:00:00Z`, `2031-06-01T00:00:00.123456789Z`; nothing for anything else.
fn usual(text: &[u8]) -> Option<Timestamp> {
    let (date_time, rest) = text.split_first_chunk::<19>()?;
    let &[y0, y1, y2, y3, b'-', m0, m1, b'-', d0, d1, b'T', h0, h1, b':', n0, n1, b':', s0, s1] = date_time
    else {
        return None;
    };
    let pair = |ten: u8, one: u8| {
        let is_number = ten.is_ascii_digit() && one.is_ascii_digit();
        is_number.then(|| ((ten - b'0') * 10 + (one - b'0')).cast_signed())
    };
    let year = i16::from(pair(y0, y1)?) * 100 + i16::from(pair(y2, y3)?);
    let (month, day) = (pair(m0, m1)?, pair(d0, d1)?);
    let (hour, minute, second) = (pair(h0, h1)?, pair(n0, n1)?, pair(s0, s1)?);
    let nanosecond = match rest {
        b"Z" => 0,
        [b'.', digits @ .., b'Z'] => nanoseconds(digits)?,
        _ => return None,
    };
    let at = DateTime::new(year, month, day, hour, minute, second, nanosecond).ok()?;
    Offset::UTC.to_timestamp(at).ok()
}

/// A fraction of a second of one to nine digits.
fn nanoseconds(digits: &[u8]) -> Option<i32> {
    if !(1..=9).contains(&digits.len()) {
        return None;
    }
    let digit = |at: usize| digits.get(at).copied().unwrap_or(b'0');
    (0..9)
        .map(digit)
        .try_fold(0, |number, digit| digit.is_ascii_digit().then(|| number * 10 + i32::from(digit - b'0')))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_this_tool_writes_is_read_digit_by_digit() {
        for text in ["2031-06-01T00:00:00Z", "0000-01-01T00:00:00Z", "2026-11-27T10:38:23.840850118Z"] {
            let at: Timestamp = text.parse().unwrap();
            assert_eq!((usual(text.as_bytes()), at.to_string().as_str()), (Some(at), text));
        }
        let half = usual(b"2024-02-29T23:59:59.5Z").unwrap();
        assert_eq!(half.to_string(), "2024-02-29T23:59:59.5Z");
    }

    #[test]
    fn the_rest_is_left_to_the_library() {
        for (text, is_one) in [
            ("2031-06-01T02:00:00+02:00", true),
            ("2031-06-01 00:00:00Z", true),
            ("2031-06-30T23:59:60Z", true),
            ("2031-06-01T00:00Z", true),
            ("2031-02-29T00:00:00Z", false),
            ("2031-06-01T00:00:00", false),
            ("2031-06-01T00:00:00.Z", false),
            ("2031-06-01T00:00:00.1234567890Z", false),
            ("2031-13-01T00:00:00Z", false),
            ("", false),
        ] {
            assert_eq!(usual(text.as_bytes()), None, "{text}");
            let value = serde_json::Value::from(text);
            assert_eq!(read(value).ok(), text.parse().ok(), "{text}");
            assert_eq!(text.parse::<Timestamp>().is_ok(), is_one, "{text}");
        }
    }

    proptest! {
        #[test]
        fn whatever_is_read_is_what_the_library_reads(
            text in "[0-9]{4}-[01][0-9]-[0-3][0-9]T[0-2][0-9]:[0-6][0-9]:[0-6][0-9](\\.[0-9]{0,10})?Z?|\\PC{0,30}",
        ) {
            if let Some(at) = usual(text.as_bytes()) {
                prop_assert_eq!(text.parse().ok(), Some(at));
            }
        }

        #[test]
        fn every_moment_comes_back(second in -62_167_219_200_i64..253_402_207_200, nanosecond in 0..1_000_000_000) {
            let at = Timestamp::new(second, nanosecond).unwrap();
            prop_assert_eq!(usual(at.to_string().as_bytes()), Some(at));
        }
    }
}
