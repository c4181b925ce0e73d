//! CMS EnvelopedData (RFC 5652, section 6) and AuthEnvelopedData (RFC 5083): bytes for one recipient, as they are
//! written; the second is read back as well.

use der::asn1::{BitString, ObjectIdentifier as Oid};
use der::{Decode, Encode, Tag};

use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;
use crate::tlv::{content, inside, malformed, number, tlv};

const DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.7.1");
const ENVELOPED_DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.7.3");
/// id-ct-authEnvelopedData (RFC 5083, section 2).
const AUTH_ENVELOPED_DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.9.16.1.23");
/// AES-256 in Galois/Counter Mode (RFC 5084, section 3.2).
const AES256_GCM: Oid = Oid::new_unwrap("2.16.840.1.101.3.4.1.46");
/// The length of its authentication tag in bytes.
const TAG_LENGTH: usize = 16;
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

/// AuthEnvelopedData: AES-256-GCM with a tag of 16 bytes and no attributes, its key in `recipient_info`.
///
/// # Errors
/// As [`write_transport`].
pub fn write_authenticated(
    recipient_info: &[u8],
    nonce: &[u8],
    encrypted: &[u8],
    tag: &[u8],
) -> der::Result<Vec<u8>> {
    let length = u8::try_from(TAG_LENGTH).unwrap_or(u8::MAX).to_der()?;
    let parameters = tlv(0x30, &[&tlv(0x04, &[nonce])?, &length])?;
    let cipher = tlv(0x30, &[&AES256_GCM.to_der()?, &parameters])?;
    let content = tlv(0x30, &[&DATA.to_der()?, &cipher, &tlv(0x80, &[encrypted])?])?;
    let parts = [&0u8.to_der()?[..], &tlv(0x31, &[recipient_info])?, &content, &tlv(0x04, &[tag])?].concat();
    tlv(0x30, &[&AUTH_ENVELOPED_DATA.to_der()?, &tlv(0xa0, &[&tlv(0x30, &[&parts])?])?])
}

/// An AuthEnvelopedData for one holder of a key without a certificate, by key agreement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Authenticated {
    /// The identifier of the recipient's key.
    pub recipient: Vec<u8>,
    /// The sender's ephemeral point, uncompressed.
    pub point: Vec<u8>,
    /// The content's key, wrapped.
    pub wrapped_key: Vec<u8>,
    /// The nonce.
    pub nonce: Vec<u8>,
    /// The encrypted content.
    pub encrypted: Vec<u8>,
    /// Its authentication tag.
    pub tag: Vec<u8>,
}

/// Who can open a CMS EnvelopedData (RFC 5652, section 6.1): key transport and key agreement, in any algorithm.
///
/// # Errors
/// [`ParseError`] for anything else, bytes behind it, nobody, and beyond the limits.
pub fn recipients(bytes: &[u8], limits: &Limits) -> Result<Vec<Recipient>, ParseError> {
    let what = "CMS envelope";
    bounded(what, bytes, limits.block)?;
    let found = read_recipients(bytes).map_err(|_| ParseError { what, at: 0, fault: Fault::Malformed })?;
    match found.len() as u64 {
        0 => Err(ParseError { what, at: 0, fault: Fault::Malformed }),
        said if said > limits.items => {
            Err(ParseError { what, at: 0, fault: Fault::Limit { said, limit: limits.items } })
        }
        _ => Ok(found),
    }
}

fn read_recipients(bytes: &[u8]) -> der::Result<Vec<Recipient>> {
    let [kind, wrapped] = take(&inside(bytes, 0x30)?)?;
    if Oid::from_der(kind)? != ENVELOPED_DATA {
        return Err(malformed());
    }
    let [message] = take(&inside(wrapped, 0xa0)?)?;
    let fields = inside(message, 0x30)?;
    // the originator's certificates may stand before the recipients
    let all = fields.iter().find(|field| field.first() == Some(&0x31)).ok_or_else(malformed)?;
    let mut out = Vec::new();
    for one in inside(all, 0x31)? {
        match one.first() {
            Some(0x30) => {
                let [_version, holder, _algorithm, _key] = take(&inside(one, 0x30)?)?;
                out.push(recipient(holder, 0x80)?);
            }
            Some(0xa1) => {
                let fields = inside(one, 0xa1)?;
                for key in inside(fields.last().ok_or_else(malformed)?, 0x30)? {
                    let [holder, _key] = take(&inside(key, 0x30)?)?;
                    out.push(recipient(holder, 0xa0)?);
                }
            }
            _ => return Err(malformed()),
        }
    }
    Ok(out)
}

/// A RecipientIdentifier: issuer and serial, or a key's identifier under the tag that it has there.
fn recipient(holder: &[u8], tag: u8) -> der::Result<Recipient> {
    if holder.first() == Some(&0x30) {
        let [issuer, serial] = take(&inside(holder, 0x30)?)?;
        let serial = content(serial, Tag::Integer)?.to_vec();
        return Ok(Recipient::Certificate { issuer: issuer.to_vec(), serial });
    }
    let id = match tag {
        0xa0 => {
            let fields = inside(holder, tag)?;
            content(fields.first().ok_or_else(malformed)?, Tag::OctetString)?
        }
        _ => crate::tlv::value(holder, tag)?,
    };
    Ok(Recipient::Key { id: id.to_vec() })
}

