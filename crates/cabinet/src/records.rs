//! What stands in clear of each kind of record, and the digests over it.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use ninekeys_core::model::{Abridged, Facts, Inventory, Item, ItemId, State, moment};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::CabinetError;
use crate::digest::{Digest, Framed, digest};
use crate::policy::{MANAGE, SHARED, compartment_for};
use crate::row::{Head, RecordKind, Version};
use crate::store::{StoredRecord, StoredSeal};

const FACTS: &str = "ninekeys.facts/2";
const SEALED: &str = "ninekeys.sealed/2";
const STATE: &str = "ninekeys.state/2";

/// Where a record is found.
pub(crate) type Key = (RecordKind, String);

/// A record, as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Record {
    /// The stored text, byte for byte.
    pub(crate) facts: String,
    /// Its digests.
    pub(crate) version: Version,
}

/// All records, in the order in which they are digested.
pub(crate) type Records = std::collections::BTreeMap<Key, Record>;

/// An item's facts as they stand.
#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ItemFacts<'a, F = Facts> {
    name: String,
    state: State,
    generation: u32,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    replaces: Option<ItemId>,
    revision: u32,
    #[serde(deserialize_with = "moment::read")]
    created: Timestamp,
    made: u64,
    seq: u64,
    #[serde(borrow)]
    pub(crate) compartment: Cow<'a, str>,
    facts: F,
}

/// A copy that was made and proved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Backup {
    /// When.
    pub at: Timestamp,
    /// Where it was written.
    pub place: String,
    /// The newest row of history in it.
    pub seq: u64,
    /// The hash of that row.
    pub head: Digest,
    /// SHA-256 of the file.
    pub file: Digest,
    /// Who made it.
    pub by: String,
    /// Whether it is kept elsewhere than the cabinet, as they said.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub off_site: bool,
}

impl Backup {
    /// The newest row in it.
    pub(crate) fn row(&self) -> Head {
        Head { seq: self.seq, hash: self.head }
    }
}

/// A file that is about to get its final name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct IntendedFile {
    /// Its name, without its folder.
    pub name: String,
    /// SHA-256 of what will be in it; nothing where that is not known before (a folder on loan).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
}

/// Something that is about to leave the cabinet. The row that holds it comes first, the files second, the row that ends
/// it last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Intention {
    /// When it began.
    pub at: Timestamp,
    /// Whose it is: a member's id.
    pub member: Digest,
    /// The machine it is on.
    pub machine: String,
    /// What for: `export`, `hand-over`, `sign`, `lend`.
    pub purpose: String,
    /// What was done, as the history says it.
    pub what: String,
    /// The compartment of what leaves.
    pub compartment: String,
    /// The files.
    pub files: Vec<IntendedFile>,
    /// The item that is put in when it has happened: a release in the ledger.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub completes: Option<(String, Facts)>,
}

impl Record {
    /// With the digests of what is given.
    pub(crate) fn new(facts: String, sealed: Option<&[u8]>) -> Self {
        let version =
            Version { facts: facts_digest(&facts), sealed: sealed.map(|bytes| digest(SEALED, bytes)) };
        Record { facts, version }
    }

    /// As it is stored.
    pub(crate) fn stored(&self, key: &Key) -> StoredRecord {
        StoredRecord {
            kind: key.0.word().into(),
            id: key.1.clone(),
            facts: self.facts.clone(),
            sealed_digest: self.version.sealed.map(|digest| digest.as_bytes().to_vec()),
        }
    }

    /// Whether these are its sealed bytes.
    pub(crate) fn has_sealed(&self, bytes: &[u8]) -> bool {
        self.version.sealed == Some(digest(SEALED, bytes))
    }
}

pub(crate) fn facts_digest(facts: &str) -> Digest {
    digest(FACTS, facts.as_bytes())
}

/// A piece of a text that nobody vouches for.
pub(crate) fn shown(text: &str) -> String {
    text.chars().take(40).flat_map(char::escape_default).collect()
}

/// The digest of all records.
pub(crate) fn state(records: &Records) -> Digest {
    let mut all = begin_state();
    for ((kind, id), Record { version, .. }) in records {
        push_state(&mut all, *kind, id, &version.facts, version.sealed.as_ref());
    }
    all.finish()
}

/// The digest of all records, before the first.
pub(crate) fn begin_state() -> Framed {
    Framed::new(STATE)
}

/// The next record of all; they come ascending by the kind's word, then by id.
pub(crate) fn push_state(
    all: &mut Framed,
    kind: RecordKind,
    id: &str,
    facts: &Digest,
    sealed: Option<&Digest>,
) {
    all.push(kind.word().as_bytes());
    all.push(id.as_bytes());
    all.push(facts.as_bytes());
    all.push(sealed.map_or(&[][..], |digest| digest.as_bytes()));
}

