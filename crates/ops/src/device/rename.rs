//! `device rename`: another name; its identifier is for ever.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{DeviceFacts, Facts, Inventory, Item, NameError, check_title};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DeviceSaid, FindError};
use crate::ctx::{Ctx, OpenError};

/// What it is called now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DeviceRenameReport {
    /// The device.
    #[serde(flatten)]
    pub device: DeviceSaid,
    /// What it was called.
    pub was: String,
}

/// Why it keeps its name.
#[derive(Debug, Error)]
pub enum DeviceRenameError {
    /// The device.
    #[error(transparent)]
    Find(#[from] FindError),
    /// The name.
    #[error(transparent)]
    Title(#[from] NameError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// The device with that name, title or identifier.
fn find<'a>(inventory: &'a Inventory, wanted: &str) -> Result<(&'a Item, &'a DeviceFacts), FindError> {
    let called = |facts: &DeviceFacts| facts.title == wanted || facts.identifier.eq_ignore_ascii_case(wanted);
    if let Some(found) = super::all(inventory).into_iter().find(|(_, facts)| called(facts)) {
        return Ok(found);
    }
    let item = inventory.find(wanted)?;
    match &item.facts {
        Facts::Device(facts) => Ok((item, facts)),
        other => Err(FindError::NotADevice { name: item.name.clone(), found: other.one() }),
    }
}

/// Gives a device another name.
///
/// # Errors
/// [`DeviceRenameError`]; then the cabinet is as it was.
pub fn device_rename(
    ctx: &Ctx<'_>,
    wanted: &str,
    title: &str,
) -> Result<DeviceRenameReport, DeviceRenameError> {
    check_title(title)?;
    let mut cabinet = ctx.open()?;
    find(&*cabinet.inventory()?, wanted)?;
    ctx.unlock(&mut cabinet)?;
    cabinet.change(&format!("device rename {wanted}"), &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, facts) = find(&inventory, wanted)?;
        let (was, identifier) = (facts.title.clone(), facts.identifier.clone());
        let mut item = item.clone();
        item.facts = Facts::Device(DeviceFacts { identifier: identifier.clone(), title: title.into() });
        change.revise(&item, None)?;
        let device = DeviceSaid { device: item.name, title: title.into(), identifier };
        Ok(DeviceRenameReport { device, was })
    })
}
