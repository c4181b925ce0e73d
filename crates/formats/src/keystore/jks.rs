//! JKS: a list of entries in big-endian order, with a digest over the password and everything before it.
//!
//! | field | layout |
//! |---|---|
//! | header | u32 `0xfeedfeed`, u32 version, u32 number of entries |
//! | entry | u32 tag, text alias, u64 milliseconds since 1970, then by its tag |
//! | tag 1, a key | u32 length, EncryptedPrivateKeyInfo; u32 number of certificates, the certificates |
//! | tag 2, a certificate | the certificate |
//! | certificate | text type (version 2 only), u32 length, DER |
//! | end | 20 bytes: SHA-1 over password, a fixed text, and all bytes before |
//!
//! Text is a u16 length and modified UTF-8.

use der::Decode;
use der::asn1::ObjectIdentifier;

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;
use crate::tlv::{content, inside};

/// The first four bytes.
pub(crate) const MAGIC: u32 = 0xfeed_feed;
/// The first four bytes of JCEKS.
pub(crate) const JCEKS_MAGIC: u32 = 0xcece_cece;
/// The algorithm that its keys are protected with: a stream of SHA-1.
pub const KEY_PROTECTOR: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.42.2.17.1.1");
/// Bytes of the digest at the end.
pub(crate) const DIGEST: usize = 20;

/// A keystore, read but not opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Jks {
    /// Its entries, in the order of the file, which means nothing.
    pub entries: Vec<Entry>,
    /// How many bytes stand before the digest.
    pub covered: usize,
    /// The digest.
    pub digest: Vec<u8>,
}

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its alias.
    pub alias: String,
    /// What it is.
    pub content: Content,
}

/// What an entry holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// A private key with its chain, the leaf first.
    Key {
        /// The algorithm that protects it.
        protection: ObjectIdentifier,
        /// The protected bytes: 20 of salt, the key, 20 of check.
        protected: Vec<u8>,
        /// Certificates, DER.
        chain: Vec<Vec<u8>>,
    },
    /// A certificate without a key, DER.
    Certificate(Vec<u8>),
}

/// Reads a JKS file of version 1 or 2.
///
/// # Errors
/// [`ParseError`] for anything else, counts and lengths that run out, or more than the limits allow.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Jks, ParseError> {
    let mut cursor = Cursor::new(bytes, 0);
    Limits::check(bytes.len() as u64, limits.keystore, "keystore", &cursor)?;
    let magic = cursor.u32_be("keystore magic")?;
    if magic != MAGIC {
        return Err(ParseError { what: "keystore magic", at: 0, fault: Fault::Value(u64::from(magic)) });
    }
    let version = cursor.u32_be("keystore version")?;
    if !(1..=2).contains(&version) {
        return Err(ParseError { what: "keystore version", at: 4, fault: Fault::Value(u64::from(version)) });
    }
    let count = u64::from(cursor.u32_be("number of entries")?);
    Limits::check(count, limits.keystore_entries, "number of entries", &cursor)?;
    let mut entries = Vec::new();
    for _ in 0..count {
        entries.push(entry(&mut cursor, version, limits)?);
    }
    let covered = usize::try_from(cursor.at()).unwrap_or(0);
    let digest = cursor.take(DIGEST, "keystore digest")?.to_vec();
    cursor.finish("keystore")?;
    Ok(Jks { entries, covered, digest })
}

fn entry(cursor: &mut Cursor<'_>, version: u32, limits: &Limits) -> Result<Entry, ParseError> {
    let tag = cursor.u32_be("tag of an entry")?;
    let alias = text(cursor, "alias")?;
    cursor.u64_be("date of an entry")?;
    let content = match tag {
        1 => key(cursor, version, limits)?,
        2 => Content::Certificate(certificate(cursor, version, limits)?),
        other => return Err(cursor.error("tag of an entry", Fault::Value(u64::from(other)))),
    };
    Ok(Entry { alias, content })
}

fn key(cursor: &mut Cursor<'_>, version: u32, limits: &Limits) -> Result<Content, ParseError> {
    let at = cursor.at();
    let length = u64::from(cursor.u32_be("protected key")?);
    Limits::check(length, limits.certificate, "protected key", cursor)?;
    let info = cursor.sub(length, "protected key")?.rest();
    let malformed = |_| ParseError { what: "protected key", at, fault: Fault::Malformed };
    let (protection, protected) = encrypted_key(info).map_err(malformed)?;
    let count = u64::from(cursor.u32_be("length of a chain")?);
    Limits::check(count, limits.keystore_entries, "length of a chain", cursor)?;
    let mut chain = Vec::new();
    for _ in 0..count {
        chain.push(certificate(cursor, version, limits)?);
    }
    Ok(Content::Key { protection, protected, chain })
}

