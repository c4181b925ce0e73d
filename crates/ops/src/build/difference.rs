//! What is other in one build than in another: what people and devices see, and what takes how much room.

use std::collections::{BTreeMap, BTreeSet};

use ninekeys_core::model::{Seen, SeenChange};
use schemars::JsonSchema;
use serde::Serialize;

/// One folder or file at the top level. Sizes are as they stand in the build, compressed, in bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FolderChange {
    /// Its name; a folder's ends with a stroke.
    pub name: String,
    /// Its size before; 0 when it is new.
    pub before: u64,
    /// Its size now; 0 when it is gone.
    pub now: u64,
}

impl FolderChange {
    /// How much larger it is.
    pub fn change(&self) -> i64 {
        i64::try_from(self.now).unwrap_or(i64::MAX) - i64::try_from(self.before).unwrap_or(i64::MAX)
    }
}

/// What is other in one build than in another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Difference {
    /// The size, in bytes.
    pub size: u64,
    /// The size of the other one, in bytes; 0 when there is none.
    pub size_before: u64,
    /// What people and devices see of it, and is not as it was.
    pub changes: Vec<SeenChange>,
    /// What stands at the top level, the largest change first; nothing where one lies in an archive and the other in a folder, whose
    /// sizes have nothing to do with each other.
    pub folders: Vec<FolderChange>,
    /// Whether their sizes can be compared.
    pub sizes_comparable: bool,
}

/// What is compared of a build.
#[derive(Clone, Copy)]
pub(crate) struct Compared<'a> {
    pub(crate) size: u64,
    /// Whether it lies in an archive.
    pub(crate) is_packed: bool,
    pub(crate) seen: Option<&'a Seen>,
    pub(crate) folders: &'a BTreeMap<String, u64>,
}

impl Compared<'_> {
    /// What is other than `before`.
    pub(crate) fn difference(self, before: Option<Compared<'_>>) -> Difference {
        let changes = match (self.seen, before.and_then(|before| before.seen)) {
            (Some(now), Some(before)) => now.changes(before),
            _ => Vec::new(),
        };
        let none = BTreeMap::new();
        let old = before.map_or(&none, |before| before.folders);
        let names: BTreeSet<&String> = self.folders.keys().chain(old.keys()).collect();
        let size_in = |all: &BTreeMap<String, u64>, name: &str| all.get(name).copied().unwrap_or(0);
        let sizes_comparable = before.is_none_or(|before| before.is_packed == self.is_packed);
        let mut folders: Vec<FolderChange> = names
            .into_iter()
            .filter(|_| sizes_comparable)
            .map(|name| FolderChange {
                name: name.clone(),
                before: size_in(old, name),
                now: size_in(self.folders, name),
            })
            .collect();
        folders.sort_by(|a, b| b.change().abs().cmp(&a.change().abs()).then_with(|| a.name.cmp(&b.name)));
        Difference {
            size: self.size,
            size_before: before.map_or(0, |before| before.size),
            changes,
            folders,
            sizes_comparable,
        }
    }
}
