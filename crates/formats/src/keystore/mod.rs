//! Keystores: their structure. Deriving keys and decrypting is the core's.

pub mod jks;
pub mod pkcs12;

/// What a keystore file is, by its first bytes and never by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// PKCS#12 (RFC 7292).
    Pkcs12,
    /// JKS, the Java runtime's own format.
    Jks,
    /// JCEKS, its sibling with another cipher, which is not read.
    Jceks,
}

/// What a file is, if it is a keystore.
pub fn recognise(bytes: &[u8]) -> Option<Kind> {
    if bytes.starts_with(&jks::MAGIC.to_be_bytes()) {
        return Some(Kind::Jks);
    }
    if bytes.starts_with(&jks::JCEKS_MAGIC.to_be_bytes()) {
        return Some(Kind::Jceks);
    }
    pkcs12::looks_like(bytes).then_some(Kind::Pkcs12)
}
