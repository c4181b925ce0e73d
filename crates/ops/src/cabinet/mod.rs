//! `cabinet`: the store of all material itself.

pub mod adopt;
pub mod backup;
pub mod drill;
pub mod history;
pub mod issue;
pub mod members;
pub(crate) mod own_files;
pub mod passphrase;
pub mod pieces;
pub mod pin;
pub mod remember;
pub mod restore;
pub mod status;
pub mod unlock_file;
