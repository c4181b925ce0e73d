//! A provisioning profile, told whether or not its signature is to be believed.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::profile::{Verified, destination};
use ninekeys_core::model::{Destination, Facts, Inventory};
use ninekeys_formats::cms;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::profile::Profile;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Content, Roots, Vouched};
use crate::answers::{self, AppSaid};
use crate::build::background::Background;
use crate::ctx::Ctx;
use crate::identity;
use crate::profile::{self, AllowedCertificate, AllowedDevice};

/// What a provisioning profile says.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProfileContent {
    /// What it is called.
    pub title: String,
    /// Its identifier.
    pub uuid: String,
    /// What builds with it are for; nothing where it is of no kind that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination: Option<Destination>,
    /// The app id that it is for, with the team's prefix.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app_id: Option<String>,
    /// The apps of the project file that it is for.
    pub apps: Vec<AppSaid>,
    /// The teams that it was issued to.
    pub teams: Vec<String>,
    /// The certificates that may sign.
    pub certificates: Vec<AllowedCertificate>,
    /// The devices that it allows.
    pub devices: Vec<AllowedDevice>,
    /// The most that an app with it may claim, each value as text.
    pub entitlements: BTreeMap<String, String>,
    /// When it was made.
    pub not_before: Timestamp,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// SHA-256 of the file.
    pub sha256: String,
    /// Whether it is to be believed.
    pub signature: Vouched,
    /// The item in the cabinet that is this file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
}

/// What it is, if it is a profile: a signed message with a property list in it.
pub(super) fn read(ctx: &Ctx<'_>, bytes: &[u8], background: &Background) -> Option<Content> {
    let message = cms::parse(bytes, &Limits::USUAL).ok()?;
    let profile = Profile::parse(message.content.as_deref()?, &Limits::USUAL).ok()?;
    let inventory = background.inventory.as_deref();
    let app_id = profile.app_id().map(str::to_owned);
    let project = background.project.as_ref();
    let apps = app_id.as_deref().map(|id| profile::apps_of(id, project)).unwrap_or_default();
    let sha256 = sha256_hex(bytes);
    let own = |facts: &Facts| matches!(facts, Facts::Profile(facts) if facts.fingerprint == sha256);
    let item = inventory.and_then(|all| all.iter().find(|item| own(&item.facts)));
    let certificates = profile.certificates.iter().map(|der| {
        let sha256 = sha256_hex(der);
        AllowedCertificate::of(inventory, sha256)
    });
    let devices = profile.devices.iter().flatten().map(|identifier| AllowedDevice {
        title: inventory.and_then(|all| profile::device_title(all, identifier)),
        identifier: identifier.clone(),
    });
    Some(Content::Profile(Box::new(ProfileContent {
        destination: destination(&profile).ok(),
        apps: identity::titled(&apps, project),
        certificates: certificates.collect(),
        devices: devices.collect(),
        entitlements: profile
            .entitlements
            .iter()
            .map(|(key, value)| (key.clone(), value.to_string()))
            .collect(),
        not_before: answers::time(profile.not_before),
        not_after: answers::time(profile.not_after),
        signature: signature(ctx, bytes, inventory),
        item: item.map(|item| item.name.clone()),
        sha256,
        app_id,
        title: profile.title,
        uuid: profile.uuid,
        teams: profile.teams,
    })))
}

fn signature(ctx: &Ctx<'_>, bytes: &[u8], inventory: Option<&Inventory>) -> Vouched {
    let roots = Roots::of(ctx, inventory);
    match Verified::open(bytes, &roots.pool, ctx.env.now, &Limits::USUAL) {
        Err(fault) => Vouched::Broken { because: fault.to_string() },
        Ok(verified) => roots.vouch(verified.root()),
    }
}
