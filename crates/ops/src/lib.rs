//! The use cases of Nine Keys, one a file: a [`Ctx`] and a request go in, a report comes out.
//!
//! This layer reads and writes files, by position and whole or not at all, and is the only one that sees
//! the cabinet and the computation together. It knows no terminal, no clock and no environment: those are in
//! the [`Ctx`].

pub mod adopt;
pub mod app_add;
pub mod backup;
pub mod board;
pub mod check;
pub mod compare;
mod ctx;
pub mod demo;
pub mod files;
pub mod init;
pub mod inspect;
pub mod inventory;
pub mod keystore_change;
pub mod keystore_create;
pub mod keystore_export;
pub mod keystore_hand_over;
pub mod keystore_import;
pub mod keystores;
pub mod lend;
pub mod memory;
mod outgoing;
pub mod outputs;
pub mod passphrase;
pub mod pin;
pub mod project;
pub mod releases;
pub mod restore;
pub mod show;
pub mod sign;
pub mod signer;
pub mod status;

pub use ctx::{Ask, AskError, Ctx, Nobody, Notice, OpenError};
pub use files::FileError;
pub use outgoing::sweep as sweep_outgoing;
