//! Where new keys and random bytes come from.

use aws_lc_rs::encoding::{AsDer, Pkcs8V1Der};
use aws_lc_rs::rand::{SecureRandom, SystemRandom};
use aws_lc_rs::rsa::{KeyPair, KeySize};
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P384_SHA384_ASN1_SIGNING, EcdsaKeyPair, EcdsaSigningAlgorithm,
};
use ninekeys_formats::secret::{Secret, SecretBytes};

use super::{Algorithm, KeyError};

/// Makes private keys and random bytes. The real one asks the system; tests bring fixed keys.
pub trait KeyMaker: Sync {
    /// A new private key, PKCS#8 DER.
    ///
    /// # Errors
    /// [`KeyError::Generator`] when the source of randomness fails.
    fn make(&self, algorithm: Algorithm) -> Result<SecretBytes, KeyError>;

    /// Fills `into` with random bytes.
    ///
    /// # Errors
    /// [`KeyError::Generator`] when the source of randomness fails.
    fn fill(&self, into: &mut [u8]) -> Result<(), KeyError>;
}

/// Keys from the provider, randomness from the operating system.
pub struct SystemKeys;

impl KeyMaker for SystemKeys {
    fn make(&self, algorithm: Algorithm) -> Result<SecretBytes, KeyError> {
        match algorithm {
            Algorithm::Rsa2048 => rsa(KeySize::Rsa2048),
            Algorithm::Rsa3072 => rsa(KeySize::Rsa3072),
            Algorithm::Rsa4096 => rsa(KeySize::Rsa4096),
            Algorithm::P256 => ec(&ECDSA_P256_SHA256_ASN1_SIGNING),
            Algorithm::P384 => ec(&ECDSA_P384_SHA384_ASN1_SIGNING),
        }
    }

    fn fill(&self, into: &mut [u8]) -> Result<(), KeyError> {
        SystemRandom::new().fill(into).map_err(|_| KeyError::Generator)
    }
}

fn rsa(size: KeySize) -> Result<SecretBytes, KeyError> {
    let pair = KeyPair::generate(size).map_err(|_| KeyError::Generator)?;
    let der: Pkcs8V1Der<'_> = pair.as_der().map_err(|_| KeyError::Generator)?;
    Ok(Secret::new(der.as_ref().to_vec()))
}

fn ec(algorithm: &'static EcdsaSigningAlgorithm) -> Result<SecretBytes, KeyError> {
    let pair = EcdsaKeyPair::generate(algorithm).map_err(|_| KeyError::Generator)?;
    let der = pair.to_pkcs8v1().map_err(|_| KeyError::Generator)?;
    Ok(Secret::new(der.as_ref().to_vec()))
}
