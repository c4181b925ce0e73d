//! The words of the trade as types: kinds of key, items, apps, destinations.

mod facts;
mod inventory;
mod nine;
mod number;
mod platform;
mod project;

pub use facts::{
    ApiKeyFacts, CertificateFacts, DeviceFacts, Facts, IdentityFacts, IdentityPurpose, KeyFacts,
    KeystoreEntry, KeystoreFacts, ProfileFacts, PushEnvironment, ReleaseFacts, Role, Service, Use,
    key_called,
};
pub use inventory::{
    Inventory, Item, ItemId, LastBackup, Name, NameError, NotFound, State, check_name, check_title, replaced,
};
pub use nine::NineKey;
pub use number::{BuildNumber, NotANumber};
pub use platform::{Destination, Platform, UnknownDestination};
pub use project::{Android, App, Ios, Lend, Policy, Project, ProjectPin, Properties, Side};
