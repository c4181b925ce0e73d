//! Timestamps: what an authority is asked, and what it answers (RFC 3161, with the certificate named as RFC 5816 has it).
//!
//! | message | fields that are read |
//! |---|---|
//! | question | imprint (hash, bytes), nonce, whether the certificate is wanted |
//! | answer | status, and the token: a SignedData whose content is a stamp |
//! | stamp (TSTInfo) | policy, imprint, serial number, time, nonce |

use der::asn1::{GeneralizedTime, ObjectIdentifier};
use der::{Decode, Encode, Tag};

use crate::cms::SignedAttributes;
use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;
use crate::tlv::{content, inside, malformed, number, tlv, unreadable};

/// id-ct-TSTInfo: the content of a token (RFC 3161, section 2.4.2).
pub const STAMP: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.1.4");
/// id-aa-timeStampToken: the unsigned attribute that holds a token (RFC 3161, appendix A).
pub const TOKEN: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.2.14");
/// id-kp-timeStamping (RFC 5280, section 4.2.1.12).
pub const TIME_STAMPING: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.8");
/// id-aa-signingCertificate and its second version (RFC 2634, section 5.4; RFC 5035).
const SIGNING_CERTIFICATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.2.12");
/// The second version, which new tokens have.
pub const SIGNING_CERTIFICATE_V2: ObjectIdentifier =
    ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.2.47");
const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
/// More than any of these messages has.
const MOST: u64 = 64 << 10;
/// The longest nonce or serial number, in bytes (RFC 3161, section 2.4.2).
const LONGEST_NUMBER: usize = 33;

/// What is stamped: a hash, and with what it was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Imprint {
    /// The hash's algorithm.
    pub algorithm: ObjectIdentifier,
    /// The hash.
    pub hash: Vec<u8>,
}

impl Imprint {
    /// A SHA-256.
    pub fn sha256(hash: &[u8]) -> Self {
        Imprint { algorithm: SHA256, hash: hash.to_vec() }
    }

    fn parse(bytes: &[u8]) -> der::Result<Self> {
        let parts = inside(bytes, 0x30)?;
        let [algorithm, hash] = parts.as_slice() else { return Err(malformed()) };
        let algorithm = spki::AlgorithmIdentifierOwned::from_der(algorithm)?.oid;
        Ok(Imprint { algorithm, hash: content(hash, Tag::OctetString)?.to_vec() })
    }

    fn write(&self) -> der::Result<Vec<u8>> {
        let algorithm = tlv(0x30, &[&self.algorithm.to_der()?, &[0x05, 0x00]])?;
        tlv(0x30, &[&algorithm, &tlv(0x04, &[&self.hash])?])
    }
}

/// A question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// What is to be stamped.
    pub imprint: Imprint,
    /// What the answer has to repeat: the bytes of a number, without a sign.
    pub nonce: Option<Vec<u8>>,
    /// Whether the authority's certificate is wanted in the token.
    pub certificate: bool,
}

/// The bytes of a number that is not negative.
fn unsigned(tlv: &[u8]) -> der::Result<Vec<u8>> {
    match content(tlv, Tag::Integer)? {
        bytes if bytes.len() > LONGEST_NUMBER => Err(malformed()),
        [0, rest @ ..] => Ok(rest.to_vec()),
        [first, ..] if first & 0x80 != 0 => Err(malformed()),
        bytes => Ok(bytes.to_vec()),
    }
}

fn write_unsigned(bytes: &[u8]) -> der::Result<Vec<u8>> {
    let start = bytes.iter().position(|byte| *byte != 0).unwrap_or(bytes.len());
    let bytes = bytes.get(start..).unwrap_or_default();
    match bytes.first() {
        Some(first) if first & 0x80 == 0 => tlv(0x02, &[bytes]),
        _ => tlv(0x02, &[&[0], bytes]),
    }
}

