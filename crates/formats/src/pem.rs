//! PEM (RFC 7468): certificates between their lines.

use der::pem;

use crate::limits::Limits;

/// The label of a certificate.
pub const CERTIFICATE: &str = "CERTIFICATE";

/// The label of a private key: PKCS#8 (RFC 7468, section 10).
pub const PRIVATE_KEY: &str = "PRIVATE KEY";

/// The label of a public key: SubjectPublicKeyInfo (RFC 7468, section 13).
pub const PUBLIC_KEY: &str = "PUBLIC KEY";

/// The DER bytes of every block with `label`, as many as the limits allow; text around and between blocks is passed over, and
/// a block that is damaged or too large is left out.
pub fn blocks(text: &[u8], label: &str, limits: &Limits) -> Vec<Vec<u8>> {
    let text = String::from_utf8_lossy(text);
    let begin = format!("-----BEGIN {label}-----");
    let end = format!("-----END {label}-----");
    let mut out = Vec::new();
    let mut rest = text.as_ref();
    while let Some(start) = rest.find(&begin) {
        let Some(from) = rest.get(start..) else { break };
        let Some(stop) = from.find(&end) else { break };
        let (block, after) = from.split_at(stop + end.len());
        rest = after;
        // base64 takes four characters for three bytes, and lines have ends
        if block.len() as u64 > 2 * limits.keystore {
            continue;
        }
        if let Ok((_, der)) = pem::decode_vec(block.as_bytes()) {
            out.push(der);
        }
        if out.len() as u64 >= limits.items {
            break;
        }
    }
    out
}

/// Whether a block with that label begins anywhere.
pub fn has(text: &[u8], label: &str) -> bool {
    let begin = format!("-----BEGIN {label}-----");
    text.windows(begin.len()).any(|window| window == begin.as_bytes())
}

/// Whether the bytes hold a PEM block at all.
pub fn looks_like(bytes: &[u8]) -> bool {
    bytes.windows(11).take(64 << 10).any(|window| window == b"-----BEGIN ")
}

/// One block. Base64 in lines of 64 characters.
///
/// # Errors
/// [`der::Error`] when the label is not allowed.
pub fn encode(label: &str, der: &[u8]) -> Result<String, der::Error> {
    pem::encode_string(label, pem::LineEnding::LF, der).map_err(der::Error::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_found_among_other_text() {
        let one = encode(CERTIFICATE, &[1, 2, 3]).unwrap();
        let two = encode(CERTIFICATE, &[4; 100]).unwrap();
        let text = format!("subject=CN = a\n{one}\nbetween the blocks\n{two}\nbehind\n");
        assert_eq!(blocks(text.as_bytes(), CERTIFICATE, &Limits::SMALL), [vec![1, 2, 3], vec![4; 100]]);
        assert!(looks_like(text.as_bytes()));
        assert!(blocks(b"-----BEGIN CERTIFICATE-----\nAAAA", CERTIFICATE, &Limits::SMALL).is_empty());
    }
}
