//! The keys of an Android app at a store that signs for it: the signing key, which the store holds, and the upload key, which says who
//! brings builds.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Where the signing key that a store holds came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// It was handed over.
    HandedOver,
    /// The store made it.
    MadeByStore,
    /// It is the one that the store holds for the app of this package.
    OfApp(String),
}

/// The certificate that keys are encrypted to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReceivingKey {
    /// DER in Base64; its key is on P-256 or P-384.
    pub certificate: String,
}

/// A signing key that a store is to hold from now on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Deposit {
    /// Where it comes from.
    pub origin: Origin,
    /// The key (PKCS#8), encrypted to the store's: CMS AuthEnvelopedData (RFC 5083) in Base64, where it is handed over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// The certificate that devices know the app by, DER in Base64, where the key is handed over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
    /// The certificate of the upload key, DER in Base64.
    pub upload: String,
}

/// Another upload key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewUploadKey {
    /// Its certificate, DER in Base64.
    pub certificate: String,
}

/// The keys of an app as a store has them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Held {
    /// The package.
    pub id: String,
    /// Where the signing key came from.
    pub origin: Origin,
    /// Since when the store signs.
    pub since: Timestamp,
    /// The certificate that devices see, DER in Base64.
    pub signing: String,
    /// The certificate that builds are uploaded with, DER in Base64.
    pub upload: String,
    /// The one that takes its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_upload: Option<NextUpload>,
}

/// What devices get of a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AsDelivered {
    /// The build's id at the store.
    pub delivery: String,
    /// Its size in bytes.
    pub size: u64,
    /// SHA-256 of it.
    pub sha256: String,
    /// How long its pieces are, in bytes.
    pub piece: u64,
}

/// An upload key that waits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NextUpload {
    /// Its certificate, DER in Base64.
    pub certificate: String,
    /// From when on it counts, and the one before it no more.
    pub from: Timestamp,
}

impl Held {
    /// The keys as they are at a time: what waited takes its place when its time has come.
    pub fn at(mut self, now: Timestamp) -> Self {
        if let Some(next) = self.next_upload.take_if(|next| next.from <= now) {
            self.upload = next.certificate;
        }
        self
    }
}