impl Question {
    /// Reads a question.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn parse(bytes: &[u8]) -> Result<Self, ParseError> {
        let what = "timestamp query";
        bounded(what, bytes, MOST)?;
        let read = || {
            let parts = inside(bytes, 0x30)?;
            let [version, imprint, rest @ ..] = parts.as_slice() else { return Err(malformed()) };
            if number(version)? != 1 {
                return Err(malformed());
            }
            let mut out = Question { imprint: Imprint::parse(imprint)?, nonce: None, certificate: false };
            for part in rest {
                match part.first() {
                    Some(0x02) => out.nonce = Some(unsigned(part)?),
                    Some(0x01) => out.certificate = bool::from_der(part)?,
                    // a policy, and extensions, are the asker's wish
                    Some(0x06 | 0xa0) => {}
                    _ => return Err(malformed()),
                }
            }
            Ok(out)
        };
        read().map_err(unreadable(what))
    }

    /// Writes it.
    ///
    /// # Errors
    /// [`der::Error`] when something is too long.
    pub fn write(&self) -> der::Result<Vec<u8>> {
        let nonce = self.nonce.as_deref().map_or(Ok(Vec::new()), write_unsigned)?;
        let certificate = if self.certificate { true.to_der()? } else { Vec::new() };
        tlv(0x30, &[&1u8.to_der()?, &self.imprint.write()?, &nonce, &certificate])
    }
}

/// An answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// A token, as it stands.
    Granted(Vec<u8>),
    /// The status of a refusal (RFC 3161, section 2.4.2).
    Refused(u64),
}

/// Reads an answer.
///
/// # Errors
/// [`ParseError`].
pub fn read_answer(bytes: &[u8]) -> Result<Answer, ParseError> {
    let what = "timestamp answer";
    bounded(what, bytes, MOST)?;
    let read = || {
        let parts = inside(bytes, 0x30)?;
        let [status, rest @ ..] = parts.as_slice() else { return Err(malformed()) };
        let status = inside(status, 0x30)?;
        let status = number(status.first().ok_or_else(malformed)?)?;
        match rest {
            [token] if status <= 1 => Ok(Answer::Granted(token.to_vec())),
            [] if status > 1 => Ok(Answer::Refused(status)),
            _ => Err(malformed()),
        }
    };
    read().map_err(unreadable(what))
}

/// Writes an answer.
///
/// # Errors
/// [`der::Error`] when something is too long.
pub fn write_answer(answer: &Answer) -> der::Result<Vec<u8>> {
    match answer {
        Answer::Granted(token) => tlv(0x30, &[&tlv(0x30, &[&0u8.to_der()?])?, token]),
        Answer::Refused(status) => tlv(0x30, &[&tlv(0x30, &[&status.to_der()?])?]),
    }
}

/// A stamp (TSTInfo).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamp {
    /// The policy that it was made under.
    pub policy: ObjectIdentifier,
    /// What is stamped.
    pub imprint: Imprint,
    /// The stamp's number, without a sign.
    pub serial: Vec<u8>,
    /// When, in seconds since 1970 (UTC).
    pub at: i64,
    /// What the question had to be repeated.
    pub nonce: Option<Vec<u8>>,
}

impl Stamp {
    /// Reads a stamp.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn parse(bytes: &[u8]) -> Result<Self, ParseError> {
        let what = "timestamp";
        bounded(what, bytes, MOST)?;
        let read = || {
            let parts = inside(bytes, 0x30)?;
            let [version, policy, imprint, serial, time, rest @ ..] = parts.as_slice() else {
                return Err(malformed());
            };
            if number(version)? != 1 {
                return Err(malformed());
            }
            let nonce = rest.iter().find(|part| part.first() == Some(&0x02));
            Ok(Stamp {
                policy: ObjectIdentifier::from_der(policy)?,
                imprint: Imprint::parse(imprint)?,
                serial: unsigned(serial)?,
                at: time_of(time)?,
                nonce: nonce.map(|part| unsigned(part)).transpose()?,
            })
        };
        read().map_err(unreadable(what))
    }

    /// Writes it.
    ///
    /// # Errors
    /// [`der::Error`] when something is too long, or the time is none that can be said.
    pub fn write(&self) -> der::Result<Vec<u8>> {
        let seconds = u64::try_from(self.at).map_err(|_| malformed())?;
        let time = GeneralizedTime::from_unix_duration(std::time::Duration::from_secs(seconds))?;
        let nonce = self.nonce.as_deref().map_or(Ok(Vec::new()), write_unsigned)?;
        let (policy, imprint) = (self.policy.to_der()?, self.imprint.write()?);
        let serial = write_unsigned(&self.serial)?;
        tlv(0x30, &[&1u8.to_der()?, &policy, &imprint, &serial, &time.to_der()?, &nonce])
    }
}

