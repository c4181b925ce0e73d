//! The key of a compartment, and what it seals.
//!
//! A sealed part is the number of the key (4 bytes, little-endian), 12 bytes nonce, and AES-256-GCM-SIV over the secret
//! bytes. Its associated data is a digest of the cabinet's identity, the compartment and the record's stored facts,
//! byte for byte as they stand: changed facts break the seal, and nothing is ever written anew to be compared.

use aws_lc_rs::aead::{AES_256_GCM_SIV, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::hmac;
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::env::Env;
use ninekeys_formats::secret::{Secret, SecretBytes};
use zeroize::Zeroizing;

use crate::CabinetError;
use crate::digest::{Digest, Framed};

const EPOCH: usize = 4;
const TAG: usize = 16;

/// The key of one compartment: 32 random bytes, and how many there were before it.
pub(crate) struct CompartmentKey {
    bytes: Zeroizing<[u8; 32]>,
    pub(crate) epoch: u32,
}

/// What a seal is bound to.
pub(crate) struct Binding<'a> {
    pub(crate) identity: &'a Digest,
    pub(crate) compartment: &'a str,
    pub(crate) id: &'a str,
    /// As they are stored.
    pub(crate) facts: &'a str,
}

impl Binding<'_> {
    fn digest(&self, epoch: u32) -> Aad<[u8; 32]> {
        let all = Framed::new("ninekeys.seal/2").field(self.identity.as_bytes());
        let all = all.field(self.compartment.as_bytes()).number(u64::from(epoch));
        Aad::from(*all.field(self.id.as_bytes()).field(self.facts.as_bytes()).finish().as_bytes())
    }
}

impl CompartmentKey {
    /// A new one.
    pub(crate) fn make(epoch: u32, env: &Env<'_>) -> Result<Self, CabinetError> {
        let mut bytes = Zeroizing::new([0; 32]);
        env.keys.fill(bytes.as_mut()).map_err(|_| CabinetError::Crypto("no randomness"))?;
        Ok(CompartmentKey { bytes, epoch })
    }

    pub(crate) fn to_text(&self) -> String {
        hex(self.bytes.as_ref())
    }

    pub(crate) fn from_text(text: &str, epoch: u32) -> Option<Self> {
        let bytes = Zeroizing::new(from_hex(text)?);
        Some(CompartmentKey { bytes: Zeroizing::new(bytes.as_slice().try_into().ok()?), epoch })
    }

    /// What a policy says of the key, so that it can be recognised: HMAC-SHA-256 under it.
    pub(crate) fn check(&self, origin: &Digest, compartment: &str) -> Digest {
        let what = Framed::new("ninekeys.compartment/2").field(origin.as_bytes());
        let what = what.field(compartment.as_bytes()).number(u64::from(self.epoch)).finish();
        let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, self.bytes.as_ref()), what.as_bytes());
        Digest::from_bytes(tag.as_ref()).unwrap_or(what)
    }

    fn cipher(&self) -> Result<LessSafeKey, CabinetError> {
        UnboundKey::new(&AES_256_GCM_SIV, self.bytes.as_ref())
            .map(LessSafeKey::new)
            .map_err(|_| CabinetError::Crypto("no sealing key"))
    }

    /// Seals `secret`.
    pub(crate) fn seal(
        &self,
        to: &Binding<'_>,
        secret: &SecretBytes,
        env: &Env<'_>,
    ) -> Result<Vec<u8>, CabinetError> {
        let mut nonce = [0; NONCE_LEN];
        env.keys.fill(&mut nonce).map_err(|_| CabinetError::Crypto("no randomness"))?;
        // room for the tag from the start: a buffer that moved would leave the secret behind
        let mut bytes = Secret::new(Vec::with_capacity(secret.lend(Vec::len) + TAG));
        let sealed = bytes.change(|bytes| {
            secret.lend(|secret| bytes.extend_from_slice(secret));
            let nonce = Nonce::assume_unique_for_key(nonce);
            self.cipher()?
                .seal_in_place_append_tag(nonce, to.digest(self.epoch), bytes)
                .map_err(|_| CabinetError::Crypto("sealing"))
        });
        sealed?;
        Ok(bytes.lend(|bytes| [&self.epoch.to_le_bytes()[..], &nonce, bytes].concat()))
    }

    /// Opens what was sealed; anything in clear that was changed since makes it fail.
    pub(crate) fn open(&self, from: &Binding<'_>, sealed: &[u8]) -> Result<SecretBytes, CabinetError> {
        let broken = || CabinetError::Tampered(format!("the seal of {} is broken", from.id));
        let (epoch, rest) = sealed.split_at_checked(EPOCH).ok_or_else(broken)?;
        let (nonce, bytes) = rest.split_at_checked(NONCE_LEN).ok_or_else(broken)?;
        if epoch != self.epoch.to_le_bytes() {
            return Err(broken());
        }
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| broken())?;
        let mut secret = Secret::new(bytes.to_vec());
        secret.change(|secret| {
            let cipher = self.cipher()?;
            cipher.open_in_place(nonce, from.digest(self.epoch), secret).map_err(|_| broken())?;
            secret.truncate(bytes.len().saturating_sub(TAG));
            Ok::<_, CabinetError>(())
        })?;
        Ok(secret)
    }
}
