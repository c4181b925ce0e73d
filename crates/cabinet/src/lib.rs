//! The encrypted cabinet: items with facts in clear and sealed parts, members, history, backups.
//!
//! [`Cabinet`] is what the rest of the tool uses. Beneath it a [`Store`] keeps rows and knows nothing of their meaning;
//! [`SqliteStore`] is the one there is, and a database server for teams is another implementation of the same trait.
//! Nothing that comes out of a store is believed before it was proved: who wrote it, with which rights, and that the
//! records are what the newest row of history says. docs/formats/cabinet.md has the layout, byte for byte.
//!
//! | module | what it is for |
//! |---|---|
//! | `row`, `policy` | a row of history; who may write which |
//! | `proof` | proving all of it without a secret |
//! | `trust` | pins, and what this machine remembers |
//! | `member`, `compartment` | members' keys, and the keys that seal |
//! | `listing`, `records` | reading all records at once; what of each stands in clear |
//! | `cabinet`, `look`, `change` | opening and unlocking, looking, changing |
//! | `restore`, `adopt` | going back to a copy, taking in what another copy has |

mod adopt;
mod cabinet;
mod change;
mod compartment;
mod digest;
mod error;
mod history;
mod listing;
mod look;
mod member;
mod policy;
mod proof;
mod records;
mod restore;
mod row;
mod sqlite;
mod store;
mod trust;

pub use adopt::Adopted;
pub use cabinet::{Cabinet, Proof, Status};
pub use change::{Change, Issued, NewItem};
pub use digest::Digest;
pub use error::CabinetError;
pub use history::HistoryRow;
pub use look::Look;
pub use member::{Credential, NewMember, UNLOCK_FILE, WORK_FACTOR};
pub use policy::{Member, MemberKind, Role, SHARED, app_compartment};
pub use records::{Backup, IntendedFile, Intention};
pub use restore::Differences;
pub use row::Head;
pub use sqlite::SqliteStore;
pub use store::{RecordSeen, Store, StoredRecord, StoredRow, StoredSeal};
pub use trust::{Forgetful, Known, Memory, Pin, PinnedBy, Standing, Trust};
