//! A rotation: material that is replaced, step by step, as a draft said beforehand. The cabinet keeps how far it is.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Destination, IdentityPurpose, ItemId, Role};

/// What one step of a rotation does. Items are named as the draft names them; what is made on the way has the name that the
/// draft gave it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "does", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum Does {
    /// A key is made and sealed, with the request for a certificate.
    MakeIdentity {
        /// What the new identity is called.
        identity: String,
        /// The identity that it is to take the place of.
        instead_of: String,
        /// What it is for.
        purpose: IdentityPurpose,
        /// The apps that it is for by name.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        apps: Vec<String>,
    },
    /// Its certificate is had from the portal.
    GetCertificate {
        /// The new identity.
        identity: String,
        /// The app in whose name the portal is asked.
        app: String,
        /// An identity that nothing uses: it is revoked first if the portal's limit is reached, and only then.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        makes_room: Option<String>,
    },
    /// A profile is made again by the portal, with the new identity and the devices that there are.
    GetProfile {
        /// What the new profile is called in the cabinet.
        profile: String,
        /// The profile that it is to take the place of.
        instead_of: String,
        /// The app.
        app: String,
        /// The bundle id: the app's own, or that of an extension.
        bundle_id: String,
        /// Where builds with it go.
        destination: Destination,
        /// The identity that it names.
        identity: String,
    },
    /// A key is made in a keystore of its own.
    MakeKey {
        /// What the new keystore is called.
        keystore: String,
        /// The keystore with the key that it is to take the place of.
        instead_of: String,
        /// That key's alias.
        alias: String,
        /// What it is.
        role: Role,
    },
    /// A signing key hands over to its successor: the proof that devices go by is signed with the old one.
    HandOver {
        /// The new keystore.
        keystore: String,
        /// The keystore whose key hands over.
        instead_of: String,
        /// That key's alias.
        alias: String,
        /// The platform level from which on the new key counts.
        from_sdk: u32,
        /// What the old key may still do on devices.
        old_key_may: Vec<OldKeyMay>,
    },
    /// A certificate's fingerprint is registered wherever that of the old one was.
    RegisterFingerprint {
        /// The app.
        app: String,
        /// The new keystore.
        keystore: String,
    },
    /// The certificate of a new upload key is filed with the store, which may take days.
    FileCertificate {
        /// The new keystore.
        keystore: String,
        /// The file that the certificate is written to.
        file: String,
    },
    /// An API key is made beside the old one, for the same.
    MakeApiKey {
        /// What the new one is called.
        api_key: String,
        /// The API key that it is to take the place of.
        instead_of: String,
    },
    /// A call is made with the new API key; of one that no portal here knows a probe is signed.
    ProveApiKey {
        /// The new API key.
        api_key: String,
    },
    /// The old API key is withdrawn where it was issued.
    WithdrawApiKey {
        /// The old API key.
        api_key: String,
    },
    /// Everything in the cabinet is sealed anew under new keys, which the same members are given.
    Reseal,
    /// The cabinet is copied: older copies open with the old keys.
    BackUp,
    /// An app is signed with the new key from now on.
    TakeOver {
        /// The new keystore.
        keystore: String,
        /// The keystore whose key it did until now.
        instead_of: String,
        /// That key's alias.
        alias: String,
    },
    /// A small build of the app is signed with the new material, checked, and thrown away.
    ProveBuild {
        /// The app.
        app: String,
        /// Where such builds go.
        destination: Destination,
        /// The identity or the keystore that signs.
        with: String,
    },
    /// A probe is signed with a key, and verified under its certificate.
    ProveKey {
        /// The identity or API key.
        item: String,
    },
    /// Whoever was given the old one is given the new one.
    Tell {
        /// Who.
        receiver: String,
        /// The app.
        app: String,
        /// Where builds with it go.
        destination: Destination,
    },
    /// What names the old one by serial number or identifier in a build's settings has to name the new one.
    ChangeSettings {
        /// The app.
        app: String,
        /// The names of what is replaced.
        names: Vec<String>,
    },
    /// A profile that is for no app of the project file: whoever uses it has it made again.
    LookAfter {
        /// The profile.
        profile: String,
        /// The identity that the new one has to name.
        identity: String,
    },
    /// The server that sends an app's notifications gets the new identity.
    ChangeServer {
        /// The app.
        app: String,
        /// The new identity.
        identity: String,
    },
    /// The old one is retired: kept, and nothing is signed with it any more.
    Retire {
        /// What is retired.
        item: String,
        /// What took its place.
        successor: String,
    },
    /// The old identity's certificate is revoked at the portal, and the identity retired.
    Revoke {
        /// What is revoked.
        item: String,
        /// What took its place.
        successor: String,
    },
}

