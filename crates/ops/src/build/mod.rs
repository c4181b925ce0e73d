//! Builds: checked, signed, written into the ledger, made with a key on loan.

pub(crate) mod background;
pub mod check;
pub mod difference;
pub mod hand_on;
pub mod identity_material;
pub(crate) mod input;
pub mod ios;
pub mod lend;
pub mod material;
pub mod releases;
pub mod setup;
pub mod sign;
