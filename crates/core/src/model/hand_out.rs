//! Who was given what: material that left the cabinet for somebody who signs or uploads in the organisation's name.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Destination, ItemId};

/// A folder of material that somebody was given.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HandOutFacts {
    /// Who was given it.
    pub receiver: String,
    /// The app's name in the project file.
    pub app: String,
    /// Where builds with it go.
    pub destination: Destination,
    /// What it was.
    pub given: Vec<GivenItem>,
    /// When.
    pub at: Timestamp,
    /// Which member unlocked the cabinet for it.
    pub by: String,
}

/// An item that somebody was given.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct GivenItem {
    /// The item.
    pub item: ItemId,
    /// Its name then.
    pub name: String,
    /// The file that it went out in.
    pub file: String,
}
