//! CMS EnvelopedData (RFC 5652, section 6): bytes for one recipient, as it is written.

use der::Encode;
use der::asn1::{BitString, ObjectIdentifier as Oid};

use crate::tlv::tlv;

const DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.7.1");
const ENVELOPED_DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.7.3");
const RSAES_OAEP: Oid = Oid::new_unwrap("1.2.840.113549.1.1.7");
const MGF1: Oid = Oid::new_unwrap("1.2.840.113549.1.1.8");
const SHA256: Oid = Oid::new_unwrap("2.16.840.1.101.3.4.2.1");
const AES256_CBC: Oid = Oid::new_unwrap("2.16.840.1.101.3.4.1.42");
const AES256_WRAP: Oid = Oid::new_unwrap("2.16.840.1.101.3.4.1.45");
const EC_PUBLIC_KEY: Oid = Oid::new_unwrap("1.2.840.10045.2.1");
/// dhSinglePass-stdDH-sha256kdf-scheme (RFC 5753).
const ECDH_SHA256: Oid = Oid::new_unwrap("1.3.132.1.11.1");

/// Whom it is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Recipient {
    /// The holder of a certificate.
    Certificate {
        /// The issuer's name, DER.
        issuer: Vec<u8>,
        /// The serial number.
        serial: Vec<u8>,
    },
    /// The holder of a public key that has no certificate.
    Key {
        /// Its identifier: SHA-1 over the key's bits.
        id: Vec<u8>,
    },
}

impl Recipient {
    /// The identifier, as key transport has it.
    fn of_transport(&self) -> der::Result<Vec<u8>> {
        match self {
            Recipient::Certificate { issuer, serial } => tlv(0x30, &[issuer, &tlv(0x02, &[serial])?]),
            Recipient::Key { id } => tlv(0x80, &[id]),
        }
    }

    /// The identifier, as key agreement has it.
    fn of_agreement(&self) -> der::Result<Vec<u8>> {
        match self {
            Recipient::Certificate { .. } => self.of_transport(),
            Recipient::Key { id } => tlv(0xa0, &[&tlv(0x04, &[id])?]),
        }
    }
}

/// KeyTransRecipientInfo with RSAES-OAEP, SHA-256 throughout (RFC 3560).
///
/// # Errors
/// [`der::Error`] when it would be longer than DER lengths go.
pub fn write_transport(to: &Recipient, encrypted_key: &[u8]) -> der::Result<Vec<u8>> {
    let version = match to {
        Recipient::Certificate { .. } => 0u8,
        Recipient::Key { .. } => 2,
    };
    let sha256 = tlv(0x30, &[&SHA256.to_der()?, b"\x05\x00"])?;
    let mgf = tlv(0x30, &[&MGF1.to_der()?, &sha256])?;
    let parameters = tlv(0x30, &[&tlv(0xa0, &[&sha256])?, &tlv(0xa1, &[&mgf])?])?;
    let algorithm = tlv(0x30, &[&RSAES_OAEP.to_der()?, &parameters])?;
    tlv(0x30, &[&version.to_der()?, &to.of_transport()?, &algorithm, &tlv(0x04, &[encrypted_key])?])
}

/// KeyAgreeRecipientInfo with an ephemeral key (RFC 5753): `point` is its public half, uncompressed.
///
/// # Errors
/// As [`write_transport`].
pub fn write_agreement(to: &Recipient, point: &[u8], wrapped_key: &[u8]) -> der::Result<Vec<u8>> {
    let key = tlv(0x30, &[&EC_PUBLIC_KEY.to_der()?])?;
    let bits = BitString::from_bytes(point)?.to_der()?;
    let originator = tlv(0xa0, &[&tlv(0xa1, &[&key, &bits])?])?;
    let wrap = tlv(0x30, &[&AES256_WRAP.to_der()?])?;
    let algorithm = tlv(0x30, &[&ECDH_SHA256.to_der()?, &wrap])?;
    let key = tlv(0x30, &[&to.of_agreement()?, &tlv(0x04, &[wrapped_key])?])?;
    tlv(0xa1, &[&3u8.to_der()?, &originator, &algorithm, &tlv(0x30, &[&key])?])
}

/// ECC-CMS-SharedInfo (RFC 5753, section 7.2): what the wrapping key is derived with, for AES-256.
///
/// # Errors
/// As [`write_transport`].
pub fn shared_info() -> der::Result<Vec<u8>> {
    let wrap = tlv(0x30, &[&AES256_WRAP.to_der()?])?;
    let bits = tlv(0xa2, &[&tlv(0x04, &[&256u32.to_be_bytes()])?])?;
    tlv(0x30, &[&wrap, &bits])
}

/// The whole message: AES-256 in CBC mode, its key in `recipient_info`.
///
/// # Errors
/// As [`write_transport`].
pub fn write(to: &Recipient, recipient_info: &[u8], iv: &[u8], encrypted: &[u8]) -> der::Result<Vec<u8>> {
    // version 0 only for key transport by issuer and serial (RFC 5652, section 6.1)
    let transport = recipient_info.first() == Some(&0x30);
    let version = if transport && matches!(to, Recipient::Certificate { .. }) { 0u8 } else { 2 };
    let cipher = tlv(0x30, &[&AES256_CBC.to_der()?, &tlv(0x04, &[iv])?])?;
    let content = tlv(0x30, &[&DATA.to_der()?, &cipher, &tlv(0x80, &[encrypted])?])?;
    let message = tlv(0x30, &[&version.to_der()?, &tlv(0x31, &[recipient_info])?, &content])?;
    tlv(0x30, &[&ENVELOPED_DATA.to_der()?, &tlv(0xa0, &[&message])?])
}
