//! Items and how they are found: by id, by name, by any unique beginning of a name.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;
use schemars::{JsonSchema, schema_of};
use serde::de::{Error as _, Unexpected, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use thiserror::Error;

use super::{CertificateFacts, Facts, KeystoreEntry, KeystoreFacts, ReleaseFacts, Role};

/// Identifies an item for good: 16 random bytes, 32 hexadecimal digits in text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ItemId([u8; 16]);

impl ItemId {
    /// From 16 random bytes.
    pub fn from_random(bytes: [u8; 16]) -> Self {
        ItemId(bytes)
    }

    /// From its text form; nothing when it is not one.
    pub fn from_text(text: &str) -> Option<Self> {
        crate::digest::from_hex_exactly(text).map(ItemId)
    }
}

impl fmt::Display for ItemId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&crate::digest::hex(&self.0))
    }
}

impl Serialize for ItemId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

schema_of!(ItemId, { "type": "string", "pattern": "^[0-9a-f]{32}$" });

impl<'de> Deserialize<'de> for ItemId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Digits;

        impl Visitor<'_> for Digits {
            type Value = ItemId;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an item id of 32 hexadecimal digits")
            }

            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<ItemId, E> {
                ItemId::from_text(text).ok_or_else(|| E::invalid_value(Unexpected::Str("other text"), &self))
            }
        }

        deserializer.deserialize_str(Digits)
    }
}

/// Whether an item is in use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// In use.
    Active,
    /// Replaced by a later generation, and kept.
    Retired,
}

/// One thing in the cabinet, without its sealed part.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Item {
    /// Its id.
    pub id: ItemId,
    /// Its name, unique without case.
    pub name: String,
    /// In use or retired.
    pub state: State,
    /// 1 for the first; one more than what it replaces.
    pub generation: u32,
    /// What it replaces.
    pub replaces: Option<ItemId>,
    /// Counts its changes, from 1.
    pub revision: u32,
    /// When it was made or came in.
    pub created: Timestamp,
    /// The row of history that it came in with: its private key is in every copy from then on.
    pub made: u64,
    /// The row of history that made or last changed it.
    pub seq: u64,
    /// What of it is public.
    pub facts: Facts,
}

/// The last backup that was made and proved.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LastBackup {
    /// When.
    pub at: Timestamp,
    /// The last row of history that is in it. Not the time but this says what it has: a clock can be wrong, and
    /// two changes can fall into one second.
    pub seq: u64,
}

impl LastBackup {
    /// Whether the item is in it as it is now.
    pub fn has(&self, item: &Item) -> bool {
        item.seq <= self.seq
    }

    /// Whether what matters of an item is in it: of a key and of a keystore the private keys, of anything else all of it as
    /// it is now.
    pub fn holds(&self, item: &Item, inventory: &Inventory) -> bool {
        match &item.facts {
            Facts::Keystore(keystore) => self.has_keys(keystore, inventory),
            Facts::Key(_) => item.made <= self.seq,
            _ => self.has(item),
        }
    }

    /// Whether every private key of a keystore is in it, whatever keystore and keys are called today.
    pub fn has_keys(&self, keystore: &KeystoreFacts, inventory: &Inventory) -> bool {
        keystore.entries.iter().all(|entry| self.has_key(entry, inventory))
    }

    /// Whether the private key of an entry is in it.
    pub(crate) fn has_key(&self, entry: &KeystoreEntry, inventory: &Inventory) -> bool {
        inventory.get(&entry.key).is_some_and(|key| key.made <= self.seq)
    }
}

/// A name that cannot be an item's.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NameError {
    /// Wrong characters or length.
    #[error("`{}` cannot be a name: 1 to 64 letters, digits, `-`, `_` or `.`, the first a letter or digit", shown(.0))]
    Shape(String),
    /// A title of nothing but blanks, too long, or with characters that move a cursor.
    #[error("`{}` cannot be a title: 1 to 100 characters, not blanks alone", shown(.0))]
    Title(String),
}

/// Checks what people call something.
///
/// # Errors
/// [`NameError::Title`].
pub fn check_title(title: &str) -> Result<(), NameError> {
    let length = title.chars().count();
    let good = !title.trim().is_empty() && length <= 100 && !title.chars().any(char::is_control);
    if good { Ok(()) } else { Err(NameError::Title(title.into())) }
}

