//! Bytes encrypted to the holder of an EC key, and opened by it: CMS AuthEnvelopedData (RFC 5083) with AES-256-GCM
//! (RFC 5084), its key by an ephemeral key agreement (RFC 5753). Encryption says nothing about who wrote it: what comes
//! out is to be believed only where something else proves its origin.

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::agreement::{self, ECDH_P256, ECDH_P384, PrivateKey, UnparsedPublicKey};
use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};
use aws_lc_rs::key_wrap::{AES_256 as WRAP_256, AesKek, KeyWrap};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::envelope::{self as form, Recipient};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretBytes};
use ninekeys_formats::x509::KeyShape;
use thiserror::Error;

use crate::digest::sha256;
use crate::env::Env;
use crate::keys::{KeyError, PublicKey};

/// The length of a content's and a wrapping key in bytes.
const KEY: usize = 32;
/// The length of an authentication tag in bytes.
const TAG: usize = 16;

/// Why an envelope was not made or opened.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EnvelopeError {
    /// Not an envelope of the kind that is made here.
    #[error(transparent)]
    Form(#[from] ParseError),
    /// It is for another key, or was changed.
    #[error("the envelope is for another key, or was changed")]
    NotOurs,
    /// A key that is not on P-256 or P-384.
    #[error("envelopes go to EC keys on P-256 and P-384, not to {0}")]
    Kind(String),
    /// The provider failed.
    #[error("encryption failed")]
    Provider,
    /// The random generator, or a key that cannot be read.
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// Encrypts `content` to the holder of `to`, who is named by the SHA-1 over the key's bits, as key identifiers are
/// (RFC 5280, section 4.2.1.2).
///
/// # Errors
/// [`EnvelopeError::Kind`], [`EnvelopeError::Provider`], [`EnvelopeError::Key`].
pub fn close(to: &PublicKey, content: &SecretBytes, env: &Env<'_>) -> Result<Vec<u8>, EnvelopeError> {
    let mut key = Secret::new(vec![0; KEY]);
    key.change(|key| env.keys.fill(key))?;
    let info = agree(&Recipient::Key { id: key_id(to)? }, to, &key)?;
    let mut nonce = [0; NONCE_LEN];
    env.keys.fill(&mut nonce)?;
    let cipher = cipher(&key)?;
    let mut encrypted = content.duplicate();
    let tag = encrypted
        .change(|bytes| {
            let nonce = Nonce::assume_unique_for_key(nonce);
            cipher.seal_in_place_separate_tag(nonce, Aad::empty(), bytes)
        })
        .map_err(|_| EnvelopeError::Provider)?;
    let written = encrypted.lend(|bytes| form::write_authenticated(&info, &nonce, bytes, tag.as_ref()));
    written.map_err(|_| EnvelopeError::Provider)
}

/// Opens an envelope with the private key (PKCS#8) that it is for.
///
/// # Errors
/// [`EnvelopeError::Form`], [`EnvelopeError::NotOurs`], [`EnvelopeError::Kind`], [`EnvelopeError::Key`].
pub fn open(
    own: &PublicKey,
    private: &SecretBytes,
    envelope: &[u8],
    limits: &Limits,
) -> Result<SecretBytes, EnvelopeError> {
    let found = form::parse_authenticated(envelope, limits)?;
    if found.recipient != key_id(own)? {
        return Err(EnvelopeError::NotOurs);
    }
    let curve = curve(own)?;
    let private = private.lend(|der| PrivateKey::from_private_key_der(curve, der));
    let private = private.map_err(|_| KeyError::Private("not a key to agree with".into()))?;
    let kek = wrapping_key(&private, curve, &found.point).map_err(|_| EnvelopeError::NotOurs)?;
    let mut key = Secret::new(vec![0; KEY]);
    let length = key.change(|key| kek.unwrap(&found.wrapped_key, key).map(|key| key.len()));
    if length != Ok(KEY) {
        return Err(EnvelopeError::NotOurs);
    }
    let nonce = Nonce::try_assume_unique_for_key(&found.nonce).map_err(|_| EnvelopeError::NotOurs)?;
    let cipher = cipher(&key)?;
    let length = found.encrypted.len();
    let mut content = Secret::new(Vec::with_capacity(length + TAG));
    content.change(|bytes| {
        bytes.extend_from_slice(&found.encrypted);
        bytes.extend_from_slice(&found.tag);
        let opened = cipher.open_in_place(nonce, Aad::empty(), bytes).map(|_| ());
        bytes.truncate(length);
        opened.map_err(|_| EnvelopeError::NotOurs)
    })?;
    Ok(content)
}

/// KeyAgreeRecipientInfo: `content_key`, wrapped to the holder of `key`.
pub(crate) fn agree(
    to: &Recipient,
    key: &PublicKey,
    content_key: &SecretBytes,
) -> Result<Vec<u8>, EnvelopeError> {
    let curve = curve(key)?;
    let ephemeral = PrivateKey::generate(curve).map_err(|_| EnvelopeError::Provider)?;
    let point = ephemeral.compute_public_key().map_err(|_| EnvelopeError::Provider)?;
    let kek = wrapping_key(&ephemeral, curve, &key.bits()?)?;
    let mut out = [0; KEY + 8];
    let wrapped = content_key.lend(|key| kek.wrap(key, &mut out).map(|out| out.to_vec()));
    let wrapped = wrapped.map_err(|_| EnvelopeError::Provider)?;
    form::write_agreement(to, point.as_ref(), &wrapped).map_err(|_| EnvelopeError::Provider)
}

/// What two key pairs agree on, as a key that wraps: X9.63 with SHA-256 over the secret, a counter from 1, and the
/// shared info of RFC 5753, section 7.2; one block is enough.
fn wrapping_key(
    own: &PrivateKey,
    curve: &'static agreement::Algorithm,
    peer: &[u8],
) -> Result<AesKek, EnvelopeError> {
    let shared_info = form::shared_info().map_err(|_| EnvelopeError::Provider)?;
    let peer = UnparsedPublicKey::new(curve, peer);
    let kek = agreement::agree(own, peer, EnvelopeError::Provider, |shared| {
        let mut input = Secret::new([shared, &1u32.to_be_bytes(), &shared_info].concat());
        Ok(input.change(|input| Secret::new(sha256(input).to_vec())))
    })?;
    kek.lend(|kek| AesKek::new(&WRAP_256, kek)).map_err(|_| EnvelopeError::Provider)
}

fn curve(key: &PublicKey) -> Result<&'static agreement::Algorithm, EnvelopeError> {
    match key.shape() {
        KeyShape::Ec { curve } if curve == "P-256" => Ok(&ECDH_P256),
        KeyShape::Ec { curve } if curve == "P-384" => Ok(&ECDH_P384),
        other => Err(EnvelopeError::Kind(other.to_string())),
    }
}

