//! RC2 in CBC mode with PKCS#7 padding (RFC 2268; RFC 8018, appendix B.2.3). Only legacy PKCS#12
//! files are decrypted with it.

use ninekeys_formats::secret::{Secret, SecretBytes};
use zeroize::Zeroizing;

const BLOCK: usize = 8;
/// Length of an expanded key in bytes.
const EXPANDED: usize = 128;
/// Bits by which each word of a block is rotated (RFC 2268, section 3.1).
const ROTATIONS: [u32; 4] = [1, 2, 3, 5];
/// A permutation of all bytes, taken from the digits of pi (RFC 2268, section 2).
#[rustfmt::skip]
const PI: [u8; 256] = [
    0xd9, 0x78, 0xf9, 0xc4, 0x19, 0xdd, 0xb5, 0xed, 0x28, 0xe9, 0xfd, 0x79, 0x4a, 0xa0, 0xd8, 0x9d,
    0xc6, 0x7e, 0x37, 0x83, 0x2b, 0x76, 0x53, 0x8e, 0x62, 0x4c, 0x64, 0x88, 0x44, 0x8b, 0xfb, 0xa2,
    0x17, 0x9a, 0x59, 0xf5, 0x87, 0xb3, 0x4f, 0x13, 0x61, 0x45, 0x6d, 0x8d, 0x09, 0x81, 0x7d, 0x32,
    0xbd, 0x8f, 0x40, 0xeb, 0x86, 0xb7, 0x7b, 0x0b, 0xf0, 0x95, 0x21, 0x22, 0x5c, 0x6b, 0x4e, 0x82,
    0x54, 0xd6, 0x65, 0x93, 0xce, 0x60, 0xb2, 0x1c, 0x73, 0x56, 0xc0, 0x14, 0xa7, 0x8c, 0xf1, 0xdc,
    0x12, 0x75, 0xca, 0x1f, 0x3b, 0xbe, 0xe4, 0xd1, 0x42, 0x3d, 0xd4, 0x30, 0xa3, 0x3c, 0xb6, 0x26,
    0x6f, 0xbf, 0x0e, 0xda, 0x46, 0x69, 0x07, 0x57, 0x27, 0xf2, 0x1d, 0x9b, 0xbc, 0x94, 0x43, 0x03,
    0xf8, 0x11, 0xc7, 0xf6, 0x90, 0xef, 0x3e, 0xe7, 0x06, 0xc3, 0xd5, 0x2f, 0xc8, 0x66, 0x1e, 0xd7,
    0x08, 0xe8, 0xea, 0xde, 0x80, 0x52, 0xee, 0xf7, 0x84, 0xaa, 0x72, 0xac, 0x35, 0x4d, 0x6a, 0x2a,
    0x96, 0x1a, 0xd2, 0x71, 0x5a, 0x15, 0x49, 0x74, 0x4b, 0x9f, 0xd0, 0x5e, 0x04, 0x18, 0xa4, 0xec,
    0xc2, 0xe0, 0x41, 0x6e, 0x0f, 0x51, 0xcb, 0xcc, 0x24, 0x91, 0xaf, 0x50, 0xa1, 0xf4, 0x70, 0x39,
    0x99, 0x7c, 0x3a, 0x85, 0x23, 0xb8, 0xb4, 0x7a, 0xfc, 0x02, 0x36, 0x5b, 0x25, 0x55, 0x97, 0x31,
    0x2d, 0x5d, 0xfa, 0x98, 0xe3, 0x8a, 0x92, 0xae, 0x05, 0xdf, 0x29, 0x10, 0x67, 0x6c, 0xba, 0xc9,
    0xd3, 0x00, 0xe6, 0xcf, 0xe1, 0x9e, 0xa8, 0x2c, 0x63, 0x16, 0x01, 0x3f, 0x58, 0xe2, 0x89, 0xa9,
    0x0d, 0x38, 0x34, 0x1b, 0xab, 0x33, 0xff, 0xb0, 0xbb, 0x48, 0x0c, 0x5f, 0xb9, 0xb1, 0xcd, 0x2e,
    0xc5, 0xf3, 0xdb, 0x47, 0xe5, 0xa5, 0x9c, 0x77, 0x0a, 0xa6, 0x20, 0x68, 0xfe, 0x7f, 0xc1, 0xad,
];

/// A key, expanded: 64 words.
struct Key(Zeroizing<Vec<u16>>);

