//! Private keys that sign and public keys that verify.
//!
//! A private key never leaves [`PrivateKey`]: it signs, it tells its public half, and it can be written out
//! only as a [`Secret`](ninekeys_formats::secret::Secret). RSA signs through the provider, EC keys through
//! deterministic ECDSA (RFC 6979), so that the same input gives the same bytes.

mod ecdsa;
mod make;
mod older;
mod pair;
mod proof;
mod verify;

use std::fmt;
use std::str::FromStr;

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::{digest, rsa, signature as provider};
use der::Decode;
use der::asn1::ObjectIdentifier;
use ninekeys_formats::x509::{KeyShape, key_shape};
use thiserror::Error;

use ecdsa::{Curve, EcKey};
pub use make::{KeyMaker, SystemKeys};
pub use older::to_pkcs8;
pub use pair::belongs_to;
pub use proof::{KeyProof, prove};
pub use verify::verify;

/// What can go wrong with a key.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum KeyError {
    /// The system's generator failed.
    #[error("the system's random generator failed")]
    Generator,
    /// The bytes are not a private key that can be used here.
    #[error("not a usable private key (PKCS#8): {0}")]
    Private(String),
    /// A key that nobody should sign with any more, and that the provider does not sign with.
    #[error("RSA keys below 2048 bits sign nothing any more, and this one has {0}")]
    TooShort(u32),
    /// A key of a kind that makes no signature here.
    #[error("keys of kind {0} cannot be signed with")]
    NoSignatures(String),
    /// The bytes are not a public key.
    #[error("not a public key (SubjectPublicKeyInfo)")]
    Public,
    /// A signature could not be made.
    #[error("a {0} signature could not be made with this key")]
    Sign(SignatureKind),
    /// A key algorithm that nobody asked for by this name.
    #[error("`{0}` is not a key algorithm; there are rsa-2048, rsa-3072, rsa-4096, ec-p256 and ec-p384")]
    UnknownAlgorithm(String),
}

/// The keys that can be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Algorithm {
    /// RSA, 2048 bits.
    Rsa2048,
    /// RSA, 3072 bits.
    Rsa3072,
    /// RSA, 4096 bits.
    Rsa4096,
    /// Elliptic curve P-256.
    P256,
    /// Elliptic curve P-384.
    P384,
}

impl Algorithm {
    /// All of them, with the name a user types.
    pub const ALL: [(&'static str, Algorithm); 5] = [
        ("rsa-2048", Algorithm::Rsa2048),
        ("rsa-3072", Algorithm::Rsa3072),
        ("rsa-4096", Algorithm::Rsa4096),
        ("ec-p256", Algorithm::P256),
        ("ec-p384", Algorithm::P384),
    ];
}

impl FromStr for Algorithm {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        let wanted = text.to_ascii_lowercase();
        let found = Algorithm::ALL.iter().find(|(name, _)| *name == wanted);
        found.map(|(_, algorithm)| *algorithm).ok_or_else(|| KeyError::UnknownAlgorithm(text.into()))
    }
}

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Algorithm::Rsa2048 => "RSA 2048",
            Algorithm::Rsa3072 => "RSA 3072",
            Algorithm::Rsa4096 => "RSA 4096",
            Algorithm::P256 => "EC P-256",
            Algorithm::P384 => "EC P-384",
        })
    }
}

/// How a signature is made: padding or curve, and hash.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SignatureKind {
    /// RSASSA-PKCS1-v1_5 with SHA-1: verified in old signatures, never made.
    RsaSha1,
    /// RSASSA-PKCS1-v1_5 with SHA-256.
    RsaSha256,
    /// RSASSA-PKCS1-v1_5 with SHA-384: verified in certificates, never made.
    RsaSha384,
    /// RSASSA-PKCS1-v1_5 with SHA-512.
    RsaSha512,
    /// RSASSA-PSS with SHA-256, salt of 32 bytes.
    PssSha256,
    /// RSASSA-PSS with SHA-512, salt of 64 bytes.
    PssSha512,
    /// ECDSA with SHA-256, DER.
    EcdsaSha256,
    /// ECDSA with SHA-384, DER.
    EcdsaSha384,
    /// ECDSA with SHA-512, DER.
    EcdsaSha512,
}

