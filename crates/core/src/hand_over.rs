//! Handing a private key over: encrypted to a store's public key, so that nobody on the way can read it.
//!
//! The message is CMS EnvelopedData (RFC 5652) with AES-256; its key goes to an RSA recipient by RSAES-OAEP
//! (RFC 3560), to an EC recipient by an ephemeral key agreement (RFC 5753). What is inside is PKCS#8.

use aws_lc_rs::cipher::{AES_256, EncryptionContext, PaddedBlockEncryptingKey, UnboundCipherKey};
use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};
use aws_lc_rs::rsa::{OAEP_SHA256_MGF1SHA256, OaepPublicEncryptingKey, PublicEncryptingKey};
use ninekeys_formats::envelope::{self, Recipient};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes};
use ninekeys_formats::x509::{Certificate, KeyShape};
use thiserror::Error;

use crate::env::Env;
use crate::envelope::EnvelopeError;
use crate::keys::{KeyError, PublicKey};

/// The block of AES in bytes: the most that padding adds.
const BLOCK: usize = 16;

/// Why a key was not handed over.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum HandOverError {
    /// The recipient's file is neither a certificate nor a public key.
    #[error("it is neither a certificate nor a public key (PEM or DER)")]
    NotARecipient,
    /// A key that nobody should encrypt to.
    #[error(
        "nothing is encrypted to a key of kind {0}; RSA of 2048 bits or more, EC P-256 and P-384 are taken"
    )]
    Kind(String),
    /// The provider or the generator failed.
    #[error("encryption failed")]
    Provider,
    /// The random generator.
    #[error(transparent)]
    Random(#[from] KeyError),
    /// The envelope.
    #[error(transparent)]
    Envelope(#[from] EnvelopeError),
}

/// Who a key is handed over to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Receiver {
    id: Recipient,
    key: PublicKey,
    /// The certificate's subject, where there is one.
    pub subject: Option<String>,
}

impl Receiver {
    /// Reads a certificate or a public key, PEM or DER.
    ///
    /// # Errors
    /// [`HandOverError::NotARecipient`], [`HandOverError::Kind`].
    pub fn read(bytes: &[u8], limits: &Limits) -> Result<Self, HandOverError> {
        let block = |label| pem::blocks(bytes, label, limits).into_iter().next();
        let der =
            block(pem::CERTIFICATE).or_else(|| block(pem::PUBLIC_KEY)).unwrap_or_else(|| bytes.to_vec());
        let receiver = match Certificate::parse(&der, limits) {
            Ok(certificate) => Receiver {
                id: Recipient::Certificate {
                    issuer: certificate.issuer_der.clone(),
                    serial: certificate.serial.clone(),
                },
                key: PublicKey::from_der(&certificate.public_key)
                    .map_err(|_| HandOverError::NotARecipient)?,
                subject: Some(certificate.subject),
            },
            Err(_) => {
                let key = PublicKey::from_der(&der).map_err(|_| HandOverError::NotARecipient)?;
                let bits = key.bits().map_err(|_| HandOverError::NotARecipient)?;
                let id = digest(&SHA1_FOR_LEGACY_USE_ONLY, &bits).as_ref().to_vec();
                Receiver { id: Recipient::Key { id }, key, subject: None }
            }
        };
        match receiver.key.shape() {
            KeyShape::Rsa { bits } if (2048..=8192).contains(bits) => Ok(receiver),
            KeyShape::Ec { curve } if curve == "P-256" || curve == "P-384" => Ok(receiver),
            other => Err(HandOverError::Kind(other.to_string())),
        }
    }

    /// Kind and size of its key, and the key's fingerprint.
    pub fn key(&self) -> &PublicKey {
        &self.key
    }
}

