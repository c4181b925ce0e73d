//! Members: who can unlock a cabinet. Each holds the cabinet key, wrapped in the age v1 format, either to a
//! passphrase (scrypt) or to an X25519 recipient.

use std::str::FromStr;

use age::secrecy::{ExposeSecret, SecretString};
use age::{Decryptor, Identity, scrypt, x25519};
use jiff::Timestamp;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};

use crate::seal::CabinetKey;
use crate::{CabinetError, MemberRow};

/// The work factor of a passphrase: 2^16 rounds of scrypt take 64 MiB and a fifth of a second.
pub const WORK_FACTOR: u8 = 16;

/// How a member unlocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MemberKind {
    /// By a passphrase.
    Passphrase,
    /// By an X25519 identity.
    Recipient,
}

impl MemberKind {
    fn word(self) -> &'static str {
        match self {
            MemberKind::Passphrase => "passphrase",
            MemberKind::Recipient => "recipient",
        }
    }

    pub(crate) fn from_word(word: &str) -> Self {
        if word == "recipient" { MemberKind::Recipient } else { MemberKind::Passphrase }
    }
}

/// A member, without what is wrapped.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Member {
    /// Its name among the members.
    pub label: String,
    /// How it unlocks.
    pub kind: MemberKind,
    /// The recipient's public text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recipient: Option<String>,
    /// Since when.
    pub added: String,
}

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
    /// Something that holds an identity file.
    Recipient {
        /// Name among the members.
        label: String,
        /// The public text of the identity.
        recipient: String,
    },
}

/// What a cabinet is unlocked with.
#[derive(Debug)]
pub enum Credential {
    /// A passphrase.
    Passphrase(SecretText),
    /// The text of an identity file.
    Identity(SecretText),
}

impl Credential {
    /// What it is called.
    pub fn word(&self) -> &'static str {
        match self {
            Credential::Passphrase(_) => "passphrase",
            Credential::Identity(_) => "identity file",
        }
    }
}

/// A new X25519 identity: the text for its file, and its public half.
pub struct IdentityFile {
    /// What goes into the file.
    pub text: SecretText,
    /// What a cabinet is told.
    pub recipient: String,
}

impl IdentityFile {
    /// Makes one. Its randomness is the operating system's.
    pub fn make(now: Timestamp) -> Self {
        let identity = x25519::Identity::generate();
        let recipient = identity.to_public().to_string();
        let secret = identity.to_string();
        let text = format!(
            "# unlocks a Nine Keys cabinet; whoever has this file needs no passphrase\n# made: {}\n\
             # public: {recipient}\n{}\n",
            now.strftime("%Y-%m-%dT%H:%M:%SZ"),
            secret.expose_secret(),
        );
        IdentityFile { text: Secret::new(text), recipient }
    }
}

impl NewMember {
    /// Wraps the cabinet key for this member.
    pub(crate) fn wrap(&self, key: &CabinetKey, now: Timestamp) -> Result<MemberRow, CabinetError> {
        let refused = |_| CabinetError::Crypto("wrapping the cabinet key");
        let (label, kind, recipient, wrapped) = match self {
            NewMember::Passphrase { label, passphrase, work_factor } => {
                let text = passphrase.lend(|text| SecretString::from(text.clone()));
                let mut recipient = scrypt::Recipient::new(text);
                recipient.set_work_factor(*work_factor);
                let wrapped = key.lend(|bytes| age::encrypt(&recipient, bytes)).map_err(refused)?;
                (label, MemberKind::Passphrase, None, wrapped)
            }
            NewMember::Recipient { label, recipient } => {
                let parsed =
                    x25519::Recipient::from_str(recipient).map_err(|_| CabinetError::NotAnIdentity)?;
                let wrapped = key.lend(|bytes| age::encrypt(&parsed, bytes)).map_err(refused)?;
                (label, MemberKind::Recipient, Some(recipient.clone()), wrapped)
            }
        };
        Ok(MemberRow {
            label: label.clone(),
            kind: kind.word().into(),
            recipient,
            wrapped,
            added: now.to_string(),
        })
    }
}

/// The cabinet key and the label of the member whose credential this is.
pub(crate) fn unwrap(
    members: &[MemberRow],
    credential: &Credential,
) -> Result<(CabinetKey, String), CabinetError> {
    let wanted = match credential {
        Credential::Passphrase(_) => MemberKind::Passphrase,
        Credential::Identity(_) => MemberKind::Recipient,
    };
    let identity: Box<dyn Identity> = match credential {
        Credential::Passphrase(text) => {
            let mut identity = scrypt::Identity::new(text.lend(|t| SecretString::from(t.clone())));
            // a cabinet from elsewhere must not take more memory than ours do
            identity.set_max_work_factor(WORK_FACTOR);
            Box::new(identity)
        }
        Credential::Identity(text) => Box::new(parse_identity(text)?),
    };
    for member in members.iter().filter(|member| MemberKind::from_word(&member.kind) == wanted) {
        if let Some(bytes) = decrypt(identity.as_ref(), &member.wrapped)
            && let Some(key) = bytes.lend(|bytes| CabinetKey::from_bytes(bytes))
        {
            return Ok((key, member.label.clone()));
        }
    }
    Err(CabinetError::WrongCredential(credential.word()))
}

fn decrypt(identity: &dyn Identity, wrapped: &[u8]) -> Option<SecretBytes> {
    let decryptor = Decryptor::new(wrapped).ok()?;
    let reader = decryptor.decrypt(std::iter::once(identity)).ok()?;
    let mut out = Vec::with_capacity(64);
    // the wrapped key is 32 bytes; whatever is longer is not one
    std::io::Read::read_to_end(&mut std::io::Read::take(reader, 33), &mut out).ok()?;
    Some(Secret::new(out))
}

fn parse_identity(text: &SecretText) -> Result<x25519::Identity, CabinetError> {
    text.lend(|text| {
        let line = text.lines().map(str::trim).find(|line| !line.is_empty() && !line.starts_with('#'));
        line.and_then(|line| x25519::Identity::from_str(line).ok()).ok_or(CabinetError::NotAnIdentity)
    })
}