/// A time that may have a fraction of a second, which is left out (RFC 3161, section 2.4.2).
fn time_of(tlv_bytes: &[u8]) -> der::Result<i64> {
    let text = content(tlv_bytes, Tag::GeneralizedTime)?;
    let whole = match text {
        [_, .., b'Z'] if text.len() == 15 => text.to_vec(),
        [head @ .., b'Z'] if head.get(14) == Some(&b'.') && head.len() > 15 => {
            let (whole, fraction) = (head.get(..14).unwrap_or_default(), head.get(15..).unwrap_or_default());
            if !fraction.iter().all(u8::is_ascii_digit) {
                return Err(malformed());
            }
            [whole, b"Z"].concat()
        }
        _ => return Err(malformed()),
    };
    let time = GeneralizedTime::from_der(&tlv(0x18, &[&whole])?)?;
    i64::try_from(time.to_unix_duration().as_secs()).map_err(|_| malformed())
}

/// The hash of the certificate that a signer says it signed with, and the algorithm: of the first that it names.
///
/// # Errors
/// [`ParseError`] where it names none.
pub fn signing_certificate(attributes: &SignedAttributes, limits: &Limits) -> Result<Imprint, ParseError> {
    let what = "name of the signing certificate";
    let missing = || ParseError { what, at: 0, fault: Fault::Malformed };
    let found = [SIGNING_CERTIFICATE_V2, SIGNING_CERTIFICATE]
        .into_iter()
        .find_map(|kind| attributes.find(kind).map(|value| (kind, value)));
    let (kind, value) = found.ok_or_else(missing)?;
    bounded(what, value, limits.certificate)?;
    let read = || {
        let lists = inside(value, 0x30)?;
        let ids = inside(lists.first().ok_or_else(malformed)?, 0x30)?;
        let parts = inside(ids.first().ok_or_else(malformed)?, 0x30)?;
        match parts.as_slice() {
            [algorithm, hash, ..] if algorithm.first() == Some(&0x30) => Ok(Imprint {
                algorithm: spki::AlgorithmIdentifierOwned::from_der(algorithm)?.oid,
                hash: content(hash, Tag::OctetString)?.to_vec(),
            }),
            [hash, ..] => Ok(Imprint {
                algorithm: if kind == SIGNING_CERTIFICATE { SHA1 } else { SHA256 },
                hash: content(hash, Tag::OctetString)?.to_vec(),
            }),
            [] => Err(malformed()),
        }
    };
    read().map_err(unreadable(what))
}

/// The value of the attribute that names a certificate by its SHA-256 (RFC 5035).
///
/// # Errors
/// [`der::Error`] when something is too long.
pub fn write_signing_certificate(sha256: &[u8; 32]) -> der::Result<Vec<u8>> {
    let id = tlv(0x30, &[&tlv(0x04, &[sha256])?])?;
    tlv(0x30, &[&tlv(0x30, &[&id])?])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn questions_answers_and_stamps_are_read_back_as_they_were_written() {
        let question =
            Question { imprint: Imprint::sha256(&[7; 32]), nonce: Some(vec![0x80, 1]), certificate: true };
        assert_eq!(Question::parse(&question.write().unwrap()).unwrap(), question);
        let stamp = Stamp {
            policy: ObjectIdentifier::new_unwrap("1.3.6.1.4.1.99999.1"),
            imprint: Imprint::sha256(&[7; 32]),
            serial: vec![0xff; 16],
            at: 1_796_040_000,
            nonce: Some(vec![1]),
        };
        let bytes = stamp.write().unwrap();
        assert_eq!(Stamp::parse(&bytes).unwrap(), stamp);
        for end in 0..bytes.len() {
            assert!(Stamp::parse(&bytes[..end]).is_err(), "cut at {end}");
        }
        for answer in [Answer::Granted(bytes), Answer::Refused(2)] {
            assert_eq!(read_answer(&write_answer(&answer).unwrap()).unwrap(), answer);
        }
    }

    #[test]
    fn a_time_may_have_a_fraction_and_nothing_else() {
        let time = |text: &str| time_of(&tlv(0x18, &[text.as_bytes()]).unwrap());
        assert_eq!(time("20261201090000Z").unwrap(), 1_796_115_600);
        assert_eq!(time("20261201090000.25Z").unwrap(), 1_796_115_600);
        for wrong in ["20261201090000", "20261201090000.Z", "20261201090000.xZ", "20261301090000Z", "Z", ""] {
            assert!(time(wrong).is_err(), "{wrong}");
        }
    }
}
