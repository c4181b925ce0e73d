//! The encrypted cabinet: items with facts in clear and sealed parts, members, history, backups.
//!
//! [`Cabinet`] is what the rest of the tool uses. Beneath it a [`Store`] keeps rows and knows nothing of
//! their meaning; [`SqliteStore`] is the one there is, and a database server for teams is another
//! implementation of the same trait. Everything that must hold for either (sealing, the chained history, the
//! proof that nothing was changed behind the tool's back) is done above it.
//!
//! Opening shows the facts. Unlocking takes a passphrase or an identity file, and proves the whole cabinet
//! before anything of it is used.

mod cabinet;
mod change;
mod error;
mod history;
mod items;
mod member;
mod seal;
mod sqlite;
mod store;

pub use cabinet::{Cabinet, Proof, Status};
pub use change::{Change, NewItem};
pub use error::CabinetError;
pub use history::{HistoryBody, HistoryRow, Touched};
pub use member::{Credential, IdentityFile, Member, MemberKind, NewMember, WORK_FACTOR};
pub use sqlite::SqliteStore;
pub use store::{BackupRow, MemberRow, Store, StoredHistory, StoredItem};