/// Compares every sealed part with its record: each has to be the one that is named, and none may be too many.
pub(crate) fn compare_seals(
    records: &Records,
    each: impl FnOnce(&mut dyn FnMut(StoredSeal) -> Result<(), CabinetError>) -> Result<(), CabinetError>,
) -> Result<(), CabinetError> {
    let mut wanted = records.iter().filter(|(_, record)| record.version.sealed.is_some());
    let broken = |id: &str| CabinetError::Tampered(format!("the seal of {} is broken", shown(id)));
    each(&mut |seal| match wanted.next() {
        Some(((kind, id), record))
            if kind.word() == seal.kind && *id == seal.id && record.has_sealed(&seal.bytes) =>
        {
            Ok(())
        }
        _ => Err(broken(&seal.id)),
    })?;
    match wanted.next() {
        Some(((_, id), _)) => {
            Err(CabinetError::Tampered(format!("the sealed part of {} is gone", shown(id))))
        }
        None => Ok(()),
    }
}

/// The items among the records.
pub(crate) fn inventory(records: &Records) -> Result<Inventory, CabinetError> {
    let of_items: Vec<(&Key, &Record)> =
        records.iter().filter(|((kind, _), _)| *kind == RecordKind::Item).collect();
    let read = of_items.par_iter().map(|((_, id), record)| item(id, &record.facts).map(shared));
    Ok(Inventory::of_shared(read.collect::<Result<Vec<_>, _>>()?))
}

/// An item as an inventory takes it.
pub(crate) fn shared(item: Item) -> (ItemId, Arc<Item>) {
    (item.id, Arc::new(item))
}

/// An item from its record.
pub(crate) fn item(id: &str, stored: &str) -> Result<Item, CabinetError> {
    item_with(id, stored, |facts: Facts| facts)
}

/// The same without what no list tells.
pub(crate) fn abridged_item(id: &str, stored: &str) -> Result<Item, CabinetError> {
    item_with(id, stored, |Abridged(facts)| facts)
}

fn item_with<'a, F: Deserialize<'a>>(
    id: &str,
    stored: &'a str,
    facts: impl FnOnce(F) -> Facts,
) -> Result<Item, CabinetError> {
    let unreadable =
        |what: &str| CabinetError::Tampered(format!("the {what} of {} cannot be read", shown(id)));
    let found: ItemFacts<'_, F> = serde_json::from_str(stored).map_err(|_| unreadable("facts"))?;
    Ok(Item {
        id: ItemId::from_text(id).filter(|_| is_as_written(id)).ok_or_else(|| unreadable("id"))?,
        name: found.name,
        state: found.state,
        generation: found.generation,
        replaces: found.replaces,
        revision: found.revision,
        created: found.created,
        made: found.made,
        seq: found.seq,
        facts: facts(found.facts),
    })
}

/// An id is written in small digits: in others it would be the same, and another record.
fn is_as_written(id: &str) -> bool {
    !id.bytes().any(|digit| digit.is_ascii_uppercase())
}

/// The text that an item is stored as.
pub(crate) fn stored_item(item: &Item, compartment: &str) -> Result<String, CabinetError> {
    let facts = ItemFacts {
        name: item.name.clone(),
        state: item.state,
        generation: item.generation,
        replaces: item.replaces,
        revision: item.revision,
        created: item.created,
        made: item.made,
        seq: item.seq,
        compartment: compartment.into(),
        facts: item.facts.clone(),
    };
    text(&facts)
}

/// The text of any record's facts.
pub(crate) fn text(facts: &impl Serialize) -> Result<String, CabinetError> {
    serde_json::to_string(facts)
        .map_err(|error| CabinetError::Io { action: "written", cause: error.to_string() })
}

/// The compartment that a stored item says it belongs to.
pub(crate) fn compartment_of(stored: &str) -> Option<String> {
    serde_json::from_str::<ItemFacts<'_>>(stored).ok().map(|facts| facts.compartment.into_owned())
}

/// Which items name an item, for every item.
pub(crate) struct NamedBy<'a>(HashMap<ItemId, Vec<&'a Item>>);

impl<'a> NamedBy<'a> {
    pub(crate) fn of(inventory: &'a Inventory) -> Self {
        let mut all: HashMap<ItemId, Vec<&'a Item>> = HashMap::new();
        for item in inventory.iter() {
            for id in item.facts.links() {
                all.entry(*id).or_default().push(item);
            }
        }
        NamedBy(all)
    }

    fn get(&self, id: &ItemId) -> &[&'a Item] {
        self.0.get(id).map_or(&[], Vec::as_slice)
    }
}

