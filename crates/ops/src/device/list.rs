//! `device list`: the registered devices, and which profiles allow them.

use std::collections::HashMap;

use jiff::Timestamp;
use ninekeys_core::model::{Facts, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DeviceSaid, Limit};
use crate::ctx::{Ctx, OpenError};
use crate::device;

/// The devices.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DeviceListReport {
    /// By name.
    pub devices: Vec<Listed>,
    /// How many were registered within the last year.
    pub limit: Limit,
    /// The time of this report.
    pub at: Timestamp,
}

/// One device.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Listed {
    /// The device.
    #[serde(flatten)]
    pub device: DeviceSaid,
    /// When it came in.
    pub created: Timestamp,
    /// The profiles in use that allow it.
    pub profiles: Vec<String>,
}

/// Why they cannot be listed.
#[derive(Debug, Error)]
pub enum DeviceListError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Lists the devices.
///
/// # Errors
/// [`DeviceListError`].
pub fn device_list(ctx: &Ctx<'_>) -> Result<DeviceListReport, DeviceListError> {
    let inventory = ctx.look()?.inventory;
    let all = device::all(&inventory);
    let mut allowed: HashMap<&str, Vec<String>> = HashMap::new();
    for item in inventory.iter().filter(|item| item.state == State::Active) {
        let Facts::Profile(profile) = &item.facts else { continue };
        let known = profile.devices.iter().filter_map(|id| match &inventory.get(id)?.facts {
            Facts::Device(device) => Some(device.identifier.as_str()),
            _ => None,
        });
        for identifier in known.chain(profile.foreign_devices.iter().map(String::as_str)) {
            allowed.entry(identifier).or_default().push(item.name.clone());
        }
    }
    let listed = all.iter().map(|(item, facts)| {
        let mut profiles = allowed.get(facts.identifier.as_str()).cloned().unwrap_or_default();
        profiles.sort();
        let (title, identifier) = (facts.title.clone(), facts.identifier.clone());
        Listed {
            device: DeviceSaid { device: item.name.clone(), title, identifier },
            created: item.created,
            profiles,
        }
    });
    Ok(DeviceListReport {
        devices: listed.collect(),
        limit: device::limit(&inventory, ctx.env.now),
        at: ctx.env.now,
    })
}
