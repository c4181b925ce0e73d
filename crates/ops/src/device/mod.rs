//! Devices: registered under a name, found by their hardware identifier.

pub mod add;
pub mod attached;
pub mod import;
pub mod list;
pub mod rename;

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change, NewItem};
use ninekeys_core::ios::device::registered_within_a_year;
pub use ninekeys_core::ios::device::{IdentifierError, NEAR_LIMIT, YEARLY_LIMIT, identifier};
use ninekeys_core::model::{DeviceFacts, Facts, Inventory, Item, NotFound, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::identity;
use crate::profile::import::slug;

/// Which device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct DeviceSaid {
    /// Its name in the cabinet.
    pub device: String,
    /// What people call it.
    pub title: String,
    /// Its hardware identifier.
    pub identifier: String,
}

/// How many devices were registered within the last year.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Limit {
    /// How many.
    pub used: usize,
    /// How many there may be.
    pub most: usize,
}

/// Why no device was found.
#[derive(Debug, Error)]
pub enum FindError {
    /// Nothing, or too much, goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no device.
    #[error("{name} is {found}, not a device")]
    NotADevice {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
}

/// Every device in use, by title.
pub(crate) fn all(inventory: &Inventory) -> Vec<(&Item, &DeviceFacts)> {
    let devices = inventory.iter().filter_map(|item| match &item.facts {
        Facts::Device(facts) if item.state == State::Active => Some((item, facts)),
        _ => None,
    });
    let mut out: Vec<_> = devices.collect();
    out.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
    out
}

/// How many were registered within the year before now.
pub(crate) fn limit(inventory: &Inventory, now: Timestamp) -> Limit {
    Limit { used: registered_within_a_year(inventory, now), most: YEARLY_LIMIT }
}

/// Puts a device in; its name follows from what people call it.
pub(crate) fn put(
    change: &mut Change<'_>,
    title: &str,
    identifier: &str,
) -> Result<DeviceSaid, CabinetError> {
    let name = identity::free_name(&change.inventory(), &slug(title));
    let facts = DeviceFacts { identifier: identifier.into(), title: title.into() };
    change.put(NewItem::new(name.as_str(), Facts::Device(facts), None))?;
    Ok(DeviceSaid { device: name, title: title.into(), identifier: identifier.into() })
}