impl Does {
    /// Whether a person has to do it.
    pub fn is_a_persons(&self) -> bool {
        matches!(
            self,
            Does::Tell { .. }
                | Does::ChangeSettings { .. }
                | Does::LookAfter { .. }
                | Does::RegisterFingerprint { .. }
                | Does::ChangeServer { .. }
                | Does::FileCertificate { .. }
        )
    }

    /// Whether it can be done by somebody's word alone: what a person has to do, and what a person may do where the portal cannot be
    /// asked.
    pub fn may_be_said(&self) -> bool {
        self.is_a_persons() || matches!(self, Does::Revoke { .. } | Does::WithdrawApiKey { .. })
    }

    /// The items that were there before the draft, by name.
    pub fn goes_by(&self) -> Vec<&str> {
        match self {
            Does::MakeIdentity { instead_of, .. }
            | Does::GetProfile { instead_of, .. }
            | Does::MakeKey { instead_of, .. }
            | Does::MakeApiKey { instead_of, .. }
            | Does::HandOver { instead_of, .. }
            | Does::TakeOver { instead_of, .. } => vec![instead_of],
            Does::GetCertificate { makes_room, .. } => makes_room.iter().map(String::as_str).collect(),
            Does::LookAfter { profile, .. } => vec![profile],
            Does::WithdrawApiKey { api_key } => vec![api_key],
            Does::Retire { item, .. } | Does::Revoke { item, .. } => vec![item],
            Does::ChangeSettings { names, .. } => names.iter().map(String::as_str).collect(),
            Does::FileCertificate { .. }
            | Does::ProveBuild { .. }
            | Does::ProveKey { .. }
            | Does::ProveApiKey { .. }
            | Does::Reseal
            | Does::BackUp
            | Does::RegisterFingerprint { .. }
            | Does::Tell { .. }
            | Does::ChangeServer { .. } => Vec::new(),
        }
    }
}

/// What a signing key may still do on devices after its successor took over (signing block, proof of rotation).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OldKeyMay {
    /// Let an app signed with it go on using the data of the installed one.
    InstalledData,
    /// Share a user id with apps that are signed with it.
    SharedUser,
    /// Be granted permissions that go by the signer.
    Permissions,
    /// Take the app back to it.
    Rollback,
    /// Authenticate accounts.
    Accounts,
}

impl OldKeyMay {
    /// All of them, with their words and their bits.
    pub const ALL: [(&'static str, OldKeyMay, u32); 5] = [
        ("installed-data", OldKeyMay::InstalledData, 1),
        ("shared-user", OldKeyMay::SharedUser, 2),
        ("permissions", OldKeyMay::Permissions, 4),
        ("rollback", OldKeyMay::Rollback, 8),
        ("accounts", OldKeyMay::Accounts, 16),
    ];

    /// All but taking the app back.
    pub fn usual() -> Vec<OldKeyMay> {
        let all = Self::ALL.into_iter().map(|(_, may, _)| may);
        all.filter(|may| *may != OldKeyMay::Rollback).collect()
    }

    /// What the flags of a proof allow.
    pub fn of_flags(flags: u32) -> Vec<OldKeyMay> {
        Self::ALL.into_iter().filter(|(_, _, bit)| flags & bit != 0).map(|(_, may, _)| may).collect()
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, may, _)| *may == self).map_or("", |(word, ..)| word)
    }

    /// The flags of a proof.
    pub fn flags(all: &[OldKeyMay]) -> u32 {
        Self::ALL.iter().filter(|(_, may, _)| all.contains(may)).fold(0, |flags, (_, _, bit)| flags | bit)
    }
}

/// A rotation that was begun, as the cabinet keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RotationFacts {
    /// What is replaced, by name.
    pub rotates: Vec<String>,
    /// When its draft was made.
    pub drafted: Timestamp,
    /// Its steps, in order.
    pub steps: Vec<RotationStep>,
    /// The items that the steps name, as far as they are there: a name can become another's.
    pub items: BTreeMap<String, ItemId>,
    /// When it was called off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub called_off: Option<Timestamp>,
}

/// A step, and how far it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RotationStep {
    /// What it does.
    #[serde(flatten)]
    pub step: Does,
    /// When it was begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begun: Option<Timestamp>,
    /// When it was done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub done: Option<Timestamp>,
}

impl RotationFacts {
    /// The first step that is not done, counted from 0.
    pub fn next(&self) -> Option<usize> {
        self.steps.iter().position(|step| step.done.is_none())
    }

    /// Whether there is something to do yet.
    pub fn is_open(&self) -> bool {
        self.called_off.is_none() && self.next().is_some()
    }
}
