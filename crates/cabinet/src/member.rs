//! Members' own keys: made, written into an unlock file, or kept in the cabinet under a passphrase; and the envelope
//! with the compartment keys that a member was given.
//!
//! A passphrase opens an unlock file that lies in the cabinet: both hold the same text, two PKCS#8 keys (one signs, one
//! agrees) and the pin of the cabinet that they are for, so that no other cabinet can pass for it.

use std::collections::BTreeMap;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use jiff::Timestamp;
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::env::Env;
use ninekeys_core::envelope;
use ninekeys_core::keys::{Algorithm, PrivateKey, PublicKey, Signer};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::CabinetError;
use crate::compartment::CompartmentKey;
use crate::digest::{Digest, Framed};
use crate::policy::{Member, MemberKind, Policy, Role};
use crate::row::Head;
use crate::trust::Pin;

/// The work factor of a passphrase: 2^16 rounds of scrypt take 64 MiB and a fifth of a second.
pub const WORK_FACTOR: u8 = 16;
/// The most that is tried: 256 MiB.
const MOST_WORK: u8 = 18;
const SCRYPT_R: u32 = 8;
const SCRYPT_P: u32 = 1;
const SALT: usize = 32;
const TAG: usize = 16;
/// More than an unlock file has.
const MOST_TEXT: usize = 16 << 10;

/// A member to be.
#[derive(Debug)]
pub enum NewMember {
    /// Somebody who knows a passphrase.
    Passphrase {
        /// Name among the members.
        label: String,
        /// What they know.
        passphrase: SecretText,
        /// Base-2 logarithm of the scrypt rounds; [`WORK_FACTOR`] but in tests.
        work_factor: u8,
    },
    /// Something that holds an unlock file.
    UnlockFile {
        /// Name among the members.
        label: String,
    },
}

impl NewMember {
    pub(crate) fn label(&self) -> &str {
        match self {
            NewMember::Passphrase { label, .. } | NewMember::UnlockFile { label } => label,
        }
    }

    pub(crate) fn kind(&self) -> MemberKind {
        match self {
            NewMember::Passphrase { .. } => MemberKind::Passphrase,
            NewMember::UnlockFile { .. } => MemberKind::UnlockFile,
        }
    }
}

/// What the text of an unlock file begins with.
pub const UNLOCK_FILE: &str = "This file unlocks a Nine Keys cabinet.";

/// What a cabinet is unlocked with.
#[derive(Debug)]
pub enum Credential {
    /// A passphrase.
    Passphrase(SecretText),
    /// The text of an unlock file.
    UnlockFile(SecretText),
}

impl Credential {
    /// What it is called.
    pub fn word(&self) -> &'static str {
        match self {
            Credential::Passphrase(_) => "passphrase",
            Credential::UnlockFile(_) => "unlock file",
        }
    }

    /// A second holder of the same.
    #[must_use]
    pub fn duplicate(&self) -> Self {
        match self {
            Credential::Passphrase(text) => Credential::Passphrase(text.duplicate()),
            Credential::UnlockFile(text) => Credential::UnlockFile(text.duplicate()),
        }
    }
}

/// A member's two private keys: one signs, one agrees, never one for both.
pub(crate) struct MemberKeys {
    pub(crate) signing: PrivateKey,
    signing_der: SecretBytes,
    agreement: PublicKey,
    agreement_der: SecretBytes,
}

impl MemberKeys {
    pub(crate) fn make(env: &Env<'_>) -> Result<Self, CabinetError> {
        let failed = |_| CabinetError::Crypto("no new key");
        let signing = env.keys.make(Algorithm::P256).map_err(failed)?;
        let agreement = env.keys.make(Algorithm::P256).map_err(failed)?;
        Self::from_der(signing, agreement).ok_or(CabinetError::Crypto("a new key cannot be read"))
    }

    fn from_der(signing_der: SecretBytes, agreement_der: SecretBytes) -> Option<Self> {
        let read = |der: &SecretBytes| der.lend(|der| PrivateKey::from_pkcs8(der)).ok();
        let (signing, agreement) = (read(&signing_der)?, read(&agreement_der)?.public().clone());
        Some(MemberKeys { signing, signing_der, agreement, agreement_der })
    }

    pub(crate) fn id(&self) -> Digest {
        Digest::plain(self.signing.public().as_der())
    }

    /// This member in a policy.
    pub(crate) fn member(&self, new: &NewMember, role: Role, now: Timestamp) -> Member {
        Member {
            id: self.id(),
            label: new.label().into(),
            kind: new.kind(),
            role,
            signing: hex(self.signing.public().as_der()),
            agreement: hex(self.agreement.as_der()),
            added: now,
        }
    }

