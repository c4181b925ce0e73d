//! The words of the trade as types: kinds of key, items, apps, destinations.

mod abridged;
mod access;
mod date;
mod facts;
mod hand_out;
mod inventory;
mod ios;
pub mod moment;
mod nine;
mod number;
mod platform;
mod project;
mod rotation;
mod seen;

pub use abridged::Abridged;
pub use access::{ApiRole, ApiUse, UnknownWord};
pub use date::{DateFacts, MOST_MONTHS};
pub use facts::{
    ApiKeyFacts, CertificateFacts, Facts, KeyFacts, KeystoreEntry, KeystoreFacts, ReleaseFacts, Role,
    Service, TookOver, Use, key_called,
};
pub use hand_out::{GivenItem, HandOutFacts};
pub use inventory::{
    Inventory, Item, ItemId, LastBackup, Name, NameError, NotFound, State, check_name, check_title,
    free_name, replaced,
};
pub use ios::{DeviceFacts, IdentityFacts, IdentityPurpose, ProfileFacts, PushEnvironment, Wholeness};
pub use nine::NineKey;
pub use number::{BuildNumber, NotANumber};
pub use platform::{Destination, Platform, UnknownDestination};
pub use project::{
    Account, Android, AndroidAtStore, App, Capability, Contact, Ios, Lend, LendIos, NextUpload, Policy,
    Project, ProjectPin, Properties, ReviewSays, Side, StoreKeys, StorePlace, StoreSigners,
    UnknownCapability,
};
pub use rotation::{Does, OldKeyMay, RotationFacts, RotationStep};
pub use seen::{Aspect, Seen, SeenChange};
