//! The facts of what only the iOS side has: identities, provisioning profiles, devices.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_formats::entitlements::Entitlement;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Destination, ItemId, NineKey, moment};

/// Which servers take what is sent with a push identity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PushEnvironment {
    /// Those that development builds listen to.
    Sandbox,
    /// Those that all other builds listen to.
    Production,
    /// Either.
    Both,
}

impl PushEnvironment {
    /// Whether it reaches builds that are released.
    pub fn is_for_production(self) -> bool {
        self != PushEnvironment::Sandbox
    }

    /// As a sentence says it.
    pub fn word(self) -> &'static str {
        match self {
            PushEnvironment::Sandbox => "sandbox",
            PushEnvironment::Production => "production",
            PushEnvironment::Both => "sandbox and production",
        }
    }
}

/// What an identity is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IdentityPurpose {
    /// Runs builds on registered devices.
    Development,
    /// Signs for registered devices and for the store.
    Distribution,
    /// Sends notifications.
    Push(PushEnvironment),
}

impl IdentityPurpose {
    /// Its place among the nine.
    pub fn nine_key(self) -> NineKey {
        match self {
            IdentityPurpose::Development => NineKey::Development,
            IdentityPurpose::Distribution => NineKey::Distribution,
            IdentityPurpose::Push(_) => NineKey::Push,
        }
    }
}

/// A private key with one certificate; either may be missing for a while, or for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct IdentityFacts {
    /// What it is for.
    pub purpose: IdentityPurpose,
    /// The private key; nothing where somebody else has it, or nobody.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<ItemId>,
    /// The certificate; nothing while it is only asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<ItemId>,
    /// The team that it was issued to; nothing while it is only asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Names of the apps it is for; empty for all of the team.
    pub apps: Vec<String>,
    /// The request that it was asked for with (PKCS#10), so that the same one can be written again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
    /// Who has the private key, where it is somebody else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held_by: Option<String>,
    /// When its certificate was revoked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked: Option<Timestamp>,
}

/// Where an identity stands between the first key and the certificate over it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Wholeness {
    /// Key and certificate are here: it can sign.
    Whole,
    /// Its certificate was asked for and is not here yet.
    Waiting,
    /// Somebody else holds the key, which is normal.
    HeldElsewhere,
    /// The certificate is here and the key is not.
    WithoutKey,
}

impl IdentityFacts {
    /// Where it stands.
    pub fn wholeness(&self) -> Wholeness {
        match (&self.key, &self.certificate, &self.held_by) {
            (Some(_), Some(_), _) => Wholeness::Whole,
            (None, Some(_), None) => Wholeness::WithoutKey,
            (None, Some(_), Some(_)) => Wholeness::HeldElsewhere,
            (_, None, _) => Wholeness::Waiting,
        }
    }
}

/// A provisioning profile; its sealed part is the file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProfileFacts {
    /// Its identifier in the file.
    pub uuid: String,
    /// Its name in the file.
    pub title: String,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id it is for, with the team's prefix.
    pub app_id: String,
    /// Names of the apps it is for.
    pub apps: Vec<String>,
    /// The team that it was issued to.
    pub team: String,
    /// Fingerprints of the certificates that it allows and the cabinet did not hold when it came in.
    pub foreign_certificates: Vec<String>,
    /// Those that the cabinet held.
    pub certificates: Vec<ItemId>,
    /// The devices that it allows.
    pub devices: Vec<ItemId>,
    /// Identifiers of those that the cabinet did not know when it came in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub foreign_devices: Vec<String>,
    /// The most that an app with it may claim.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub entitlements: BTreeMap<String, Entitlement>,
    /// SHA-256 of the root that its signature was verified to; nothing where it was verified to none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// When it was made.
    #[serde(deserialize_with = "moment::read")]
    pub not_before: Timestamp,
    /// Until when it is good.
    #[serde(deserialize_with = "moment::read")]
    pub not_after: Timestamp,
    /// SHA-256 over the file.
    pub fingerprint: String,
}

/// A registered device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DeviceFacts {
    /// Its hardware identifier.
    pub identifier: String,
    /// What people call it.
    pub title: String,
}
