//! What is said over the wire: JSON, one shape a thing, on both sides the same types.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use ninekeys_core::model::{ApiRole, Capability, Destination, PushEnvironment};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Where every path of the portal begins.
pub const BASE: &str = "/portal/v1";
/// Where every path of enrolment begins (RFC 7030, section 3.2.2).
pub const EST: &str = "/.well-known/est";
/// The media type of a request for a certificate (RFC 7030, section 4.2.1).
pub const PKCS10: &str = "application/pkcs10";
/// The media type of certificates that are handed out (RFC 7030, section 4.1.3).
pub const PKCS7: &str = "application/pkcs7-mime; smime-type=certs-only";
/// Whom tokens for the portal are for.
pub const AUDIENCE: &str = "ninekeys-portal";
/// The media type of an error (RFC 9457).
pub const PROBLEM: &str = "application/problem+json";
/// The kind of a refusal to give out what can be fetched once, again.
pub const FETCHED: &str = "fetched";
/// The header by which a call that is made again is known: what it did is not done twice.
pub const IDEMPOTENCY: &str = "idempotency-key";

/// What a certificate is asked for as: the label of the path that it is enrolled under (RFC 7030, section 3.2.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Enrolment {
    /// For running builds on registered devices.
    Development,
    /// For signing builds that are given away.
    Distribution,
    /// For sending notifications to an app.
    Push {
        /// The servers that take them.
        environment: PushEnvironment,
        /// The app.
        bundle_id: String,
    },
}

/// The words for the servers of a push certificate in a label.
const ENVIRONMENTS: [(&str, PushEnvironment); 3] = [
    ("sandbox", PushEnvironment::Sandbox),
    ("production", PushEnvironment::Production),
    ("both", PushEnvironment::Both),
];

impl Enrolment {
    /// The word for it in lists.
    pub fn kind(&self) -> KindSaid {
        match self {
            Enrolment::Development => KindSaid::Development,
            Enrolment::Distribution => KindSaid::Distribution,
            Enrolment::Push { .. } => KindSaid::Push,
        }
    }
}

impl fmt::Display for Enrolment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Enrolment::Development => f.write_str("development"),
            Enrolment::Distribution => f.write_str("distribution"),
            Enrolment::Push { environment, bundle_id } => {
                let word = ENVIRONMENTS.iter().find(|(_, known)| known == environment);
                write!(f, "push-{}-{bundle_id}", word.map_or("both", |(word, _)| word))
            }
        }
    }
}

/// A label that nothing is enrolled under.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("nothing is enrolled under that label")]
pub struct UnknownLabel;

impl FromStr for Enrolment {
    type Err = UnknownLabel;

    fn from_str(text: &str) -> Result<Self, UnknownLabel> {
        match text {
            "development" => return Ok(Enrolment::Development),
            "distribution" => return Ok(Enrolment::Distribution),
            _ => {}
        }
        let (word, bundle_id) =
            text.strip_prefix("push-").and_then(|rest| rest.split_once('-')).ok_or(UnknownLabel)?;
        let found = ENVIRONMENTS.iter().find(|(known, _)| *known == word).ok_or(UnknownLabel)?;
        Ok(Enrolment::Push { environment: found.1, bundle_id: bundle_id.into() })
    }
}

/// The word for what a certificate is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KindSaid {
    /// Runs builds on registered devices.
    Development,
    /// Signs for registered devices and for the store.
    Distribution,
    /// Sends notifications.
    Push,
}

/// A certificate that was issued.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Certificate {
    /// Its id at the portal: its serial number, hexadecimal.
    pub id: String,
    /// What it is for.
    pub kind: KindSaid,
    /// X.509, DER.
    #[serde(with = "in_base64")]
    pub certificate: Vec<u8>,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// When it was revoked, if it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked: Option<Timestamp>,
}

/// The team.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Team {
    /// Its id.
    pub team: String,
    /// What people call it.
    pub title: String,
    /// How much there may be of what is limited, where the portal says it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limits: Option<TeamLimits>,
}

/// How much of something a team may have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct TeamLimits {
    /// Distribution certificates that are good at once.
    pub distribution_certificates: usize,
    /// Devices.
    pub devices: usize,
}

/// An app id: registered once, and for ever.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppId {
    /// The bundle id; one for several apps ends in a wildcard.
    pub bundle_id: String,
    /// What people call it.
    pub title: String,
    /// What is switched on for it.
    #[serde(default)]
    pub capabilities: Vec<Capability>,
}

/// What is to be switched on for an app id, in the place of what is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Capabilities {
    /// All of it.
    pub capabilities: Vec<Capability>,
}

/// A device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Device {
    /// Its hardware identifier.
    pub identifier: String,
    /// What people call it.
    pub title: String,
}

/// A profile that is asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewProfile {
    /// What it is to be called.
    pub title: String,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id.
    pub bundle_id: String,
    /// The certificates that may sign, by their ids.
    pub certificates: Vec<String>,
    /// The devices that it allows, by their identifiers.
    #[serde(default)]
    pub devices: Vec<String>,
}

/// A profile that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Profile {
    /// Its id: the UUID in the file.
    pub id: String,
    /// What it is called.
    pub title: String,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id.
    pub bundle_id: String,
    /// The file.
    #[serde(with = "in_base64")]
    pub file: Vec<u8>,
    /// Until when it is good.
    pub not_after: Timestamp,
}

/// An API key that is asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewApiKey {
    /// What people call it.
    pub title: String,
    /// What it may do.
    pub role: ApiRole,
}

/// An API key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ApiKey {
    /// The key id that its tokens name.
    pub key_id: String,
    /// The issuer id that its tokens name.
    pub issuer: String,
    /// What people call it.
    pub title: String,
    /// What it may do.
    pub role: ApiRole,
    /// Whether its private key was fetched: that can be done once.
    pub fetched: bool,
}

/// A list of things.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct List<T> {
    /// The things.
    pub items: Vec<T>,
}

/// Why something was not done (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// What kind of problem: a word of ours.
    #[serde(rename = "type")]
    pub kind: String,
    /// That kind in a few words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What was wrong this time.
    pub detail: String,
    /// The role that would be needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs: Option<ApiRole>,
    /// The value that was sent, where one was not taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sent: Option<String>,
    /// The value that would be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needed: Option<String>,
}

/// Binary values stand in JSON as Base64 (RFC 4648, section 4).
mod in_base64 {
    use base64ct::{Base64, Encoding};
    use serde::{Deserialize, Deserializer, Serializer, de};

    pub(super) fn serialize<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&Base64::encode_string(bytes))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<u8>, D::Error> {
        let text = String::deserialize(deserializer)?;
        Base64::decode_vec(&text).map_err(|_| de::Error::custom("it is no Base64"))
    }
}
