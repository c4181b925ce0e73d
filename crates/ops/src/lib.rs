//! The use cases of Nine Keys, one a file: a [`Ctx`] and a request go in, a report comes out.
//!
//! This layer reads and writes files, by position and whole or not at all, and is the only one that sees
//! the cabinet and the computation together. It knows no terminal, no clock and no environment: those are in
//! the [`Ctx`].

mod advice;
pub mod answers;
pub mod apikey;
pub mod app;
mod ask;
pub mod board;
pub mod build;
pub mod cabinet;
pub mod compare;
mod ctx;
pub mod date;
pub mod demo;
pub mod device;
pub mod files;
mod folder;
pub mod give;
pub mod given;
pub mod identity;
pub mod init;
pub mod inspect;
pub mod inventory;
pub mod keystore;
pub mod memory;
mod outgoing;
pub mod outputs;
pub mod page;
pub mod portal;
pub mod prepare;
pub mod profile;
pub mod project;
pub mod remembered;
pub mod report;
mod revocation;
pub mod rotate;
mod scratch;
pub mod show;
pub mod stand_in;
pub mod store;
pub mod sweep;
pub mod timeline;
mod timestamps;

pub use ask::{Ask, AskError, Nobody};
pub use ctx::{Ctx, Notice, OpenError};
pub use files::{FileError, LASTING};
pub use outgoing::sweep as sweep_outgoing;
pub use scratch::TemporarySpace;