/// The kinds that certificates, requests and CMS name by one object identifier for key and hash (RFC 8017, appendix A.2;
/// RFC 5758, section 3.2).
const NAMED: [(SignatureKind, ObjectIdentifier); 7] = [
    (SignatureKind::RsaSha1, ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.5")),
    (SignatureKind::RsaSha256, ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11")),
    (SignatureKind::RsaSha384, ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.12")),
    (SignatureKind::RsaSha512, ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.13")),
    (SignatureKind::EcdsaSha256, ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2")),
    (SignatureKind::EcdsaSha384, ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3")),
    (SignatureKind::EcdsaSha512, ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4")),
];

impl SignatureKind {
    /// The kind with that object identifier; nothing for those that are named in another way, or not verified here.
    pub fn named(oid: &ObjectIdentifier) -> Option<Self> {
        NAMED.iter().find(|(_, known)| known == oid).map(|(kind, _)| *kind)
    }

    /// The object identifier that says key and hash, where there is one.
    pub fn oid(self) -> Option<ObjectIdentifier> {
        NAMED.iter().find(|(kind, _)| *kind == self).map(|(_, oid)| *oid)
    }

    /// Whether it is made with an RSA key: then its parameters are written as NULL, and left out otherwise.
    pub(crate) fn is_rsa(self) -> bool {
        !matches!(self, Self::EcdsaSha256 | Self::EcdsaSha384 | Self::EcdsaSha512)
    }

    fn hash(self) -> &'static digest::Algorithm {
        match self {
            Self::RsaSha1 => &digest::SHA1_FOR_LEGACY_USE_ONLY,
            Self::RsaSha256 | Self::PssSha256 | Self::EcdsaSha256 => &digest::SHA256,
            Self::RsaSha384 | Self::EcdsaSha384 => &digest::SHA384,
            Self::RsaSha512 | Self::PssSha512 | Self::EcdsaSha512 => &digest::SHA512,
        }
    }
}

impl fmt::Display for SignatureKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::RsaSha1 => "RSA PKCS#1 v1.5 with SHA-1",
            Self::RsaSha256 => "RSA PKCS#1 v1.5 with SHA-256",
            Self::RsaSha384 => "RSA PKCS#1 v1.5 with SHA-384",
            Self::RsaSha512 => "RSA PKCS#1 v1.5 with SHA-512",
            Self::PssSha256 => "RSA-PSS with SHA-256",
            Self::PssSha512 => "RSA-PSS with SHA-512",
            Self::EcdsaSha256 => "ECDSA with SHA-256",
            Self::EcdsaSha384 => "ECDSA with SHA-384",
            Self::EcdsaSha512 => "ECDSA with SHA-512",
        })
    }
}

/// A public key: its SubjectPublicKeyInfo and what kind it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicKey {
    der: Vec<u8>,
    shape: KeyShape,
}

impl PublicKey {
    /// Takes a SubjectPublicKeyInfo in DER.
    ///
    /// # Errors
    /// [`KeyError::Public`] when it is not one.
    pub fn from_der(der: &[u8]) -> Result<Self, KeyError> {
        let shape = key_shape(der).map_err(|_| KeyError::Public)?;
        Ok(PublicKey { der: der.to_vec(), shape })
    }

    /// The SubjectPublicKeyInfo.
    pub fn as_der(&self) -> &[u8] {
        &self.der
    }

    /// The bits of the key, without what says of which kind it is: a PKCS#1 key, or a point.
    ///
    /// # Errors
    /// [`KeyError::Public`].
    pub fn bits(&self) -> Result<Vec<u8>, KeyError> {
        let info = spki::SubjectPublicKeyInfoRef::from_der(&self.der).map_err(|_| KeyError::Public)?;
        Ok(info.subject_public_key.raw_bytes().to_vec())
    }

    /// Kind and size.
    pub fn shape(&self) -> &KeyShape {
        &self.shape
    }

    /// SHA-256 over the SubjectPublicKeyInfo, in hexadecimal: the same for every certificate of one key.
    pub fn fingerprint(&self) -> String {
        crate::digest::sha256_hex(&self.der)
    }
}

/// Something that signs with a private key it does not hand out.
pub trait Signer: Sync {
    /// The public half.
    fn public(&self) -> &PublicKey;

    /// Signs `message`, which is hashed as `kind` says.
    ///
    /// # Errors
    /// [`KeyError::Sign`] when the key is not of that kind.
    fn sign(&self, kind: SignatureKind, message: &[u8]) -> Result<Vec<u8>, KeyError>;
}

enum Inner {
    Rsa(Box<rsa::KeyPair>),
    Ec(EcKey),
}

/// A private key in memory, ready to sign.
pub struct PrivateKey {
    inner: Inner,
    public: PublicKey,
}

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey({}, ..)", self.public.shape)
    }
}

impl PrivateKey {
    /// Whether the bytes are a private key in PKCS#8, of any kind (RFC 5958, section 2).
    pub fn looks_like(der: &[u8]) -> bool {
        pkcs8::PrivateKeyInfoRef::from_der(der).is_ok()
    }

