//! What every command on provisioning profiles shares: finding them, and how they are told.

pub mod create;
pub mod export;
pub mod import;

use jiff::Timestamp;
use ninekeys_core::ios::profile::is_for;
use ninekeys_core::model::{
    App, Destination, Facts, Inventory, Item, ItemId, NotFound, ProfileFacts, Project, State,
};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::AppSaid;
use crate::identity;

/// Which profile.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ProfileSaid {
    /// Its name in the cabinet.
    pub profile: String,
    /// What it is called in the file.
    pub title: String,
    /// Its identifier in the file.
    pub uuid: String,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id that it is for, with the team's prefix.
    pub app_id: String,
    /// The apps that it is for.
    pub apps: Vec<AppSaid>,
    /// The team that it was issued to.
    pub team: String,
    /// The certificates that may sign.
    pub certificates: Vec<AllowedCertificate>,
    /// The devices that it allows.
    pub devices: Vec<AllowedDevice>,
    /// When it was made.
    pub not_before: Timestamp,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// SHA-256 of the file.
    pub sha256: String,
}

/// A certificate that a profile allows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AllowedCertificate {
    /// SHA-256 of its DER.
    pub sha256: String,
    /// The identity of it in the cabinet; one in use where there are several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// Whether that one is retired.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub retired: bool,
}

impl AllowedCertificate {
    /// A certificate by its fingerprint, and whose it is.
    pub(crate) fn of(inventory: Option<&Inventory>, sha256: String) -> Self {
        let found = inventory.and_then(|inventory| identity_of(inventory, &sha256));
        let retired = found.is_some_and(|item| item.state == State::Retired);
        AllowedCertificate { identity: found.map(|item| item.name.clone()), retired, sha256 }
    }

    /// Whose it is, for people.
    pub fn whose(&self) -> String {
        match &self.identity {
            Some(identity) if self.retired => format!("{identity}, retired"),
            Some(identity) => identity.clone(),
            None => "not in the cabinet".into(),
        }
    }
}

/// A device that a profile allows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AllowedDevice {
    /// Its hardware identifier.
    pub identifier: String,
    /// What people call it, where the cabinet knows it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
}

/// Why no profile was found.
#[derive(Debug, Error)]
pub enum FindError {
    /// Nothing, or too much, goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no profile.
    #[error("{name} is {found}, not a provisioning profile")]
    NotAProfile {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
}

/// The profile with that name.
pub(crate) fn find<'a>(
    inventory: &'a Inventory,
    name: &str,
) -> Result<(&'a Item, &'a ProfileFacts), FindError> {
    let item = inventory.find(name)?;
    match &item.facts {
        Facts::Profile(facts) => Ok((item, facts)),
        other => Err(FindError::NotAProfile { name: item.name.clone(), found: other.one() }),
    }
}

/// Whether a profile is for an app, or for something inside it.
fn serves(app_id: &str, app: &App) -> bool {
    let Some(ios) = &app.ios else { return false };
    std::iter::once(&ios.bundle_id).chain(ios.extensions.values()).any(|id| is_for(app_id, id))
}

/// The names of the apps that a profile is for.
pub(crate) fn apps_of(app_id: &str, project: Option<&Project>) -> Vec<String> {
    let apps = project.into_iter().flat_map(|project| &project.apps);
    apps.filter(|(_, app)| serves(app_id, app)).map(|(name, _)| name.to_string()).collect()
}

/// The identity that has that certificate, one in use before others.
fn identity_of<'a>(inventory: &'a Inventory, fingerprint: &str) -> Option<&'a Item> {
    let certificate = identity::certificate_with(inventory, fingerprint)?.id;
    let named =
        identity::all(inventory).into_iter().filter(|(_, facts)| facts.certificate == Some(certificate));
    named.map(|(item, _)| item).min_by_key(|item| item.state == State::Retired)
}

/// A profile as answers say it.
pub(crate) fn said(
    inventory: &Inventory,
    name: &str,
    facts: &ProfileFacts,
    project: Option<&Project>,
) -> ProfileSaid {
    let known =
        |id: &ItemId| identity::certificate_facts(inventory, id).map(|facts| facts.fingerprint.clone());
    let fingerprints =
        facts.certificates.iter().filter_map(known).chain(facts.foreign_certificates.iter().cloned());
    let certificates = fingerprints.map(|sha256| AllowedCertificate::of(Some(inventory), sha256)).collect();
    ProfileSaid {
        profile: name.into(),
        title: facts.title.clone(),
        uuid: facts.uuid.clone(),
        destination: facts.destination,
        app_id: facts.app_id.clone(),
        apps: identity::titled(&facts.apps, project),
        team: facts.team.clone(),
        certificates,
        devices: devices(inventory, facts),
        not_before: facts.not_before,
        not_after: facts.not_after,
        sha256: facts.fingerprint.clone(),
    }
}

/// What the device with that identifier is called.
pub(crate) fn device_title(inventory: &Inventory, identifier: &str) -> Option<String> {
    inventory.iter().find_map(|item| match &item.facts {
        Facts::Device(device) if device.identifier.eq_ignore_ascii_case(identifier) => {
            Some(device.title.clone())
        }
        _ => None,
    })
}

/// The devices that a profile allows; those that came in after it did are known by now.
pub(crate) fn devices(inventory: &Inventory, facts: &ProfileFacts) -> Vec<AllowedDevice> {
    let known = facts.devices.iter().filter_map(|id| match &inventory.get(id)?.facts {
        Facts::Device(device) => {
            Some(AllowedDevice { identifier: device.identifier.clone(), title: Some(device.title.clone()) })
        }
        _ => None,
    });
    let foreign = facts.foreign_devices.iter().map(|identifier| AllowedDevice {
        title: device_title(inventory, identifier),
        identifier: identifier.clone(),
    });
    known.chain(foreign).collect()
}