    /// The text of an unlock file.
    pub(crate) fn text(&self, pin: &Pin, now: Timestamp) -> Result<SecretText, CabinetError> {
        let block = |der: &SecretBytes| {
            let text = der.lend(|der| pem::encode(pem::PRIVATE_KEY, der));
            text.map(Zeroizing::new).map_err(|_| CabinetError::Crypto("no key file"))
        };
        let (signing, agreement) = (block(&self.signing_der)?, block(&self.agreement_der)?);
        let mut text = String::with_capacity(1024 + signing.len() + agreement.len());
        text.push_str(UNLOCK_FILE);
        text.push_str(" It needs no passphrase: keep it secret.\n\n");
        for (word, value) in [
            ("cabinet ", pin.identity.to_string()),
            ("row     ", pin.head.seq.to_string()),
            ("hash    ", pin.head.hash.to_string()),
            ("made    ", now.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()),
        ] {
            text.push_str(&format!("{word} {value}\n"));
        }
        text.push_str("\nThe key that signs, then the key that opens:\n");
        text.push_str(&signing);
        text.push_str(&agreement);
        Ok(Secret::new(text))
    }

    /// Keys and pin out of the text of an unlock file.
    pub(crate) fn from_text(text: &SecretText) -> Result<(Self, Pin), CabinetError> {
        text.lend(|text| {
            if text.len() > MOST_TEXT {
                return None;
            }
            let value = |word: &str| {
                let mut lines = text.lines().filter_map(|line| line.split_once(' '));
                lines.find(|(first, _)| *first == word).map(|(_, rest)| rest.trim())
            };
            let head = Head { seq: value("row")?.parse().ok()?, hash: Digest::from_text(value("hash")?)? };
            let pin = Pin { identity: Digest::from_text(value("cabinet")?)?, head };
            let mut blocks =
                pem::blocks(text.as_bytes(), pem::PRIVATE_KEY, &Limits::USUAL).into_iter().map(Secret::new);
            let (Some(signing), Some(agreement), None) = (blocks.next(), blocks.next(), blocks.next()) else {
                return None;
            };
            Some((Self::from_der(signing, agreement)?, pin))
        })
        .ok_or(CabinetError::NotAnUnlockFile)
    }
}

/// What stands in clear beside keys under a passphrase.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PassphraseFacts {
    pub(crate) member: Digest,
    /// For scrypt (RFC 7914), hexadecimal; r is 8 and p is 1.
    salt: String,
    /// Base-2 logarithm of N.
    log_n: u8,
}

impl PassphraseFacts {
    pub(crate) fn make(member: Digest, log_n: u8, env: &Env<'_>) -> Result<Self, CabinetError> {
        let mut salt = [0; SALT];
        env.keys.fill(&mut salt).map_err(|_| CabinetError::Crypto("no randomness"))?;
        Ok(PassphraseFacts { member, salt: hex(&salt), log_n })
    }

    fn key(&self, passphrase: &SecretText) -> Option<LessSafeKey> {
        let params = scrypt::Params::new(self.log_n, SCRYPT_R, SCRYPT_P).ok()?;
        let salt = from_hex(&self.salt).filter(|salt| salt.len() == SALT)?;
        if self.log_n > MOST_WORK {
            return None;
        }
        let mut key = Zeroizing::new([0; 32]);
        passphrase.lend(|text| scrypt::scrypt(text.as_bytes(), &salt, &params, key.as_mut())).ok()?;
        UnboundKey::new(&AES_256_GCM, key.as_ref()).ok().map(LessSafeKey::new)
    }
}

/// Keys under a passphrase are bound to what stands beside them.
fn passphrase_binding(facts: &str) -> Aad<[u8; 32]> {
    Aad::from(*Framed::new("ninekeys.passphrase/2").field(facts.as_bytes()).finish().as_bytes())
}

/// Encrypts an unlock file's text under a passphrase: 12 bytes nonce, AES-256-GCM, 16 bytes tag.
pub(crate) fn close_with_passphrase(
    facts: &PassphraseFacts,
    stored: &str,
    passphrase: &SecretText,
    text: &SecretText,
    env: &Env<'_>,
) -> Result<Vec<u8>, CabinetError> {
    let failed = || CabinetError::Crypto("encrypting under the passphrase");
    let key = facts.key(passphrase).ok_or_else(failed)?;
    let mut nonce = [0; NONCE_LEN];
    env.keys.fill(&mut nonce).map_err(|_| failed())?;
    let mut bytes = text.lend(|text| Secret::new(text.clone().into_bytes()));
    let tag = bytes.change(|bytes| {
        let nonce = Nonce::assume_unique_for_key(nonce);
        key.seal_in_place_separate_tag(nonce, passphrase_binding(stored), bytes)
    });
    let tag = tag.map_err(|_| failed())?;
    Ok(bytes.lend(|bytes| [nonce.as_slice(), bytes, tag.as_ref()].concat()))
}

