//! `device add`: one device.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{NameError, check_title};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::attached::Attached;
use super::{DeviceSaid, IdentifierError, Limit};
use crate::ctx::{Ctx, OpenError};
use crate::device;

/// The device.
#[derive(Debug)]
pub struct Request {
    /// What people call it.
    pub title: String,
    /// Its hardware identifier.
    pub identifier: Option<String>,
    /// The devices at the bus, where one of them is meant.
    pub attached: Option<Vec<Attached>>,
}

/// What was registered.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DeviceAddReport {
    /// The device.
    #[serde(flatten)]
    pub device: DeviceSaid,
    /// How many were registered within the last year.
    pub limit: Limit,
}

/// Why nothing was registered.
#[derive(Debug, Error)]
pub enum DeviceAddError {
    /// Its title.
    #[error(transparent)]
    Title(#[from] NameError),
    /// Its identifier.
    #[error(transparent)]
    Identifier(#[from] IdentifierError),
    /// Nobody said which.
    #[error("the device's identifier was not said")]
    NoIdentifier,
    /// There is none at the bus, or the system does not tell.
    #[error("the system tells of no such device at this machine's USB bus")]
    NoneAttached,
    /// There are several at the bus.
    #[error("there are several devices at the USB bus: {}", .0.join(", "))]
    SeveralAttached(Vec<String>),
    /// It is registered already.
    #[error("this device is registered already, as {0}")]
    Known(String),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

fn which(request: &Request) -> Result<String, DeviceAddError> {
    match (&request.identifier, request.attached.as_deref()) {
        (Some(said), _) => Ok(device::identifier(said)?),
        (None, None) => Err(DeviceAddError::NoIdentifier),
        (None, Some([])) => Err(DeviceAddError::NoneAttached),
        (None, Some([one])) => Ok(one.identifier.clone()),
        (None, Some(several)) => {
            let said = several.iter().map(|one| format!("{} ({})", one.identifier, one.product)).collect();
            Err(DeviceAddError::SeveralAttached(said))
        }
    }
}

/// Registers a device.
///
/// # Errors
/// [`DeviceAddError`]; then the cabinet is as it was.
pub fn device_add(ctx: &Ctx<'_>, request: &Request) -> Result<DeviceAddReport, DeviceAddError> {
    check_title(&request.title)?;
    let identifier = which(request)?;
    let mut cabinet = ctx.open()?;
    refuse_known(&*cabinet.inventory()?, &identifier)?;
    ctx.unlock(&mut cabinet)?;
    let what = format!("device add {}", request.title);
    let device = cabinet.change(&what, &ctx.env, |change| {
        refuse_known(&change.inventory(), &identifier)?;
        Ok::<_, DeviceAddError>(device::put(change, &request.title, &identifier)?)
    })?;
    let limit = device::limit(&*cabinet.inventory()?, ctx.env.now);
    Ok(DeviceAddReport { device, limit })
}

fn refuse_known(inventory: &ninekeys_core::model::Inventory, identifier: &str) -> Result<(), DeviceAddError> {
    let mut all = device::all(inventory).into_iter();
    let known = all.find(|(_, facts)| facts.identifier.eq_ignore_ascii_case(identifier));
    known.map_or(Ok(()), |(_, facts)| Err(DeviceAddError::Known(facts.title.clone())))
}
