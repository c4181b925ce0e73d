//! The number that tells builds of one version apart.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use schemars::schema_of;
use serde::de::{Error as _, Unexpected, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use thiserror::Error;

/// The most parts that a number has.
const MOST_PARTS: usize = 4;

/// A list of numbers that are compared part by part; what is missing counts as 0. An Android version code is the simple
/// case of one part.
#[derive(Debug, Clone)]
pub struct BuildNumber(Vec<u64>);

/// A text that is no build number.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not a build number: one to {MOST_PARTS} whole numbers with dots between")]
pub struct NotANumber(String);

impl BuildNumber {
    /// The number before all others.
    pub const ZERO: BuildNumber = BuildNumber(Vec::new());

    /// The next one: one more in its last part.
    #[must_use]
    pub fn next(&self) -> BuildNumber {
        let mut parts = self.0.clone();
        match parts.last_mut() {
            Some(last) => *last = last.saturating_add(1),
            None => parts.push(1),
        }
        BuildNumber(parts)
    }

    fn parts(&self) -> impl Iterator<Item = u64> + '_ {
        self.0.iter().copied().chain(std::iter::repeat(0)).take(MOST_PARTS)
    }
}

impl From<u64> for BuildNumber {
    fn from(code: u64) -> Self {
        BuildNumber(vec![code])
    }
}

impl PartialEq for BuildNumber {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for BuildNumber {}

impl PartialOrd for BuildNumber {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for BuildNumber {
    fn cmp(&self, other: &Self) -> Ordering {
        self.parts().cmp(other.parts())
    }
}

impl FromStr for BuildNumber {
    type Err = NotANumber;

    fn from_str(text: &str) -> Result<Self, NotANumber> {
        let wrong = || NotANumber(text.chars().take(70).flat_map(char::escape_debug).collect());
        let part = |part: &str| match part.bytes().all(|byte| byte.is_ascii_digit()) {
            true => part.parse::<u64>().map_err(|_| wrong()),
            false => Err(wrong()),
        };
        let parts: Vec<u64> = text.split('.').take(MOST_PARTS + 1).map(part).collect::<Result<_, _>>()?;
        if parts.len() > MOST_PARTS { Err(wrong()) } else { Ok(BuildNumber(parts)) }
    }
}

impl fmt::Display for BuildNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts: Vec<String> = self.0.iter().map(ToString::to_string).collect();
        f.write_str(if parts.is_empty() { "0" } else { "" })?;
        f.write_str(&parts.join("."))
    }
}

impl Serialize for BuildNumber {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

schema_of!(BuildNumber, { "type": "string", "pattern": "^[0-9]+(\\.[0-9]+){0,3}$" });

/// Reads its text, or the one whole number that older rows of the ledger have.
impl<'de> Deserialize<'de> for BuildNumber {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct TextOrCode;

        impl Visitor<'_> for TextOrCode {
            type Value = BuildNumber;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a build number")
            }

            fn visit_u64<E: serde::de::Error>(self, code: u64) -> Result<BuildNumber, E> {
                Ok(BuildNumber::from(code))
            }

            fn visit_i64<E: serde::de::Error>(self, code: i64) -> Result<BuildNumber, E> {
                let code =
                    u64::try_from(code).map_err(|_| E::invalid_value(Unexpected::Signed(code), &self))?;
                Ok(BuildNumber::from(code))
            }

            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<BuildNumber, E> {
                text.parse().map_err(E::custom)
            }
        }

        deserializer.deserialize_any(TextOrCode).map_err(D::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn number(text: &str) -> BuildNumber {
        text.parse().unwrap()
    }

    #[test]
    fn parts_are_compared_one_by_one_as_numbers() {
        assert!(number("10") > number("9"));
        assert!(number("1.10") > number("1.9"));
        assert!(number("2") > number("1.99.99"));
        assert_eq!(number("1.0"), number("1"));
        assert!(number("1.0.1") > number("1"));
        assert!(number("0") == BuildNumber::ZERO && BuildNumber::ZERO.to_string() == "0");
    }

    #[test]
    fn what_is_no_number_is_refused() {
        for bad in ["", ".", "1.", "+1", "-1", "1.2.3.4.5", "a", "1 ", "99999999999999999999"] {
            assert!(bad.parse::<BuildNumber>().is_err(), "{bad}");
        }
        assert!(serde_json::from_str::<BuildNumber>("-1").is_err());
    }

    #[test]
    fn the_code_of_an_older_row_is_read_and_written_as_text() {
        let old: BuildNumber = serde_json::from_str("12").unwrap();
        assert_eq!(old, number("12"));
        assert_eq!(serde_json::to_string(&old).unwrap(), r#""12""#);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(parts in proptest::collection::vec(any::<u64>(), 1..=4)) {
            let one = BuildNumber(parts);
            prop_assert_eq!(&number(&one.to_string()), &one);
        }

        #[test]
        fn numbers_of_one_part_are_ordered_as_codes(a in any::<u64>(), b in any::<u64>()) {
            prop_assert_eq!(BuildNumber::from(a).cmp(&BuildNumber::from(b)), a.cmp(&b));
        }
    }
}