/// EncryptedPrivateKeyInfo (RFC 5958, section 3): algorithm and protected bytes.
fn encrypted_key(info: &[u8]) -> der::Result<(ObjectIdentifier, Vec<u8>)> {
    let fields = inside(info, 0x30)?;
    let [algorithm, protected] = fields.as_slice() else { return Err(crate::tlv::malformed()) };
    let algorithm = spki::AlgorithmIdentifierOwned::from_der(algorithm)?;
    Ok((algorithm.oid, content(protected, der::Tag::OctetString)?.to_vec()))
}

fn certificate(cursor: &mut Cursor<'_>, version: u32, limits: &Limits) -> Result<Vec<u8>, ParseError> {
    if version > 1 {
        let kind = text(cursor, "type of a certificate")?;
        if kind != "X.509" {
            return Err(cursor.error("type of a certificate", Fault::Malformed));
        }
    }
    let length = u64::from(cursor.u32_be("certificate")?);
    Limits::check(length, limits.certificate, "certificate", cursor)?;
    Ok(cursor.sub(length, "certificate")?.rest().to_vec())
}

/// Modified UTF-8: zero is written as two bytes, characters beyond the first plane as two surrogates of three.
fn text(cursor: &mut Cursor<'_>, what: &'static str) -> Result<String, ParseError> {
    let length = cursor.u16_be(what)?;
    let at = cursor.at();
    let mut bytes = cursor.take(usize::from(length), what)?;
    let mut units = Vec::new();
    while let [first, rest @ ..] = bytes {
        let (unit, rest) = match (*first, rest) {
            (a @ 0x01..=0x7f, rest) => (u16::from(a), rest),
            (a @ 0xc0..=0xdf, [b, rest @ ..]) => (u16::from(a & 0x1f) << 6 | tail(*b), rest),
            (a @ 0xe0..=0xef, [b, c, rest @ ..]) => {
                (u16::from(a & 0x0f) << 12 | tail(*b) << 6 | tail(*c), rest)
            }
            _ => return Err(ParseError { what, at, fault: Fault::Text }),
        };
        units.push(unit);
        bytes = rest;
    }
    String::from_utf16(&units).map_err(|_| ParseError { what, at, fault: Fault::Text })
}

fn tail(byte: u8) -> u16 {
    u16::from(byte & 0x3f)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A keystore with one certificate entry under an alias.
    fn store(alias: &[u8], certificate: &[u8]) -> Vec<u8> {
        let mut bytes =
            [MAGIC.to_be_bytes(), 2u32.to_be_bytes(), 1u32.to_be_bytes(), 2u32.to_be_bytes()].concat();
        bytes.extend_from_slice(&(alias.len() as u16).to_be_bytes());
        bytes.extend_from_slice(alias);
        bytes.extend_from_slice(&[0; 8]);
        bytes.extend_from_slice(b"\x00\x05X.509");
        bytes.extend_from_slice(&(certificate.len() as u32).to_be_bytes());
        bytes.extend_from_slice(certificate);
        bytes.extend_from_slice(&[9; DIGEST]);
        bytes
    }

    #[test]
    fn aliases_are_read_in_javas_own_encoding() {
        for (bytes, alias) in [
            (&b"pier"[..], "pier"),
            ("schlüssel-鍵".as_bytes(), "schlüssel-鍵"),
            // a character beyond the first plane, as two surrogates
            (b"\xed\xa0\xbd\xed\xb4\x91", "\u{1f511}"),
            (b"\xc0\x80", "\0"),
        ] {
            let found = parse(&store(bytes, b"der"), &Limits::SMALL).unwrap();
            assert_eq!(found.entries[0].alias, alias);
            assert_eq!(found.entries[0].content, Content::Certificate(b"der".to_vec()));
        }
        assert!(parse(&store(b"\xff", b"der"), &Limits::SMALL).is_err());
        assert!(parse(&store(b"\xed\xa0\xbd", b"der"), &Limits::SMALL).is_err(), "half of a pair");
    }

    #[test]
    fn every_cut_and_every_absurd_length_is_refused() {
        let good = store(b"pier", b"der");
        for end in 0..good.len() {
            assert!(parse(&good[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        assert!(parse(&[&good[..], &[0]].concat(), &Limits::SMALL).is_err());
        for at in [8, 12, 16, 31, 38] {
            let mut bytes = good.clone();
            bytes[at] = 0xff;
            bytes[at + 1] = 0xff;
            assert!(parse(&bytes, &Limits::SMALL).is_err(), "byte {at}");
        }
    }
}