impl Key {
    /// Expands a key, all of whose bits are effective (RFC 2268, section 2). `None` for an empty key and
    /// for one above 128 bytes.
    fn expand(key: &[u8]) -> Option<Self> {
        if !(1..=EXPANDED).contains(&key.len()) {
            return None;
        }
        let pi = |index: u8| PI.get(usize::from(index)).copied();
        let mut bytes = Zeroizing::new(Vec::with_capacity(EXPANDED));
        bytes.extend_from_slice(key);
        while let (true, Some(last), Some(first)) =
            (bytes.len() < EXPANDED, bytes.last(), bytes.get(bytes.len() - key.len()))
        {
            let next = pi(last.wrapping_add(*first))?;
            bytes.push(next);
        }
        let cut = EXPANDED - key.len();
        let first = bytes.get_mut(cut)?;
        *first = pi(*first)?;
        for index in (0..cut).rev() {
            let next = pi(bytes.get(index + 1)? ^ bytes.get(index + key.len())?)?;
            *bytes.get_mut(index)? = next;
        }
        let word = |pair: &[u8]| pair.iter().rev().fold(0u16, |word, byte| word << 8 | u16::from(*byte));
        Some(Key(Zeroizing::new(bytes.chunks_exact(2).map(word).collect())))
    }

    fn word(&self, index: usize) -> u16 {
        self.0.get(index).copied().unwrap_or_default()
    }

    /// Decrypts a block (RFC 2268, section 4).
    fn decrypt(&self, block: [u8; BLOCK]) -> [u8; BLOCK] {
        let [a, b, c, d, e, f, g, h] = block;
        let mut words = [[a, b], [c, d], [e, f], [g, h]].map(u16::from_le_bytes);
        let mut next = self.0.len();
        for (round, mixed) in [5, 6, 5].into_iter().enumerate() {
            if round > 0 {
                each_backwards(&mut words, |word, [one, ..], _| {
                    word.wrapping_sub(self.word(usize::from(one & 63)))
                });
            }
            for _ in 0..mixed {
                each_backwards(&mut words, |word, [one, two, three], rotation| {
                    next -= 1;
                    let mix = (one & two).wrapping_add(!one & three);
                    word.rotate_right(rotation).wrapping_sub(self.word(next)).wrapping_sub(mix)
                });
            }
        }
        let [a, b, c, d] = words.map(u16::to_le_bytes);
        let ([a, b], [c, d], [e, f], [g, h]) = (a, b, c, d);
        [a, b, c, d, e, f, g, h]
    }
}

/// Changes every word, the last one first. `change` gets the word, the three words before it (the
/// nearest first) and its rotation.
fn each_backwards(words: &mut [u16; 4], mut change: impl FnMut(u16, [u16; 3], u32) -> u16) {
    for rotation in ROTATIONS.into_iter().rev() {
        let [first, second, third, last] = *words;
        // the changed word goes to the front, so that the next one is last
        *words = [change(last, [third, second, first], rotation), first, second, third];
    }
}

/// Decrypts. `None` for an unsupported key length, incomplete blocks and wrong padding.
pub(super) fn decrypt(key: &[u8], iv: [u8; BLOCK], data: &[u8]) -> Option<SecretBytes> {
    let key = Key::expand(key)?;
    if data.is_empty() || !data.len().is_multiple_of(BLOCK) {
        return None;
    }
    let mut out = Zeroizing::new(Vec::with_capacity(data.len()));
    let mut before = iv;
    for block in data.chunks_exact(BLOCK) {
        let block: [u8; BLOCK] = block.try_into().ok()?;
        out.extend(key.decrypt(block).iter().zip(before).map(|(byte, before)| byte ^ before));
        before = block;
    }
    let padding = usize::from(*out.last()?);
    let end = out.len().checked_sub(padding).filter(|_| (1..=BLOCK).contains(&padding))?;
    let is_padding = out.get(end..)?.iter().all(|byte| usize::from(*byte) == padding);
    out.truncate(end);
    is_padding.then(|| Secret::new(std::mem::take(&mut *out)))
}

#[cfg(test)]
mod tests {
    use cbc::cipher::block_padding::Pkcs7;
    use cbc::cipher::{BlockModeEncrypt, InnerIvInit};
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn another_implementation_encrypts_what_is_decrypted(
            key in prop::collection::vec(any::<u8>(), 1..=128), iv: [u8; 8],
            data in prop::collection::vec(any::<u8>(), 0..100),
        ) {
            let cipher = ::rc2::Rc2::new_with_eff_key_len(&key, key.len() * 8);
            let encrypted = cbc::Encryptor::inner_iv_init(cipher, &iv.into()).encrypt_padded_vec::<Pkcs7>(&data);
            let decrypted = decrypt(&key, iv, &encrypted).unwrap();
            prop_assert_eq!(decrypted.lend(Clone::clone), data);
        }

        #[test]
        fn any_bytes_are_decrypted_or_refused(key: [u8; 16], iv: [u8; 8], data: [u8; 24], length in 0..=24usize) {
            if let Some(decrypted) = decrypt(&key, iv, &data[..length]) {
                prop_assert!(decrypted.lend(Vec::len) < length && length % 8 == 0);
            }
        }
    }

    #[test]
    fn keys_of_no_length_and_broken_blocks_are_refused() {
        for key in [&b""[..], &[0; 129]] {
            assert!(decrypt(key, [0; 8], &[0; 8]).is_none());
        }
        assert!(decrypt(&[0; 5], [0; 8], b"").is_none());
        assert!(decrypt(&[0; 5], [0; 8], &[0; 7]).is_none());
    }
}
