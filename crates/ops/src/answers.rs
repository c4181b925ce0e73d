//! What several answers say, in the same words everywhere.

use jiff::Timestamp;
use ninekeys_core::build::{Build, Number, SignedBy};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::findings::Finding as CoreFinding;
use ninekeys_core::keys::PublicKey;
use ninekeys_core::model::{BuildNumber, CertificateFacts, KeyFacts};
use ninekeys_core::rules::Verdict as CoreVerdict;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;

/// A finding whose remedy is a command: arguments behind the program's name, words in capitals are the user's.
pub type Finding = CoreFinding<Vec<String>>;

/// What a check came to, each remedy a command.
pub type Verdict = CoreVerdict<Vec<String>>;

/// Which certificate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CertificateSaid {
    /// SHA-256 of its DER, in lower-case hexadecimal.
    pub sha256: String,
    /// RFC 4514.
    pub subject: String,
    /// First second of its validity.
    pub not_before: Timestamp,
    /// Last second of its validity.
    pub not_after: Timestamp,
}

/// Which key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KeySaid {
    /// SHA-256 of the SubjectPublicKeyInfo, in lower-case hexadecimal.
    pub sha256: String,
    /// Kind and size.
    pub algorithm: String,
}

/// Which app.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct AppSaid {
    /// Its name in the project file.
    pub app: String,
    /// What people call it.
    pub title: String,
}

/// Seconds since 1970 as a time; what no calendar has becomes the first or the last.
pub(crate) fn time(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap_or(if seconds < 0 { Timestamp::MIN } else { Timestamp::MAX })
}

impl From<&Certificate> for CertificateSaid {
    fn from(certificate: &Certificate) -> Self {
        CertificateSaid {
            sha256: sha256_hex(&certificate.der),
            subject: certificate.subject.clone(),
            not_before: time(certificate.not_before),
            not_after: time(certificate.not_after),
        }
    }
}

impl From<&CertificateFacts> for CertificateSaid {
    fn from(facts: &CertificateFacts) -> Self {
        CertificateSaid {
            sha256: facts.fingerprint.clone(),
            subject: facts.subject.clone(),
            not_before: facts.not_before,
            not_after: facts.not_after,
        }
    }
}

impl From<&Certificate> for KeySaid {
    fn from(certificate: &Certificate) -> Self {
        KeySaid { sha256: sha256_hex(&certificate.public_key), algorithm: certificate.key.to_string() }
    }
}

impl From<&KeyFacts> for KeySaid {
    fn from(facts: &KeyFacts) -> Self {
        KeySaid { sha256: facts.fingerprint.clone(), algorithm: facts.algorithm.clone() }
    }
}

impl From<&PublicKey> for KeySaid {
    fn from(key: &PublicKey) -> Self {
        KeySaid { sha256: key.fingerprint(), algorithm: key.shape().to_string() }
    }
}

impl From<&SignedBy> for KeySaid {
    fn from(signer: &SignedBy) -> Self {
        KeySaid { sha256: signer.key_fingerprint.clone(), algorithm: signer.certificate.key.to_string() }
    }
}

/// What a build says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BuildSaid {
    /// Package or bundle id.
    pub id: String,
    /// The version's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The version code or build number.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number: Option<BuildNumber>,
    /// Whether its number refers to something that is not in it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub number_unknown: bool,
    /// Which part of a package it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
}

impl BuildSaid {
    /// What a build says, if that can be read.
    pub(crate) fn of(build: &Build) -> Option<BuildSaid> {
        let says = build.says.as_ref()?;
        Some(BuildSaid {
            id: says.id.clone(),
            version: says.version.clone(),
            number: if let Number::Is(number) = &says.number { Some(number.clone()) } else { None },
            number_unknown: says.number == Number::Unknown,
            part: says.part.clone(),
        })
    }
}
