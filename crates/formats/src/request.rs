//! Certificate requests, PKCS#10 (RFC 2986): read over the bytes that were signed, and written.
//!
//! ```text
//! CertificationRequest     ::= SEQUENCE { info CertificationRequestInfo, algorithm, signature BIT STRING }
//! CertificationRequestInfo ::= SEQUENCE { version (0), subject Name, subjectPKInfo, attributes [0] SET OF }
//! ```

use der::asn1::{BitString, ObjectIdentifier};
use der::{Decode, Encode, Tag};
use x509_cert::name::Name;

use crate::cursor::{ParseError, bounded};
use crate::limits::Limits;
use crate::tlv::{content, inside, malformed, tlv, unreadable};
use crate::x509::{Extensions, KeyShape, key_shape};

/// The label of a request in PEM (RFC 7468, section 7).
pub const LABEL: &str = "CERTIFICATE REQUEST";
/// What some programs write instead.
pub const OLD_LABEL: &str = "NEW CERTIFICATE REQUEST";

/// extensionRequest (RFC 2985, section 5.4.2).
const EXTENSION_REQUEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.14");

/// A request for a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The signed part, exactly as it stands.
    pub info: Vec<u8>,
    /// Subject, RFC 4514.
    pub subject: String,
    /// Subject, exactly as it stands.
    pub subject_der: Vec<u8>,
    /// SubjectPublicKeyInfo, exactly as it stands.
    pub public_key: Vec<u8>,
    /// What kind of key that is.
    pub key: KeyShape,
    /// The extensions that it asks for.
    pub extensions: Extensions,
    /// The algorithm that it is signed with.
    pub signature_algorithm: ObjectIdentifier,
    /// Its signature, which shows that the private key is at hand.
    pub signature: Vec<u8>,
}

impl Request {
    /// Reads one request from its DER form; nothing may follow it.
    ///
    /// # Errors
    /// [`ParseError`] for anything that is not of this grammar.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Request, ParseError> {
        let what = "certificate request";
        bounded(what, bytes, limits.certificate)?;
        read(bytes).map_err(unreadable(what))
    }
}

fn read(bytes: &[u8]) -> der::Result<Request> {
    let outer = inside(bytes, 0x30)?;
    let [info, algorithm, signature] = outer.as_slice() else { return Err(malformed()) };
    let fields = inside(info, 0x30)?;
    let [version, subject, public_key, attributes] = fields.as_slice() else { return Err(malformed()) };
    if content(version, Tag::Integer)? != [0] {
        return Err(malformed());
    }
    let mut extensions = Extensions::default();
    for attribute in inside(attributes, 0xa0)? {
        let parts = inside(attribute, 0x30)?;
        let [kind, values] = parts.as_slice() else { return Err(malformed()) };
        if ObjectIdentifier::from_der(kind)? == EXTENSION_REQUEST {
            match inside(values, 0x31)?.as_slice() {
                // nothing is asked for: not allowed, and written by some all the same
                [one] if inside(one, 0x30)?.is_empty() => {}
                [one] => extensions = Extensions::read(one)?,
                _ => return Err(malformed()),
            }
        }
    }
    Ok(Request {
        info: info.to_vec(),
        subject: Name::from_der(subject)?.to_string(),
        subject_der: subject.to_vec(),
        public_key: public_key.to_vec(),
        key: key_shape(public_key)?,
        extensions,
        signature_algorithm: spki::AlgorithmIdentifierOwned::from_der(algorithm)?.oid,
        signature: BitString::from_der(signature)?.raw_bytes().to_vec(),
    })
}

/// The part of a request that is signed, for a name and a SubjectPublicKeyInfo in DER, without attributes.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn info(subject: &[u8], public_key: &[u8]) -> der::Result<Vec<u8>> {
    tlv(0x30, &[&[0x02, 0x01, 0x00], subject, public_key, &[0xa0, 0x00]])
}

/// The whole request: what [`info`] made, the algorithm's identifier in DER, and the signature.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn write(info: &[u8], algorithm: &[u8], signature: &[u8]) -> der::Result<Vec<u8>> {
    tlv(0x30, &[info, algorithm, &BitString::from_bytes(signature)?.to_der()?])
}

#[cfg(test)]
mod tests {
    use super::*;

    const EC: &[u8] = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x02";

    fn written() -> Vec<u8> {
        let name: Name = "CN=Gannet Point,C=GB".parse().unwrap();
        let mut key = b"\x30\x59\x30\x13\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x08\x2a\x86\x48\xce\x3d\x03\x01\x07\x03\x42\x00"
            .to_vec();
        key.extend_from_slice(&[4; 65]);
        let info = info(&name.to_der().unwrap(), &key).unwrap();
        write(&info, EC, &[9; 70]).unwrap()
    }

    #[test]
    fn what_is_written_is_read_back() {
        let found = Request::parse(&written(), &Limits::SMALL).unwrap();
        assert_eq!(found.subject, "CN=Gannet Point,C=GB");
        assert_eq!((found.key.to_string(), found.signature.len()), ("EC P-256".into(), 70));
        assert_eq!(found.extensions.iter().count(), 0);
        assert!(written().windows(found.info.len()).any(|window| window == found.info));
    }

    #[test]
    fn every_cut_is_refused() {
        let bytes = written();
        for end in 0..bytes.len() {
            assert!(Request::parse(&bytes[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        assert!(Request::parse(&[&bytes[..], &[0]].concat(), &Limits::SMALL).is_err());
    }
}