/// The unlock file's text; nothing when the passphrase is another.
pub(crate) fn open_with_passphrase(
    stored: &str,
    sealed: &[u8],
    passphrase: &SecretText,
) -> Option<SecretText> {
    let facts: PassphraseFacts = serde_json::from_str(stored).ok()?;
    let (nonce, rest) = sealed.split_at_checked(NONCE_LEN)?;
    let key = facts.key(passphrase)?;
    let nonce = Nonce::try_assume_unique_for_key(nonce).ok()?;
    let mut bytes = Secret::new(rest.to_vec());
    bytes.change(|bytes| {
        key.open_in_place(nonce, passphrase_binding(stored), bytes).ok()?;
        bytes.truncate(rest.len().checked_sub(TAG)?);
        Some(Secret::new(std::str::from_utf8(bytes).ok()?.to_owned()))
    })
}

/// What stands in clear beside an envelope.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct EnvelopeFacts {
    pub(crate) member: Digest,
    /// The compartments whose keys are in it, with the number of the key.
    pub(crate) compartments: BTreeMap<String, u32>,
}

/// What stands in an envelope.
#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Inside<'a> {
    identity: Digest,
    member: Digest,
    #[serde(borrow)]
    keys: Vec<GivenKey<'a>>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct GivenKey<'a> {
    compartment: &'a str,
    epoch: u32,
    key: &'a str,
}

/// The compartment keys that somebody holds, by name.
pub(crate) type Keyring = BTreeMap<String, CompartmentKey>;

/// Encrypts to a member the keys of the compartments that it may open: what stands in clear, and the envelope.
pub(crate) fn close_envelope(
    identity: &Digest,
    member: &Member,
    keys: &Keyring,
    env: &Env<'_>,
) -> Result<(EnvelopeFacts, Vec<u8>), CabinetError> {
    let failed = || CabinetError::Crypto("no envelope");
    let own: Vec<(&String, &CompartmentKey)> = keys.iter().filter(|(name, _)| member.opens(name)).collect();
    let texts: Vec<Zeroizing<String>> = own.iter().map(|(_, key)| Zeroizing::new(key.to_text())).collect();
    let inside = Inside {
        identity: *identity,
        member: member.id,
        keys: own
            .iter()
            .zip(&texts)
            .map(|((name, key), text)| GivenKey { compartment: name, epoch: key.epoch, key: text })
            .collect(),
    };
    // room for all of it from the start: a buffer that moved would leave keys behind
    let room = 256 + own.iter().map(|(name, _)| 160 + 6 * name.len()).sum::<usize>();
    let mut text = Secret::new(Vec::with_capacity(room));
    text.change(|text| serde_json::to_writer(text, &inside)).map_err(|_| failed())?;
    let to = member.agreement_key().ok_or_else(failed)?;
    let envelope = envelope::close(&to, &text, env).map_err(|_| failed())?;
    let compartments = own.iter().map(|(name, key)| ((*name).clone(), key.epoch)).collect();
    Ok((EnvelopeFacts { member: member.id, compartments }, envelope))
}

