//! Verifying a signature with a public key out of a file.

use aws_lc_rs::signature::{self as provider, UnparsedPublicKey, VerificationAlgorithm};
use der::Decode;
use ninekeys_formats::x509::KeyShape;

use super::{PublicKey, SignatureKind};

/// Whether `signature` over `message` is good. `None` when keys of that kind, size or curve cannot be
/// verified with: the caller must say so, never stay silent.
pub fn verify(key: &PublicKey, kind: SignatureKind, message: &[u8], signature: &[u8]) -> Option<bool> {
    use SignatureKind as K;
    let algorithm: &'static dyn VerificationAlgorithm = match (key.shape(), kind) {
        (KeyShape::Rsa { bits }, K::RsaSha1) if (1024..2048).contains(bits) => {
            &provider::RSA_PKCS1_1024_8192_SHA1_FOR_LEGACY_USE_ONLY
        }
        (KeyShape::Rsa { bits }, K::RsaSha256) if (1024..2048).contains(bits) => {
            &provider::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY
        }
        (KeyShape::Rsa { bits }, K::RsaSha512) if (1024..2048).contains(bits) => {
            &provider::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY
        }
        (KeyShape::Rsa { bits }, _) if !(2048..=8192).contains(bits) => return None,
        (KeyShape::Rsa { .. }, K::RsaSha1) => &provider::RSA_PKCS1_2048_8192_SHA1_FOR_LEGACY_USE_ONLY,
        (KeyShape::Rsa { .. }, K::RsaSha256) => &provider::RSA_PKCS1_2048_8192_SHA256,
        (KeyShape::Rsa { .. }, K::RsaSha384) => &provider::RSA_PKCS1_2048_8192_SHA384,
        (KeyShape::Rsa { .. }, K::RsaSha512) => &provider::RSA_PKCS1_2048_8192_SHA512,
        (KeyShape::Rsa { .. }, K::PssSha256) => &provider::RSA_PSS_2048_8192_SHA256,
        (KeyShape::Rsa { .. }, K::PssSha512) => &provider::RSA_PSS_2048_8192_SHA512,
        (KeyShape::Ec { curve }, _) => ec_algorithm(curve, kind)?,
        _ => return None,
    };
    let info = spki::SubjectPublicKeyInfoOwned::from_der(key.as_der()).ok()?;
    let bits = info.subject_public_key.raw_bytes();
    Some(UnparsedPublicKey::new(algorithm, bits).verify(message, signature).is_ok())
}

fn ec_algorithm(curve: &str, kind: SignatureKind) -> Option<&'static dyn VerificationAlgorithm> {
    use SignatureKind as K;
    Some(match (curve, kind) {
        ("P-256", K::EcdsaSha256) => &provider::ECDSA_P256_SHA256_ASN1,
        ("P-256", K::EcdsaSha384) => &provider::ECDSA_P256_SHA384_ASN1,
        ("P-256", K::EcdsaSha512) => &provider::ECDSA_P256_SHA512_ASN1,
        ("P-384", K::EcdsaSha256) => &provider::ECDSA_P384_SHA256_ASN1,
        ("P-384", K::EcdsaSha384) => &provider::ECDSA_P384_SHA384_ASN1,
        ("P-384", K::EcdsaSha512) => &provider::ECDSA_P384_SHA512_ASN1,
        _ => return None,
    })
}
