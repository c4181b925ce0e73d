//! Base 32 in lower case, without padding (RFC 4648, section 6). It encodes secrets, so memory access
//! does not depend on the digits.

use zeroize::Zeroizing;

/// How many bits one digit encodes.
const BITS: u32 = 5;

/// Encodes bytes; unused bits of the last digit are zero.
pub(crate) fn encode(bytes: &[u8]) -> Zeroizing<String> {
    let mut out = Zeroizing::new(String::with_capacity(bytes.len() * 8 / 5 + 1));
    let (mut held, mut bits) = (0u32, 0);
    for byte in bytes {
        (held, bits) = (held << 8 | u32::from(*byte), bits + 8);
        while bits >= BITS {
            bits -= BITS;
            out.push(digit(held >> bits & 31));
        }
        held &= (1 << bits) - 1;
    }
    if bits > 0 {
        out.push(digit(held << (BITS - bits)));
    }
    out
}

/// `a` to `z`, then `2` to `7`.
fn digit(value: u32) -> char {
    // all ones for a value above that of `z`
    let is_number = 25u32.wrapping_sub(value) >> 8;
    let offset = u32::from(b'a') - (is_number & (u32::from(b'a') - u32::from(b'2') + 26));
    char::from((value + offset) as u8)
}

/// Decodes digits. `None` for other characters, an impossible length, or unused bits that are not zero.
pub(crate) fn decode(digits: &str) -> Option<Zeroizing<Vec<u8>>> {
    let mut out = Zeroizing::new(Vec::with_capacity(digits.len() * 5 / 8));
    let (mut held, mut bits, mut wrong) = (0u32, 0, 0);
    for byte in digits.bytes() {
        let byte = u32::from(byte);
        // 1 if the byte is between `first` and `last`, else 0
        let among = |first: u8, last: u8| {
            !(byte.wrapping_sub(u32::from(first)) | u32::from(last).wrapping_sub(byte)) >> 31
        };
        let (letter, number) = (among(b'a', b'z'), among(b'2', b'7'));
        wrong |= 1 ^ (letter | number);
        let value = letter.wrapping_neg() & byte.wrapping_sub(u32::from(b'a'))
            | number.wrapping_neg() & byte.wrapping_sub(u32::from(b'2')).wrapping_add(26);
        (held, bits) = (held << BITS | value & 31, bits + BITS);
        if bits >= 8 {
            bits -= 8;
            out.push((held >> bits) as u8);
        }
        held &= (1 << bits) - 1;
    }
    (wrong == 0 && bits < BITS && held == 0).then_some(out)
}

#[cfg(test)]
mod tests {
    use base32ct::{Base32Unpadded, Encoding};
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn digits_are_those_of_another_implementation(bytes in prop::collection::vec(any::<u8>(), 0..40)) {
            let digits = encode(&bytes);
            prop_assert_eq!(&*digits, &Base32Unpadded::encode_string(&bytes));
            prop_assert_eq!(decode(&digits).unwrap().to_vec(), bytes);
        }

        #[test]
        fn nothing_else_is_decoded(text in "\\PC{0,3}[a-z2-7]{0,12}[a-zA-Z0-9=]{0,2}") {
            match decode(&text) {
                Some(bytes) => prop_assert_eq!(&*encode(&bytes), &text),
                None => {
                    let theirs = Base32Unpadded::decode_vec(&text).ok();
                    prop_assert!(theirs.is_none_or(|bytes| Base32Unpadded::encode_string(&bytes) != text));
                }
            }
        }
    }
}