/// A wrong name as it can be shown: short, and without what would move a cursor.
fn shown(name: &str) -> String {
    name.chars().take(70).flat_map(char::escape_debug).collect()
}

/// A name that nothing has yet: the one that was thought of, or the next with a number behind it.
pub fn free_name(base: &str, mut is_taken: impl FnMut(&str) -> bool) -> String {
    let numbered = (2u64..).map(|number| format!("{base}-{number}"));
    std::iter::once(base.to_owned()).chain(numbered).find(|name| !is_taken(name)).unwrap_or_default()
}

/// Checks a name that a user gives to an item.
///
/// # Errors
/// [`NameError`].
pub fn check_name(name: &str) -> Result<(), NameError> {
    let good = (1..=64).contains(&name.len())
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.'))
        && name.bytes().next().is_some_and(|b| b.is_ascii_alphanumeric());
    if good { Ok(()) } else { Err(NameError::Shape(name.into())) }
}

/// A name that was checked when it came in: later it is a part of a path, a line of a file and a line on a terminal.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Name(String);

impl Name {
    /// The name, if it can be one.
    ///
    /// # Errors
    /// [`NameError`].
    pub fn new(text: &str) -> Result<Self, NameError> {
        check_name(text).map(|()| Name(text.into()))
    }

    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::ops::Deref for Name {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Name {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Name::new(&String::deserialize(deserializer)?).map_err(D::Error::custom)
    }
}

/// Why a name did not lead to an item.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NotFound {
    /// Nothing has that name or begins with it.
    #[error("nothing in the cabinet is called `{0}`")]
    Unknown(String),
    /// Several begin with it.
    #[error("`{wanted}` could be {}", candidates.join(", "))]
    Ambiguous {
        /// What was asked for.
        wanted: String,
        /// What begins with it.
        candidates: Vec<String>,
    },
}

/// All items of a cabinet.
#[derive(Debug, Clone, Default)]
pub struct Inventory {
    /// Shared: a change works on a copy of the list, and few of its items change.
    items: BTreeMap<ItemId, Arc<Item>>,
}

impl Inventory {
    /// From any list of items.
    pub fn new(items: impl IntoIterator<Item = Item>) -> Self {
        Inventory::of_shared(items.into_iter().map(|item| (item.id, Arc::new(item))))
    }

    /// The same of items that are shared already, each with its id: to look it up in 100,000 of them takes longer than to
    /// put them together.
    pub fn of_shared(items: impl IntoIterator<Item = (ItemId, Arc<Item>)>) -> Self {
        Inventory { items: items.into_iter().collect() }
    }

    /// Puts an item in, in the place of the one with its id.
    pub fn put(&mut self, item: Item) {
        self.items.insert(item.id, Arc::new(item));
    }

    /// Takes an item out.
    pub fn take_out(&mut self, id: &ItemId) {
        self.items.remove(id);
    }

    /// The items, in no meaningful order.
    pub fn iter(&self) -> impl Iterator<Item = &Item> {
        self.items.values().map(AsRef::as_ref)
    }

    /// The item with that id.
    pub fn get(&self, id: &ItemId) -> Option<&Item> {
        self.items.get(id).map(AsRef::as_ref)
    }

    /// The item with that name, or the only one whose name begins with it, without case. Of what hangs below
    /// a keystore (its keys and certificates) only exact names count.
    ///
    /// # Errors
    /// [`NotFound`].
    pub fn find(&self, wanted: &str) -> Result<&Item, NotFound> {
        let lower = wanted.to_lowercase();
        let id = ItemId::from_text(wanted);
        let exact = self.iter().find(|item| item.name.eq_ignore_ascii_case(wanted) || Some(item.id) == id);
        if let Some(item) = exact {
            return Ok(item);
        }
        let named = |item: &&Item| item.name.to_lowercase().starts_with(&lower);
        let mut all: Vec<&Item> = self.iter().filter(named).filter(|i| !i.name.contains('/')).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        match all.as_slice() {
            [] => Err(NotFound::Unknown(wanted.into())),
            [one] => Ok(one),
            many => Err(NotFound::Ambiguous {
                wanted: wanted.into(),
                candidates: many.iter().map(|item| item.name.clone()).collect(),
            }),
        }
    }

