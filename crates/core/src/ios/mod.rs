//! What certificates and provisioning profiles say on the iOS side, and whether they are all that an app needs.

pub mod certificate;
pub mod code;
pub mod device;
pub mod entitlements;
pub mod examine;
pub mod look;
pub mod package;
pub mod profile;
pub mod requirement;
pub mod seal;
pub mod setup;
pub mod sign;
pub mod tree;