/// Opens a member's envelope, and takes the keys that the policy knows.
pub(crate) fn open_envelope(
    identity: &Digest,
    policy: &Policy,
    own: &MemberKeys,
    envelope: &[u8],
) -> Result<Keyring, CabinetError> {
    let wrong = |what: &str| CabinetError::Tampered(format!("the envelope of a member {what}"));
    let opened = envelope::open(&own.agreement, &own.agreement_der, envelope, &Limits::USUAL)
        .map_err(|_| wrong("cannot be opened with its key"))?;
    opened.lend(|bytes| {
        let inside: Inside<'_> = serde_json::from_slice(bytes).map_err(|_| wrong("cannot be read"))?;
        if (inside.identity, inside.member) != (*identity, own.id()) {
            return Err(wrong("is for another cabinet or member"));
        }
        let mut ring = Keyring::new();
        for given in inside.keys {
            let known = policy.compartment(given.compartment).filter(|known| known.epoch == given.epoch);
            let key = CompartmentKey::from_text(given.key, given.epoch);
            let (Some(known), Some(key)) = (known, key) else { return Err(wrong("holds an old key")) };
            if key.check(&policy.origin, given.compartment) != known.check {
                return Err(wrong("holds another key"));
            }
            ring.insert(given.compartment.into(), key);
        }
        Ok(ring)
    })
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicBool;

    use ninekeys_core::env::Silent;
    use ninekeys_core::keys::SystemKeys;
    use proptest::prelude::*;

    use super::*;

    static STOP: AtomicBool = AtomicBool::new(false);

    fn env() -> Env<'static> {
        Env {
            now: Timestamp::UNIX_EPOCH,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &ninekeys_core::stream::InMemory,
            stop: &STOP,
        }
    }

    fn secret(text: &str) -> SecretText {
        Secret::new(text.into())
    }

    fn pin() -> Pin {
        Pin { identity: Digest::plain(b"first"), head: Head { seq: 41, hash: Digest::plain(b"newest") } }
    }

    fn is_none(text: &str) -> bool {
        matches!(MemberKeys::from_text(&secret(text)), Err(CabinetError::NotAnUnlockFile))
    }

    #[test]
    fn an_unlock_file_gives_back_its_keys_and_its_pin() {
        let keys = MemberKeys::make(&env()).unwrap();
        let text = keys.text(&pin(), env().now).unwrap();
        let (same, pinned) = MemberKeys::from_text(&text).unwrap();
        assert_eq!((same.id(), pinned), (keys.id(), pin()));
        assert_eq!(same.agreement.as_der(), keys.agreement.as_der());
        // line ends of another system, and what somebody wrote in front of it, do no harm
        let other = text.lend(|text| format!("for the build machine\r\n{}", text.replace('\n', "\r\n")));
        assert_eq!(MemberKeys::from_text(&secret(&other)).unwrap().0.id(), keys.id());
    }

    #[test]
    fn what_lacks_a_line_or_a_key_or_has_one_too_many_is_no_unlock_file() {
        let text = MemberKeys::make(&env()).unwrap().text(&pin(), env().now).unwrap();
        let text = text.lend(Clone::clone);
        for word in ["cabinet ", "row ", "hash "] {
            let without: String =
                text.lines().filter(|line| !line.starts_with(word)).map(|l| format!("{l}\n")).collect();
            assert!(is_none(&without), "without {word}");
        }
        let block = &text[text.find("-----BEGIN").unwrap()..];
        let first = &block[..block.len() / 2];
        assert!(is_none(&format!("{text}{block}")), "four keys");
        assert!(is_none(text.strip_suffix(block).unwrap()), "no key");
        assert!(is_none(&format!("{}{first}", text.strip_suffix(block).unwrap())), "one key");
        assert!(is_none(&text.replace("row      41", "row      -1")));
        assert!(is_none(&format!("{}{text}", " ".repeat(MOST_TEXT))), "too long");
        for cut in (0..text.len()).step_by(37) {
            assert!(is_none(&text[..cut]), "cut at {cut}");
        }
    }

    #[test]
    fn a_passphrase_opens_what_it_closed_beside_the_same_facts() {
        let facts = PassphraseFacts::make(Digest::plain(b"member"), 4, &env()).unwrap();
        let stored = serde_json::to_string(&facts).unwrap();
        let closed =
            close_with_passphrase(&facts, &stored, &secret("open sesame"), &secret("the file"), &env())
                .unwrap();
        let open = |stored: &str, closed: &[u8], words: &str| {
            open_with_passphrase(stored, closed, &secret(words)).map(|text| text.lend(Clone::clone))
        };
        assert_eq!(open(&stored, &closed, "open sesame").as_deref(), Some("the file"));
        assert_eq!(open(&stored, &closed, "open sesam"), None);
        // the same facts, written otherwise
        assert_eq!(open(&format!("{stored} "), &closed, "open sesame"), None);
        for at in 0..closed.len() {
            let mut changed = closed.clone();
            changed[at] ^= 0x10;
            assert_eq!(open(&stored, &changed, "open sesame"), None, "byte {at}");
        }
        // a work factor that would take all memory is not tried
        let costly = stored.replace("\"log_n\":4", "\"log_n\":40");
        assert_ne!(costly, stored);
        assert_eq!(open(&costly, &closed, "open sesame"), None);
    }

    proptest! {
        #[test]
        fn any_text_is_an_unlock_file_or_none(text in ".{0,400}") {
            prop_assert!(is_none(&text));
        }
    }
}