    /// The certificate with that id.
    pub fn certificate(&self, id: &ItemId) -> Option<&CertificateFacts> {
        match &self.get(id)?.facts {
            Facts::Certificate(facts) => Some(facts),
            _ => None,
        }
    }

    /// The items whose facts name `id`.
    pub fn dependents<'a>(&'a self, id: &'a ItemId) -> impl Iterator<Item = &'a Item> {
        self.iter().filter(move |item| item.facts.links().contains(&id))
    }

    /// Every keystore with its facts, by name.
    pub fn keystores(&self) -> Vec<(&Item, &KeystoreFacts)> {
        let mut all: Vec<_> = self
            .iter()
            .filter_map(|item| match &item.facts {
                Facts::Keystore(facts) => Some((item, facts)),
                _ => None,
            })
            .collect();
        all.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
        all
    }

    /// The keys of active keystores that are for `app`, in that role.
    pub fn android_keys<'a, 'n>(
        &'a self,
        app: &'n str,
        role: Role,
    ) -> impl Iterator<Item = (&'a Item, &'a KeystoreEntry)> + use<'a, 'n> {
        self.keystores()
            .into_iter()
            .filter(|(item, _)| item.state == State::Active)
            .flat_map(|(item, facts)| facts.entries.iter().map(move |entry| (item, entry)))
            .filter(move |(_, entry)| entry.is_for(app, role))
    }

    /// The ledger, oldest first.
    pub fn releases(&self) -> Vec<&ReleaseFacts> {
        let mut all: Vec<(u64, &ReleaseFacts)> = self
            .iter()
            .filter_map(|item| match &item.facts {
                Facts::Release(facts) => Some((item.made, facts.as_ref())),
                _ => None,
            })
            .collect();
        // two of one second stand in the order of the history
        all.sort_by(|(at, a), (then, b)| (a.signed, at, &a.file).cmp(&(b.signed, then, &b.file)));
        all.into_iter().map(|(_, facts)| facts).collect()
    }
}

/// Which releases of a ledger, oldest first, later ones took the place of.
pub fn replaced(ledger: &[&ReleaseFacts]) -> Vec<bool> {
    let mut taken: BTreeSet<&str> = BTreeSet::new();
    let mut out: Vec<bool> = ledger
        .iter()
        .rev()
        .map(|release| {
            let gone = taken.contains(release.sha256.as_str());
            taken.extend(release.replaces.as_deref());
            gone
        })
        .collect();
    out.reverse();
    out
}

#[cfg(test)]
mod tests {
    use super::super::DeviceFacts;
    use super::*;

    fn device(number: u8, name: &str) -> Item {
        Item {
            id: ItemId::from_random([number; 16]),
            name: name.into(),
            state: State::Active,
            generation: 1,
            replaces: None,
            revision: 1,
            created: Timestamp::UNIX_EPOCH,
            made: 1,
            seq: 1,
            facts: Facts::Device(DeviceFacts { identifier: "x".into(), title: name.into() }),
        }
    }

    #[test]
    fn names_resolve_exactly_first_then_by_unique_beginning_without_case() {
        let inventory = Inventory::new([
            device(1, "pier"),
            device(2, "Pier-two"),
            device(3, "quay"),
            device(4, "quay/a"),
        ]);
        assert_eq!(inventory.find("PIER").unwrap().name, "pier");
        assert_eq!(inventory.find("pier-").unwrap().name, "Pier-two");
        assert_eq!(inventory.find("q").unwrap().name, "quay");
        assert_eq!(inventory.find("quay/a").unwrap().name, "quay/a");
        assert_eq!(inventory.find("x"), Err(NotFound::Unknown("x".into())));
        let error = inventory.find("p").unwrap_err();
        assert_eq!(error.to_string(), "`p` could be Pier-two, pier");
    }

    #[test]
    fn names_are_plain() {
        for good in ["crossing-signing", "a", "A.b_c-1"] {
            assert!(check_name(good).is_ok(), "{good}");
        }
        for bad in ["", "-a", "a b", "a/b", "ä", "a\n", &"a".repeat(65)] {
            assert!(check_name(bad).is_err(), "{bad}");
        }
    }
}
