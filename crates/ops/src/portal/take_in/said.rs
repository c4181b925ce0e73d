//! What is told of everything that stands at the portal.

use jiff::Timestamp;
use ninekeys_core::model::{Capability, Destination, NineKey};
use schemars::JsonSchema;
use serde::Serialize;

use crate::answers::CertificateSaid;
use crate::device::Limit;

/// What stands at the portal, and what that means for the cabinet and the project file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PortalTakeInReport {
    /// The portal's address.
    pub portal: String,
    /// The team's id.
    pub team: String,
    /// Whether nothing was changed.
    pub dry_run: bool,
    /// How much there is of what is limited, and may be, as far as the portal says it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limits: Option<LimitsSaid>,
    /// The certificates.
    pub certificates: Vec<TakenCertificate>,
    /// The app ids.
    pub app_ids: Vec<TakenAppId>,
    /// The devices.
    pub devices: Vec<TakenDevice>,
    /// The profiles.
    pub profiles: Vec<TakenProfile>,
    /// The time of this report.
    pub at: Timestamp,
}

/// How much there is of what is limited, and how much there may be.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LimitsSaid {
    /// Distribution certificates that are good at once.
    pub distribution_certificates: Limit,
    /// Devices.
    pub devices: Limit,
}

/// What something at the portal is to what is here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It was not here.
    New,
    /// It was here, as it is there.
    Known,
    /// It was here, and is something else there.
    Different,
    /// It was not here, and is good for nothing any more.
    Left,
}

/// Why something is left where it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Because {
    /// It was revoked; a profile, when every certificate that it names was, or is over.
    Revoked,
    /// Its time is over.
    Expired,
    /// A later one of the same title, for the same, stands there too.
    Superseded,
    /// It is for several apps, and so for none in the project file.
    Wildcard,
}

/// A certificate at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenCertificate {
    /// What it is to what is here.
    pub standing: Standing,
    /// Why it is left there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Because>,
    /// The identity here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// Which of the nine it is.
    pub kind: NineKey,
    /// The certificate.
    pub certificate: CertificateSaid,
    /// Its serial number, hexadecimal.
    pub serial: String,
    /// Whether the private key is in the cabinet.
    pub has_key: bool,
    /// When it was revoked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revoked: Option<Timestamp>,
    /// The profiles at the portal that are good and name it.
    pub profiles: Vec<String>,
    /// How many builds of the ledger were signed with it.
    pub releases: usize,
    /// Whether it is good, and nothing that is known uses it. A push certificate's use cannot be seen.
    pub unused: bool,
}

/// An app id at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenAppId {
    /// What it is to what is here.
    pub standing: Standing,
    /// Why it is left there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Because>,
    /// The app of the project file that it is of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<String>,
    /// The extension of that app.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub extension: Option<String>,
    /// The bundle id.
    pub bundle_id: String,
    /// What it is called there.
    pub title: String,
    /// What is switched on there.
    pub capabilities: Vec<Capability>,
    /// What the project file has and the portal has not switched on.
    pub off_there: Vec<Capability>,
    /// What the portal has switched on and the project file does not have.
    pub off_here: Vec<Capability>,
    /// The profiles at the portal that are good and for it.
    pub profiles: Vec<String>,
    /// Whether there is none.
    pub unused: bool,
}

/// A device at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenDevice {
    /// What it is to what is here.
    pub standing: Standing,
    /// The device here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Its hardware identifier.
    pub identifier: String,
    /// What it is called there.
    pub title: String,
    /// What it is called here, where that is something else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title_here: Option<String>,
    /// The profiles at the portal that are good and allow it.
    pub profiles: Vec<String>,
    /// Whether there is none.
    pub unused: bool,
}

/// A profile at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenProfile {
    /// What it is to what is here.
    pub standing: Standing,
    /// Why it is left there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Because>,
    /// The profile here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// What it is called in the file.
    pub title: String,
    /// Its identifier in the file.
    pub uuid: String,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id that it is for, with the team's prefix.
    pub app_id: String,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// The one here that it takes the place of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replaces: Option<String>,
    /// Whether every certificate that it names is revoked or over: nothing can be signed with it.
    pub unused: bool,
}
