//! The words of the trade as types: kinds of key, items, apps, destinations.

mod facts;
mod inventory;
mod nine;
mod project;

pub use facts::{
    ApiKeyFacts, CertificateFacts, DeviceFacts, Facts, IdentityFacts, IdentityPurpose, KeyFacts,
    KeystoreEntry, KeystoreFacts, ProfileFacts, ReleaseFacts, Role, Service,
};
pub use inventory::{
    Inventory, Item, ItemId, LastBackup, Name, NameError, NotFound, State, check_name, check_title, replaced,
};
pub use nine::NineKey;
pub use project::{
    Android, App, Destination, Ios, Lend, Policy, Project, ProjectPin, Properties, UnknownDestination,
};