/// Reads what [`write_authenticated`] and [`write_agreement`] write, and nothing else.
///
/// # Errors
/// [`ParseError`] for any other form, other algorithms, bytes behind it, and beyond the limits.
pub fn parse_authenticated(bytes: &[u8], limits: &Limits) -> Result<Authenticated, ParseError> {
    let what = "CMS authenticated envelope";
    bounded(what, bytes, limits.block)?;
    let read = read_authenticated(bytes);
    read.map_err(|_| ParseError { what, at: 0, fault: Fault::Malformed })
}

fn read_authenticated(bytes: &[u8]) -> der::Result<Authenticated> {
    let is = |tlv: &[u8], wanted: Oid| match Oid::from_der(tlv)? == wanted {
        true => Ok(()),
        false => Err(malformed()),
    };
    let [kind, wrapped] = take(&inside(bytes, 0x30)?)?;
    is(kind, AUTH_ENVELOPED_DATA)?;
    let [message] = take(&inside(wrapped, 0xa0)?)?;
    let [version, recipients, encrypted, tag] = take(&inside(message, 0x30)?)?;
    let [recipient] = take(&inside(recipients, 0x31)?)?;
    let [agreement_version, originator, algorithm, keys] = take(&inside(recipient, 0xa1)?)?;
    if (number(version)?, number(agreement_version)?) != (0, 3) {
        return Err(malformed());
    }
    let [originator] = take(&inside(originator, 0xa0)?)?;
    let [_key_algorithm, point] = take(&inside(originator, 0xa1)?)?;
    let point = der::asn1::BitStringRef::from_der(point)?.as_bytes().ok_or_else(malformed)?;
    let [scheme, wrap] = take(&inside(algorithm, 0x30)?)?;
    is(scheme, ECDH_SHA256)?;
    let [wrap] = take(&inside(wrap, 0x30)?)?;
    is(wrap, AES256_WRAP)?;
    let [key] = take(&inside(keys, 0x30)?)?;
    let [holder, wrapped_key] = take(&inside(key, 0x30)?)?;
    let [id] = take(&inside(holder, 0xa0)?)?;
    let [data, cipher, content_bytes] = take(&inside(encrypted, 0x30)?)?;
    is(data, DATA)?;
    let [cipher, parameters] = take(&inside(cipher, 0x30)?)?;
    is(cipher, AES256_GCM)?;
    let [nonce, length] = take(&inside(parameters, 0x30)?)?;
    let tag = content(tag, Tag::OctetString)?;
    if number(length)? != TAG_LENGTH as u64 || tag.len() != TAG_LENGTH {
        return Err(malformed());
    }
    Ok(Authenticated {
        recipient: content(id, Tag::OctetString)?.to_vec(),
        point: point.to_vec(),
        wrapped_key: content(wrapped_key, Tag::OctetString)?.to_vec(),
        nonce: content(nonce, Tag::OctetString)?.to_vec(),
        encrypted: crate::tlv::value(content_bytes, 0x80)?.to_vec(),
        tag: tag.to_vec(),
    })
}

/// Exactly so many elements.
fn take<'a, const N: usize>(elements: &[&'a [u8]]) -> der::Result<[&'a [u8]; N]> {
    elements.try_into().map_err(|_| malformed())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written() -> Vec<u8> {
        let to = Recipient::Key { id: vec![7; 20] };
        let info = write_agreement(&to, &[4; 65], &[9; 40]).unwrap();
        write_authenticated(&info, &[1; 12], &[2; 300], &[3; 16]).unwrap()
    }

    #[test]
    fn recipients_of_both_kinds_are_read_back_in_both_forms() {
        let issuer = b"\x30\x00".to_vec();
        let certificate = Recipient::Certificate { issuer, serial: vec![1, 2] };
        let key = Recipient::Key { id: vec![7; 20] };
        for to in [certificate, key] {
            let transport = write_transport(&to, &[1; 256]).unwrap();
            let agreement = write_agreement(&to, &[4; 65], &[9; 40]).unwrap();
            for info in [transport, agreement] {
                let message = write(&to, &info, &[1; 16], &[2; 32]).unwrap();
                assert_eq!(recipients(&message, &Limits::SMALL).unwrap(), std::slice::from_ref(&to));
                for end in 0..message.len() {
                    assert!(recipients(&message[..end], &Limits::SMALL).is_err(), "{end}");
                }
            }
        }
        assert!(recipients(&written(), &Limits::SMALL).is_err(), "of another kind");
    }

    #[test]
    fn an_authenticated_envelope_is_read_back_as_it_was_written() {
        let found = parse_authenticated(&written(), &Limits::SMALL).unwrap();
        assert_eq!((found.recipient, found.point), (vec![7; 20], vec![4; 65]));
        assert_eq!((found.wrapped_key, found.nonce), (vec![9; 40], vec![1; 12]));
        assert_eq!((found.encrypted, found.tag), (vec![2; 300], vec![3; 16]));
    }

    #[test]
    fn every_cut_and_everything_behind_it_is_refused() {
        let bytes = written();
        for end in 0..bytes.len() {
            assert!(parse_authenticated(&bytes[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        assert!(parse_authenticated(&[&bytes[..], &[0]].concat(), &Limits::SMALL).is_err());
    }
}
