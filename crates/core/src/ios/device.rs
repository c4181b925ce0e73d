//! Hardware identifiers of devices, and how many there may be.

use jiff::{SignedDuration, Timestamp};
use thiserror::Error;

use crate::model::{Facts, Inventory, State};

/// The devices of a kind that a team may register within a year.
pub const YEARLY_LIMIT: usize = 100;
/// How many may be left before it is said.
pub const NEAR_LIMIT: usize = 10;

/// How many devices in use were registered within the year before now.
pub fn registered_within_a_year(inventory: &Inventory, now: Timestamp) -> usize {
    let year = SignedDuration::from_hours(24 * 365);
    let in_use = inventory.iter().filter(|item| item.state == State::Active);
    let devices = in_use.filter(|item| matches!(item.facts, Facts::Device(_)));
    devices.filter(|item| now.duration_since(item.created) < year).count()
}

/// A text that is no hardware identifier.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{}` is no device identifier: 40 hexadecimal digits, or 8 and 16 with a dash between", shown(.0))]
pub struct IdentifierError(pub String);

fn shown(text: &str) -> String {
    text.chars().take(60).flat_map(char::escape_debug).collect()
}

/// An identifier in the one form that it is kept in: older ones in small letters, newer ones in capitals.
///
/// # Errors
/// [`IdentifierError`].
pub fn identifier(text: &str) -> Result<String, IdentifierError> {
    let text = text.trim();
    let hex = |part: &str, length: usize| part.len() == length && part.bytes().all(|b| b.is_ascii_hexdigit());
    if hex(text, 40) {
        return Ok(text.to_ascii_lowercase());
    }
    match text.split_once('-') {
        Some((chip, unit)) if hex(chip, 8) && hex(unit, 16) => Ok(text.to_ascii_uppercase()),
        _ => Err(IdentifierError(text.into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_of_an_identifier_are_taken_and_nothing_else() {
        let old = "00008030ABCDEF1122334455667788990011AABB";
        assert_eq!(identifier(old).unwrap(), old.to_ascii_lowercase());
        assert_eq!(identifier(" 00008030-001122334455667e\n").unwrap(), "00008030-001122334455667E");
        for bad in [
            "",
            "0000803-0001122334455667E",
            &old[1..],
            "00008030001122334455667E",
            "g0008030-001122334455667E",
        ] {
            assert!(identifier(bad).is_err(), "{bad}");
        }
    }
}
