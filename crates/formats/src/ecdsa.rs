//! ECDSA signatures in both forms: `SEQUENCE { r, s }` (X.509, CMS, signing blocks), and `r` and `s` side by side at the
//! curve's length (JWS, RFC 7518, section 3.4).

use der::asn1::UintRef;
use der::{Decode, Encode};

use crate::tlv::{inside, malformed, tlv};

/// The longest numbers that are taken: those of P-521, in bytes.
const MOST: usize = 66;

/// `r` and `s` side by side, `length` bytes each, out of the DER form.
///
/// # Errors
/// [`der::Error`] when it is not of that form, or a number is longer.
pub fn to_fixed(signature: &[u8], length: usize) -> der::Result<Vec<u8>> {
    let parts = inside(signature, 0x30)?;
    let [r, s] = parts.as_slice() else { return Err(malformed()) };
    let mut out = Vec::with_capacity(2 * length.min(MOST));
    for number in [r, s] {
        let digits = UintRef::from_der(number)?.as_bytes();
        let missing = length.min(MOST).checked_sub(digits.len()).ok_or_else(malformed)?;
        out.resize(out.len() + missing, 0);
        out.extend_from_slice(digits);
    }
    Ok(out)
}

/// The DER form out of `r` and `s` side by side.
///
/// # Errors
/// [`der::Error`] when the two halves are not of one length, or longer than any curve's.
pub fn from_fixed(signature: &[u8]) -> der::Result<Vec<u8>> {
    let half = signature.len() / 2;
    if !signature.len().is_multiple_of(2) || half == 0 || half > MOST {
        return Err(malformed());
    }
    let (r, s) = signature.split_at(half);
    let number = |digits: &[u8]| UintRef::new(digits)?.to_der();
    tlv(0x30, &[&number(r)?, &number(s)?])
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn small_numbers_are_filled_up_and_large_ones_refused() {
        let der = b"\x30\x07\x02\x01\x05\x02\x02\x00\xff";
        assert_eq!(to_fixed(der, 2).unwrap(), [0, 5, 0, 255]);
        assert_eq!(from_fixed(&[0, 5, 0, 255]).unwrap(), der);
        let long = b"\x30\x08\x02\x03\x01\x00\x00\x02\x01\x05";
        assert!(to_fixed(long, 2).is_err());
        for bad in [&b""[..], b"\x01", &[0; 134]] {
            assert!(from_fixed(bad).is_err());
        }
        assert!(to_fixed(b"\x30\x06\x02\x01\xff\x02\x01\x05", 2).is_err(), "a negative number");
    }

    proptest! {
        #[test]
        fn both_forms_say_the_same(bytes in proptest::collection::vec(any::<u8>(), 64..=64)) {
            prop_assert_eq!(to_fixed(&from_fixed(&bytes).unwrap(), 32).unwrap(), bytes);
        }

        #[test]
        fn any_bytes_are_survived(bytes in proptest::collection::vec(any::<u8>(), 0..80)) {
            let _ = (to_fixed(&bytes, 32), from_fixed(&bytes));
        }
    }
}