/// The compartment that an item says by itself; nothing for keys and certificates, which serve what names them.
pub(crate) fn own_compartment(item: &Item) -> Option<String> {
    if matches!(item.facts, Facts::Key(_) | Facts::Certificate(_)) {
        return None;
    }
    let mut apps = Vec::new();
    collect_apps(&item.facts, None, &mut apps);
    Some(of_apps(apps))
}

/// The compartment that an item belongs to: that of the one app that it serves, by itself and by what names it; of
/// several or none, the shared one.
pub(crate) fn compartment_wanted(named_by: &NamedBy<'_>, item: &Item) -> String {
    if let Some(own) = own_compartment(item) {
        return own;
    }
    let mut apps: Vec<&str> = Vec::new();
    for other in named_by.get(&item.id) {
        collect_apps(&other.facts, Some(&item.id), &mut apps);
        if matches!(other.facts, Facts::Certificate(_)) {
            named_by
                .get(&other.id)
                .iter()
                .for_each(|above| collect_apps(&above.facts, Some(&other.id), &mut apps));
        }
    }
    of_apps(apps)
}

fn of_apps(mut apps: Vec<&str>) -> String {
    apps.sort_unstable();
    apps.dedup();
    compartment_for(&apps)
}

/// The apps that facts name; of a keystore's entries, those that name `only`.
fn collect_apps<'a>(facts: &'a Facts, only: Option<&ItemId>, into: &mut Vec<&'a str>) {
    let names = match facts {
        Facts::Keystore(keystore) => {
            let entries = keystore.entries.iter();
            let own = entries.filter(|entry| only.is_none_or(|id| entry.links().any(|one| one == id)));
            into.extend(own.flat_map(|entry| entry.apps()));
            return;
        }
        Facts::Identity(identity) => &identity.apps,
        Facts::Profile(profile) => &profile.apps,
        Facts::ApiKey(key) => &key.apps,
        Facts::Date(date) => &date.apps,
        Facts::Release(release) => {
            // a release names a certificate and serves nothing by it
            if only.is_none() {
                into.push(&release.app);
            }
            return;
        }
        Facts::HandOut(given) => {
            // what was given is named, and served by the row no more than by a release
            if only.is_none() {
                into.push(&given.app);
            }
            return;
        }
        Facts::Key(_) | Facts::Certificate(_) | Facts::Device(_) | Facts::Rotation(_) => return,
    };
    into.extend(names.iter().map(String::as_str));
}

/// What a record is among its kind, and its compartment, for the touch that names it.
pub(crate) fn described(kind: RecordKind, facts: &str) -> (String, String) {
    match kind {
        RecordKind::Item => match serde_json::from_str::<ItemFacts<'_>>(facts) {
            Ok(found) => {
                (found.facts.word().to_lowercase().replace(' ', "-"), found.compartment.into_owned())
            }
            Err(_) => ("item".into(), SHARED.into()),
        },
        RecordKind::Intention => match serde_json::from_str::<Intention>(facts) {
            Ok(found) => (found.purpose, found.compartment),
            Err(_) => ("intention".into(), SHARED.into()),
        },
        other => (other.word().into(), MANAGE.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(id: &str) -> (Key, Record) {
        ((RecordKind::Item, id.into()), Record::new(format!("{{\"name\":\"{id}\"}}"), None))
    }

    #[test]
    fn the_state_knows_every_id_fact_and_seal() {
        let of = |records: Vec<(Key, Record)>| state(&records.into_iter().collect());
        let usual = of(vec![record("a"), record("b")]);
        assert_eq!(usual, of(vec![record("b"), record("a")]), "the order that they are put in means nothing");
        assert_ne!(usual, of(vec![record("a")]));
        assert_ne!(usual, of(vec![record("a"), record("c")]));
        let sealed = ((RecordKind::Item, "b".to_owned()), Record::new("{\"name\":\"b\"}".into(), Some(b"x")));
        assert_ne!(usual, of(vec![record("a"), sealed.clone()]));
        assert!(sealed.1.has_sealed(b"x") && !sealed.1.has_sealed(b"y") && !record("b").1.has_sealed(b""));
        let other = ((RecordKind::Item, "b".to_owned()), Record::new("{\"name\": \"b\"}".into(), None));
        assert_ne!(usual, of(vec![record("a"), other]), "the stored bytes count, not what they mean");
    }

    #[test]
    fn what_cannot_be_read_belongs_to_everybody_and_is_shown_without_moving_a_cursor() {
        assert_eq!(described(RecordKind::Item, "no json"), ("item".into(), SHARED.into()));
        assert_eq!(described(RecordKind::Intention, "{}"), ("intention".into(), SHARED.into()));
        assert_eq!(compartment_of("{}"), None);
        assert_eq!(shown("a\u{1b}[2Jb"), "a\\u{1b}[2Jb");
        assert_eq!(shown(&"x".repeat(100)).len(), 40);
    }
}