/// Encrypts a private key (PKCS#8) to the receiver.
///
/// # Errors
/// [`HandOverError::Provider`], [`HandOverError::Random`].
pub fn hand_over(to: &Receiver, secret: &SecretBytes, env: &Env<'_>) -> Result<Vec<u8>, HandOverError> {
    let refused = |_| HandOverError::Provider;
    let encoding = |_: der::Error| HandOverError::Provider;
    let mut content_key = Secret::new(vec![0; 32]);
    content_key.change(|key| env.keys.fill(key))?;
    let recipient = match to.key.shape() {
        KeyShape::Rsa { .. } => transport(to, &content_key)?,
        _ => agreement(to, &content_key)?,
    };
    let mut iv = [0; 16];
    env.keys.fill(&mut iv)?;
    let key = content_key.lend(|key| UnboundCipherKey::new(&AES_256, key)).map_err(refused)?;
    let key = PaddedBlockEncryptingKey::cbc_pkcs7(key).map_err(refused)?;
    // room for the padding is there from the start: a buffer that moved would leave the key behind
    let room = secret.lend(Vec::len) + BLOCK;
    let mut content = Secret::new(Vec::with_capacity(room));
    content.change(|bytes| {
        secret.lend(|secret| bytes.extend_from_slice(secret));
        key.less_safe_encrypt(bytes, EncryptionContext::Iv128((&iv).into())).map(|_| ()).map_err(refused)
    })?;
    content.lend(|bytes| envelope::write(&to.id, &recipient, &iv, bytes)).map_err(encoding)
}

fn transport(to: &Receiver, content_key: &SecretBytes) -> Result<Vec<u8>, HandOverError> {
    let key = PublicEncryptingKey::from_der(to.key.as_der()).map_err(|_| HandOverError::Provider)?;
    let key = OaepPublicEncryptingKey::new(key).map_err(|_| HandOverError::Provider)?;
    let mut out = vec![0; key.ciphertext_size()];
    let length = content_key
        .lend(|content| key.encrypt(&OAEP_SHA256_MGF1SHA256, content, &mut out, None).map(|out| out.len()))
        .map_err(|_| HandOverError::Provider)?;
    out.truncate(length);
    envelope::write_transport(&to.id, &out).map_err(|_| HandOverError::Provider)
}

fn agreement(to: &Receiver, content_key: &SecretBytes) -> Result<Vec<u8>, HandOverError> {
    Ok(crate::envelope::agree(&to.id, &to.key, content_key)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::{Subject, self_signed};
    use crate::env::Silent;
    use crate::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};
    use std::sync::atomic::AtomicBool;

    fn with_env<R>(run: impl FnOnce(&Env<'_>) -> R) -> R {
        let stop = AtomicBool::new(false);
        let now = "2031-05-19T12:00:00Z".parse().unwrap();
        run(&Env {
            now,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &crate::stream::InMemory,
            stop: &stop,
        })
    }

    /// A key's certificate and its public key.
    fn receiver(algorithm: Algorithm) -> (Vec<u8>, Vec<u8>) {
        let key = SystemKeys.make(algorithm).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
        let subject = Subject { common_name: Some("The store".into()), ..Subject::default() };
        let certificate = with_env(|env| self_signed(&key, &subject, 1, env).unwrap());
        (certificate, key.public().as_der().to_vec())
    }

    #[test]
    fn certificates_and_keys_are_receivers_in_both_forms() {
        let (certificate, public) = receiver(Algorithm::P256);
        let pem = |label, der: &[u8]| pem::encode(label, der).unwrap().into_bytes();
        let read = |bytes: &[u8]| Receiver::read(bytes, &Limits::USUAL).unwrap();
        let named = read(&certificate);
        assert_eq!(named.subject.as_deref(), Some("CN=The store"));
        assert_eq!(named, read(&pem(pem::CERTIFICATE, &certificate)));
        let bare = read(&public);
        assert_eq!((bare.subject.as_deref(), bare.key()), (None, named.key()));
        assert_eq!(bare, read(&pem(pem::PUBLIC_KEY, &public)));
        for no in [
            &b""[..],
            b"nobody",
            &certificate[1..],
            b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
        ] {
            assert_eq!(Receiver::read(no, &Limits::USUAL), Err(HandOverError::NotARecipient));
        }
    }

    #[test]
    fn a_message_shows_nothing_of_the_key_and_is_another_each_time() {
        for algorithm in [Algorithm::Rsa2048, Algorithm::P256, Algorithm::P384] {
            let (certificate, _) = receiver(algorithm);
            let to = Receiver::read(&certificate, &Limits::USUAL).unwrap();
            let secret = SystemKeys.make(Algorithm::P256).unwrap();
            let message = || with_env(|env| hand_over(&to, &secret, env).unwrap());
            let (one, two) = (message(), message());
            assert_ne!(one, two);
            let inside =
                secret.lend(|der| one.windows(16).any(|window| der.windows(16).any(|part| part == window)));
            assert!(!inside, "a part of the key stands in the message");
        }
    }
}