fn key_id(key: &PublicKey) -> Result<Vec<u8>, EnvelopeError> {
    Ok(digest(&SHA1_FOR_LEGACY_USE_ONLY, &key.bits()?).as_ref().to_vec())
}

fn cipher(key: &SecretBytes) -> Result<LessSafeKey, EnvelopeError> {
    let key = key.lend(|key| UnboundKey::new(&AES_256_GCM, key)).map_err(|_| EnvelopeError::Provider)?;
    Ok(LessSafeKey::new(key))
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicBool;

    use super::*;
    use crate::env::Silent;
    use crate::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};

    fn holder(algorithm: Algorithm) -> (PublicKey, SecretBytes) {
        let secret = SystemKeys.make(algorithm).unwrap();
        let public = secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap().public().clone();
        (public, secret)
    }

    fn closed(to: &PublicKey, content: &[u8]) -> Vec<u8> {
        let stop = AtomicBool::new(false);
        let now = "2031-05-19T12:00:00Z".parse().unwrap();
        let env =
            Env { now, keys: &SystemKeys, progress: &Silent, scratch: &crate::stream::InMemory, stop: &stop };
        close(to, &Secret::new(content.to_vec()), &env).unwrap()
    }

    #[test]
    fn the_holder_opens_it_and_nobody_else() {
        for algorithm in [Algorithm::P256, Algorithm::P384] {
            let ((public, private), (other, others)) = (holder(algorithm), holder(algorithm));
            let envelope = closed(&public, b"a compartment's key");
            let opened = open(&public, &private, &envelope, &Limits::SMALL).unwrap();
            assert_eq!(opened.lend(Clone::clone), b"a compartment's key");
            let wrong = |own, private| open(own, private, &envelope, &Limits::SMALL).err();
            assert_eq!(wrong(&other, &others), Some(EnvelopeError::NotOurs));
            assert_eq!(wrong(&public, &others), Some(EnvelopeError::NotOurs));
        }
        assert!(matches!(
            agree(&Recipient::Key { id: vec![] }, &holder(Algorithm::Rsa2048).0, &Secret::new(vec![0; 32])),
            Err(EnvelopeError::Kind(_))
        ));
    }

    #[test]
    fn every_changed_byte_is_found() {
        let (public, private) = holder(Algorithm::P256);
        let envelope = closed(&public, b"0123456789");
        for at in 0..envelope.len() {
            let mut bytes = envelope.clone();
            bytes[at] ^= 1;
            let opened = open(&public, &private, &bytes, &Limits::SMALL);
            // how a key's algorithm is named in the sender's ephemeral key says nothing that is used
            let same = opened.as_ref().is_ok_and(|content| content.lend(|c| c == b"0123456789"));
            assert!(opened.is_err() || same, "byte {at}");
        }
    }
}
