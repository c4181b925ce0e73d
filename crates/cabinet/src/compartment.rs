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

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicBool;

    use ninekeys_core::env::Silent;
    use ninekeys_core::keys::SystemKeys;

    use super::*;

    static STOP: AtomicBool = AtomicBool::new(false);

    fn env() -> Env<'static> {
        Env {
            now: jiff::Timestamp::UNIX_EPOCH,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &ninekeys_core::stream::InMemory,
            stop: &STOP,
        }
    }

    fn secret() -> SecretBytes {
        Secret::new(b"what nobody reads".to_vec())
    }

    #[test]
    fn a_seal_opens_for_what_it_was_made_and_for_nothing_else() {
        let key = CompartmentKey::make(3, &env()).unwrap();
        let (own, other) = (Digest::plain(b"one"), Digest::plain(b"another"));
        let to = Binding { identity: &own, compartment: "app/crossing", id: "k1", facts: "{\"name\":\"k\"}" };
        let sealed = key.seal(&to, &secret(), &env()).unwrap();
        assert_eq!(key.open(&to, &sealed).unwrap().lend(Clone::clone), b"what nobody reads");
        for wrong in [
            Binding { identity: &other, ..to },
            Binding { compartment: "app/quayside", ..to },
            Binding { id: "k2", ..to },
            Binding { facts: "{\"name\":\"l\"}", ..to },
            // what is moved from one field to the next is not the same either
            Binding { compartment: "app/crossingk", id: "1", ..to },
        ] {
            assert!(matches!(key.open(&wrong, &sealed), Err(CabinetError::Tampered(_))));
        }
    }

    #[test]
    fn every_bit_of_a_seal_counts_and_every_cut_is_refused() {
        let key = CompartmentKey::make(1, &env()).unwrap();
        let identity = Digest::plain(b"one");
        let to = Binding { identity: &identity, compartment: "shared", id: "k", facts: "{}" };
        let sealed = key.seal(&to, &secret(), &env()).unwrap();
        for at in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            assert!(key.open(&to, &changed).is_err(), "byte {at}");
            assert!(key.open(&to, &sealed[..at]).is_err(), "cut at {at}");
        }
        assert!(key.open(&to, &[sealed.as_slice(), &[0]].concat()).is_err());
        // two seals of one secret have nothing in common but their length and epoch
        let again = key.seal(&to, &secret(), &env()).unwrap();
        assert_eq!((again.len(), &again[..4]), (sealed.len(), &sealed[..4]));
        assert_ne!(again[4..], sealed[4..]);
    }

    #[test]
    fn a_key_is_recognised_by_its_check_and_comes_back_out_of_its_text() {
        let key = CompartmentKey::make(7, &env()).unwrap();
        let origin = Digest::plain(b"origin");
        let same = CompartmentKey::from_text(&key.to_text(), 7).unwrap();
        assert_eq!(same.check(&origin, "shared"), key.check(&origin, "shared"));
        assert_ne!(key.check(&origin, "shared"), key.check(&origin, "manage"));
        assert_ne!(key.check(&origin, "shared"), key.check(&Digest::plain(b"other"), "shared"));
        let later = CompartmentKey::from_text(&key.to_text(), 8).unwrap();
        assert_ne!(later.check(&origin, "shared"), key.check(&origin, "shared"));
        for wrong in ["", "00", &key.to_text()[1..], &format!("{}00", key.to_text()), "zz"] {
            assert!(CompartmentKey::from_text(wrong, 7).is_none(), "{wrong}");
        }
    }
}
