//! Digests of small things, and their digits.

use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA256, digest};

/// SHA-256 of some bytes.
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut out = [0; 32];
    out.copy_from_slice(digest(&SHA256, bytes).as_ref());
    out
}

/// SHA-1 of some bytes: for registration pages that know certificates by it, and for nothing else.
pub fn sha1(bytes: &[u8]) -> [u8; 20] {
    let mut out = [0; 20];
    out.copy_from_slice(digest(&SHA1_FOR_LEGACY_USE_ONLY, bytes).as_ref());
    out
}

/// SHA-256 of some bytes in lower-case hexadecimal.
pub fn sha256_hex(bytes: &[u8]) -> String {
    hex(&sha256(bytes))
}

/// Lower-case hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    base16ct::lower::encode_string(bytes)
}

/// Bytes from hexadecimal digits; nothing when the text is not made of pairs of them.
pub fn from_hex(text: &str) -> Option<Vec<u8>> {
    base16ct::mixed::decode_vec(text).ok()
}

/// As many bytes as are wanted from twice as many digits; nothing when there are more or fewer.
pub fn from_hex_exactly<const N: usize>(text: &str) -> Option<[u8; N]> {
    let mut out = [0; N];
    (text.len() == 2 * N && base16ct::mixed::decode(text, &mut out).is_ok()).then_some(out)
}
