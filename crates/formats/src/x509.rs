//! X.509 certificates (RFC 5280), read over the bytes that were signed.

use der::asn1::ObjectIdentifier;
use der::{Decode, Encode, Reader, SliceReader, Tag};
use x509_cert::name::Name;
use x509_cert::time::Validity;

use crate::cursor::{Fault, ParseError};
use crate::limits::Limits;
use crate::names::algorithm_name;
use crate::tlv::content;

/// rsaEncryption (RFC 8017).
pub const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
/// id-ecPublicKey (RFC 5480).
pub const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
/// id-dsa (RFC 3279).
pub const DSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10040.4.1");
/// secp256r1, called P-256 (RFC 5480).
pub const P256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7");
/// secp384r1, called P-384 (RFC 5480).
pub const P384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.34");

/// The kind and size of a public key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeyShape {
    /// RSA, with the length of its modulus in bits.
    Rsa {
        /// Bits of the modulus.
        bits: u32,
    },
    /// An elliptic curve, by name where it has one here.
    Ec {
        /// `P-256`, `P-384` and so on, or the curve's object identifier.
        curve: String,
    },
    /// DSA.
    Dsa,
    /// Anything else, by object identifier.
    Other(String),
}

impl std::fmt::Display for KeyShape {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            KeyShape::Rsa { bits } => write!(f, "RSA {bits}"),
            KeyShape::Ec { curve } => write!(f, "EC {curve}"),
            KeyShape::Dsa => f.write_str("DSA"),
            KeyShape::Other(oid) => write!(f, "key of kind {}", algorithm_name(oid)),
        }
    }
}

/// A certificate. Times are seconds since 1970 (UTC).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// All of it, DER.
    pub der: Vec<u8>,
    /// The signed part, exactly as it stands.
    pub tbs: Vec<u8>,
    /// Serial number, big-endian.
    pub serial: Vec<u8>,
    /// Issuer, RFC 4514.
    pub issuer: String,
    /// Issuer, exactly as it stands.
    pub issuer_der: Vec<u8>,
    /// Subject, RFC 4514.
    pub subject: String,
    /// Subject, exactly as it stands.
    pub subject_der: Vec<u8>,
    /// Whether issuer and subject are the same bytes.
    pub self_issued: bool,
    /// First second of its validity.
    pub not_before: i64,
    /// Last second of its validity.
    pub not_after: i64,
    /// SubjectPublicKeyInfo, exactly as it stands.
    pub public_key: Vec<u8>,
    /// What kind of key that is.
    pub key: KeyShape,
    /// The algorithm that the certificate itself is signed with.
    pub signature_algorithm: ObjectIdentifier,
    /// The certificate's signature.
    pub signature: Vec<u8>,
}

impl Certificate {
    /// Reads one certificate from its DER form; nothing may follow it.
    ///
    /// # Errors
    /// [`ParseError`] for anything that is not a certificate of RFC 5280's grammar.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Certificate, ParseError> {
        if bytes.len() as u64 > limits.certificate {
            let fault = Fault::Limit { said: bytes.len() as u64, limit: limits.certificate };
            return Err(ParseError { what: "certificate", at: 0, fault });
        }
        read(bytes).map_err(|error| ParseError {
            what: "certificate",
            at: error.position().map_or(0, |at| u64::from(u32::from(at))),
            fault: Fault::Malformed,
        })
    }
}

fn read(bytes: &[u8]) -> der::Result<Certificate> {
    let mut outer = SliceReader::new(bytes)?;
    let whole = outer.tlv_bytes()?;
    outer.finish()?;
    let mut parts = SliceReader::new(content(whole, Tag::Sequence)?)?;
    let tbs = parts.tlv_bytes()?;
    let algorithm = spki::AlgorithmIdentifierOwned::from_der(parts.tlv_bytes()?)?;
    let signature = der::asn1::BitString::from_der(parts.tlv_bytes()?)?;
    parts.finish()?;

    let mut fields = SliceReader::new(content(tbs, Tag::Sequence)?)?;
    let mut field = fields.tlv_bytes()?;
    if field.first() == Some(&0xa0) {
        field = fields.tlv_bytes()?;
    }
    let serial = content(field, Tag::Integer)?.to_vec();
    spki::AlgorithmIdentifierOwned::from_der(fields.tlv_bytes()?)?;
    let issuer = fields.tlv_bytes()?;
    let validity = Validity::<x509_cert::certificate::Rfc5280>::from_der(fields.tlv_bytes()?)?;
    let subject = fields.tlv_bytes()?;
    let public_key = fields.tlv_bytes()?;
    Ok(Certificate {
        der: whole.to_vec(),
        tbs: tbs.to_vec(),
        serial,
        issuer: Name::from_der(issuer)?.to_string(),
        issuer_der: issuer.to_vec(),
        subject: Name::from_der(subject)?.to_string(),
        subject_der: subject.to_vec(),
        self_issued: issuer == subject,
        not_before: seconds(&validity.not_before),
        not_after: seconds(&validity.not_after),
        public_key: public_key.to_vec(),
        key: key_shape(public_key)?,
        signature_algorithm: algorithm.oid,
        signature: signature.raw_bytes().to_vec(),
    })
}

fn seconds(time: &x509_cert::time::Time) -> i64 {
    i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX)
}

/// The kind of key in a SubjectPublicKeyInfo.
///
/// # Errors
/// [`der::Error`] when it is not one.
pub fn key_shape(public_key: &[u8]) -> der::Result<KeyShape> {
    let info = spki::SubjectPublicKeyInfoOwned::from_der(public_key)?;
    Ok(match info.algorithm.oid {
        RSA => KeyShape::Rsa { bits: modulus_bits(info.subject_public_key.raw_bytes())? },
        EC => KeyShape::Ec { curve: curve(info.algorithm.parameters.as_ref())? },
        DSA => KeyShape::Dsa,
        other => KeyShape::Other(other.to_string()),
    })
}

fn modulus_bits(key: &[u8]) -> der::Result<u32> {
    let mut parts = SliceReader::new(content(key, Tag::Sequence)?)?;
    let modulus = content(parts.tlv_bytes()?, Tag::Integer)?;
    let mut digits = modulus.iter().skip_while(|&&byte| byte == 0);
    let leading = digits.next().map_or(8, |byte| byte.leading_zeros());
    let rest = u32::try_from(digits.count()).unwrap_or(u32::MAX / 8 - 1);
    Ok((rest + 1) * 8 - leading)
}

fn curve(parameters: Option<&der::Any>) -> der::Result<String> {
    let Some(parameters) = parameters else { return Ok("unnamed".into()) };
    let oid: ObjectIdentifier = match ObjectIdentifier::from_der(&parameters.to_der()?) {
        Ok(oid) => oid,
        Err(_) => return Ok("unnamed".into()),
    };
    Ok(algorithm_name(&oid.to_string()).into())
}
