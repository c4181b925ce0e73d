//! The cabinet key and what it seals.
//!
//! A sealed part is AES-256-GCM-SIV over the secret bytes. Its associated data is the digest of everything
//! about the item that stands in clear, so that none of it can be changed without the seal breaking. Items
//! without a secret are sealed over nothing, for the same reason.

use aws_lc_rs::aead::{AES_256_GCM_SIV, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::hmac;
use ninekeys_core::digest::sha256;
use ninekeys_core::env::Env;
use ninekeys_formats::secret::{Secret, SecretBytes};
use zeroize::Zeroizing;

use crate::{CabinetError, StoredItem};

const NONCE: usize = 12;

/// The key that everything in a cabinet is sealed with: 32 random bytes.
pub(crate) struct CabinetKey(Zeroizing<[u8; 32]>);

impl CabinetKey {
    /// A new one.
    pub(crate) fn make(env: &Env<'_>) -> Result<Self, CabinetError> {
        let mut bytes = Zeroizing::new([0; 32]);
        env.keys.fill(bytes.as_mut()).map_err(|_| CabinetError::Crypto("no randomness"))?;
        Ok(CabinetKey(bytes))
    }

    /// From what a member unwrapped.
    pub(crate) fn from_bytes(bytes: &[u8]) -> Option<Self> {
        Some(CabinetKey(Zeroizing::new(bytes.try_into().ok()?)))
    }

    /// Lends the bytes, to be wrapped for a member.
    pub(crate) fn lend<R>(&self, to: impl FnOnce(&[u8]) -> R) -> R {
        to(self.0.as_ref())
    }

    /// A key of its own for each purpose (HMAC-SHA-256 as a pseudo-random function).
    fn derive(&self, purpose: &str) -> Zeroizing<[u8; 32]> {
        let prf = hmac::Key::new(hmac::HMAC_SHA256, self.0.as_ref());
        let tag = hmac::sign(&prf, purpose.as_bytes());
        let mut out = Zeroizing::new([0; 32]);
        out.copy_from_slice(tag.as_ref());
        out
    }

    fn sealing_key(&self) -> Result<LessSafeKey, CabinetError> {
        let bytes = self.derive("ninekeys.seal/1");
        UnboundKey::new(&AES_256_GCM_SIV, bytes.as_ref())
            .map(LessSafeKey::new)
            .map_err(|_| CabinetError::Crypto("no sealing key"))
    }

    /// Seals `secret` to `item`.
    pub(crate) fn seal(
        &self,
        item: &StoredItem,
        secret: &SecretBytes,
        env: &Env<'_>,
    ) -> Result<Vec<u8>, CabinetError> {
        let mut nonce = [0; NONCE];
        env.keys.fill(&mut nonce).map_err(|_| CabinetError::Crypto("no randomness"))?;
        let mut bytes = Zeroizing::new(secret.lend(Clone::clone));
        self.sealing_key()?
            .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), binding(item), &mut *bytes)
            .map_err(|_| CabinetError::Crypto("sealing"))?;
        Ok([nonce.as_slice(), bytes.as_slice()].concat())
    }

    /// Opens what was sealed to `item`; anything in clear that was changed since makes it fail.
    pub(crate) fn open(&self, item: &StoredItem, sealed: &[u8]) -> Result<SecretBytes, CabinetError> {
        let broken = || CabinetError::Tampered(format!("the seal of {} is broken", item.name));
        let (nonce, bytes) = sealed.split_at_checked(NONCE).ok_or_else(broken)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| broken())?;
        let mut bytes = Zeroizing::new(bytes.to_vec());
        let opened = self.sealing_key()?;
        let secret = opened.open_in_place(nonce, binding(item), &mut bytes).map_err(|_| broken())?;
        Ok(Secret::new(secret.to_vec()))
    }

    /// Authenticates the newest history row.
    pub(crate) fn authenticate(&self, seq: u64, hash: &[u8]) -> Vec<u8> {
        let bytes = self.derive("ninekeys.history/1");
        let key = hmac::Key::new(hmac::HMAC_SHA256, bytes.as_ref());
        let mut context = hmac::Context::with_key(&key);
        context.update(&seq.to_le_bytes());
        context.update(hash);
        context.sign().as_ref().to_vec()
    }
}

/// What a sealed part is bound to: every column of the item, each behind its length.
fn binding(item: &StoredItem) -> Aad<[u8; 32]> {
    let (generation, revision) = (item.generation.to_string(), item.revision.to_string());
    let seq = item.seq.to_string();
    let replaces = item.replaces.as_deref().unwrap_or("");
    let fields = [
        "ninekeys.item/1",
        &item.id,
        &item.name,
        &item.state,
        &generation,
        replaces,
        &revision,
        &item.created,
        &seq,
        &item.facts,
    ];
    let mut all = Vec::new();
    for field in fields {
        all.extend_from_slice(&(field.len() as u64).to_le_bytes());
        all.extend_from_slice(field.as_bytes());
    }
    Aad::from(sha256(&all))
}
