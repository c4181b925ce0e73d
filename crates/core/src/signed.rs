//! Whether the signer of a message (CMS SignedData, RFC 5652, section 5.4) signed what it is said to have signed.

use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA384, SHA512, digest};
use der::asn1::ObjectIdentifier;
use ninekeys_formats::cms::{SignedData, SignerInfo};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::names::algorithm_name;
use ninekeys_formats::x509::{Certificate, KeyShape};
use thiserror::Error;

use crate::keys::{PublicKey, SignatureKind, verify};

/// SHA-1 (RFC 3370).
pub(crate) const SHA1_OID: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
pub(crate) const SHA256_OID: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
pub(crate) const SHA384_OID: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
pub(crate) const SHA512_OID: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");

/// Algorithms that say the key and leave the hash to the digest's algorithm: rsaEncryption, id-ecPublicKey.
const KEY_ALONE: [&str; 2] = ["1.2.840.113549.1.1.1", "1.2.840.10045.2.1"];

/// Why a signer's word does not count.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SignerFault {
    /// The message lacks the signer's certificate.
    #[error("the signer's certificate is not in it")]
    NoCertificate,
    /// The key in the certificate cannot be read.
    #[error("the signer's public key cannot be read")]
    PublicKey,
    /// An algorithm that is not verified here.
    #[error("{algorithm} with a key of kind {key} is not verified here")]
    Unsupported {
        /// What it says.
        algorithm: String,
        /// The key's kind.
        key: String,
    },
    /// It is over something else.
    #[error("it is over another content")]
    OtherContent,
    /// It does not hold.
    #[error("the signature is wrong")]
    Wrong,
}

/// AlgorithmIdentifier of SHA-256 with NULL parameters, DER.
pub(crate) const SHA256_ID: &[u8] = b"\x30\x0d\x06\x09\x60\x86\x48\x01\x65\x03\x04\x02\x01\x05\x00";

/// The certificate of a signer, found by issuer and serial number and never by its place.
///
/// # Errors
/// [`SignerFault::NoCertificate`].
pub fn certificate_of(
    signer: &SignerInfo,
    signed: &SignedData,
    limits: &Limits,
) -> Result<Certificate, SignerFault> {
    let mut parsed = signed.certificates.iter().filter_map(|der| Certificate::parse(der, limits).ok());
    let own = parsed.find(|c| c.issuer_der == signer.issuer && c.serial == signer.serial);
    own.ok_or(SignerFault::NoCertificate)
}

/// Whether the holder of that certificate signed this content.
///
/// # Errors
/// [`SignerFault`].
pub fn holds(signer: &SignerInfo, certificate: &Certificate, content: &[u8]) -> Result<(), SignerFault> {
    let key = PublicKey::from_der(&certificate.public_key).map_err(|_| SignerFault::PublicKey)?;
    let (named, hash) = (signer.algorithm.to_string(), signer.digest.to_string());
    let unsupported = || SignerFault::Unsupported {
        algorithm: format!("{} over {}", algorithm_name(&named), algorithm_name(&hash)),
        key: key.shape().to_string(),
    };
    let (algorithm, kind) = match (signer.digest, key.shape()) {
        (SHA256_OID, KeyShape::Rsa { .. }) => (&SHA256, SignatureKind::RsaSha256),
        (SHA384_OID, KeyShape::Rsa { .. }) => (&SHA384, SignatureKind::RsaSha384),
        (SHA512_OID, KeyShape::Rsa { .. }) => (&SHA512, SignatureKind::RsaSha512),
        (SHA256_OID, KeyShape::Ec { .. }) => (&SHA256, SignatureKind::EcdsaSha256),
        (SHA384_OID, KeyShape::Ec { .. }) => (&SHA384, SignatureKind::EcdsaSha384),
        (SHA512_OID, KeyShape::Ec { .. }) => (&SHA512, SignatureKind::EcdsaSha512),
        (SHA1_OID, KeyShape::Rsa { .. }) => (&SHA1_FOR_LEGACY_USE_ONLY, SignatureKind::RsaSha1),
        _ => return Err(unsupported()),
    };
    // the algorithm of the whole, or of the key alone; PSS and others are not what they seem
    if kind.oid() != Some(signer.algorithm) && !KEY_ALONE.contains(&named.as_str()) {
        return Err(unsupported());
    }
    let over = match &signer.attributes {
        Some(attributes) if attributes.message_digest != digest(algorithm, content).as_ref() => {
            return Err(SignerFault::OtherContent);
        }
        Some(attributes) => attributes.signed.as_slice(),
        None => content,
    };
    match verify(&key, kind, over, &signer.signature) {
        Some(true) => Ok(()),
        Some(false) => Err(SignerFault::Wrong),
        None => Err(unsupported()),
    }
}