    /// Reads a PKCS#8 private key: RSA of 2048 bits or more, EC on P-256 or P-384.
    ///
    /// # Errors
    /// [`KeyError::Private`] with what the provider said.
    pub fn from_pkcs8(der: &[u8]) -> Result<Self, KeyError> {
        let info = pkcs8::PrivateKeyInfoRef::from_der(der).map_err(|e| KeyError::Private(e.to_string()))?;
        let curve = || {
            let parameters = info.algorithm.parameters.as_ref();
            parameters.and_then(|any| any.decode_as::<der::asn1::ObjectIdentifier>().ok())
        };
        use ninekeys_formats::x509::{DSA, EC, RSA};
        let (inner, public) = match info.algorithm.oid {
            RSA if pair::rsa_bits(info.private_key.as_bytes()).is_some_and(|bits| bits < 2048) => {
                let bits = pair::rsa_bits(info.private_key.as_bytes()).unwrap_or(0);
                return Err(KeyError::TooShort(bits));
            }
            RSA => {
                let pair = rsa::KeyPair::from_pkcs8(der).map_err(|e| KeyError::Private(e.to_string()))?;
                let public = provider::KeyPair::public_key(&pair).as_der().map_err(|_| KeyError::Public)?;
                (Inner::Rsa(Box::new(pair)), public.as_ref().to_vec())
            }
            EC if let Some(curve) = curve().and_then(Curve::named) => {
                let key = EcKey::read(curve, info.private_key.as_bytes());
                let key = key.ok_or_else(|| KeyError::Private("not a key of its curve".into()))?;
                let public = key.public().map_err(|_| KeyError::Public)?;
                (Inner::Ec(key), public)
            }
            EC => return Err(KeyError::NoSignatures("EC on another curve than P-256 and P-384".into())),
            DSA => return Err(KeyError::NoSignatures("DSA".into())),
            other => return Err(KeyError::NoSignatures(other.to_string())),
        };
        Ok(PrivateKey { inner, public: PublicKey::from_der(&public)? })
    }

    /// The kind that this key signs certificates with.
    pub(crate) fn certificate_kind(&self) -> SignatureKind {
        match self.inner {
            Inner::Rsa(_) => SignatureKind::RsaSha256,
            Inner::Ec(ref key) if key.is_p384() => SignatureKind::EcdsaSha384,
            Inner::Ec(_) => SignatureKind::EcdsaSha256,
        }
    }
}

impl Signer for PrivateKey {
    fn public(&self) -> &PublicKey {
        &self.public
    }

    fn sign(&self, kind: SignatureKind, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let refused = KeyError::Sign(kind);
        match (&self.inner, kind) {
            (Inner::Rsa(pair), SignatureKind::RsaSha256) => {
                rsa_sign(pair, &provider::RSA_PKCS1_SHA256, message)
            }
            (Inner::Rsa(pair), SignatureKind::RsaSha512) => {
                rsa_sign(pair, &provider::RSA_PKCS1_SHA512, message)
            }
            (
                Inner::Ec(key),
                SignatureKind::EcdsaSha256 | SignatureKind::EcdsaSha384 | SignatureKind::EcdsaSha512,
            ) => key.sign(digest::digest(kind.hash(), message).as_ref()),
            _ => None,
        }
        .ok_or(refused)
    }
}

fn rsa_sign(
    pair: &rsa::KeyPair,
    encoding: &'static provider::RsaSignatureEncoding,
    message: &[u8],
) -> Option<Vec<u8>> {
    let mut out = vec![0; pair.public_modulus_len()];
    // PKCS#1 v1.5 draws no randomness; the generator is there for the interface's sake
    pair.sign(encoding, &aws_lc_rs::rand::SystemRandom::new(), message, &mut out).ok()?;
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_algorithm_makes_keys_that_sign_what_they_verify_and_the_same_bytes_twice() {
        for (name, algorithm) in Algorithm::ALL {
            let secret = SystemKeys.make(algorithm).unwrap();
            let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
            assert_eq!(key.public().shape().to_string(), algorithm.to_string(), "{name}");
            let kinds = match key.inner {
                Inner::Rsa(_) => [SignatureKind::RsaSha256, SignatureKind::RsaSha512],
                _ => [SignatureKind::EcdsaSha256, SignatureKind::EcdsaSha512],
            };
            for kind in kinds {
                let signature = key.sign(kind, b"message").unwrap();
                assert_eq!(signature, key.sign(kind, b"message").unwrap(), "{name}: {kind}");
                assert_eq!(verify(key.public(), kind, b"message", &signature), Some(true), "{name}: {kind}");
                assert_eq!(verify(key.public(), kind, b"Message", &signature), Some(false));
            }
        }
    }

    #[test]
    fn a_key_refuses_signatures_of_another_kind_and_does_not_show_itself() {
        let secret = SystemKeys.make(Algorithm::P256).unwrap();
        let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
        let kind = SignatureKind::RsaSha256;
        assert_eq!(key.sign(kind, b"x"), Err(KeyError::Sign(kind)));
        assert_eq!(format!("{key:?}"), "PrivateKey(EC P-256, ..)");
        assert!(PrivateKey::from_pkcs8(b"\x30\x03nothing").is_err());
    }

    #[test]
    fn names_of_algorithms_are_read_without_case_and_unknown_ones_are_named() {
        assert_eq!("RSA-4096".parse(), Ok(Algorithm::Rsa4096));
        let error = "rsa-1024".parse::<Algorithm>().unwrap_err();
        assert!(error.to_string().contains("rsa-1024"), "{error}");
    }
}
