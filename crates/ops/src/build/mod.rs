//! Builds: checked, signed, written into the ledger, made with a key on loan.

pub mod check;
pub mod lend;
pub mod material;
pub mod releases;
pub mod setup;
pub mod sign;
