//! The records as a store lists them: read once, and digested and parsed on all cores while the store is read on.
//!
//! A cabinet may hold 100,000 of them, and most commands only look. What is listed therefore stays in a few large pieces;
//! whoever changes something makes records of their own from it.

use std::collections::BTreeMap;
use std::hint::black_box;
use std::sync::mpsc::channel;
use std::sync::{Arc, Mutex};

use ninekeys_core::model::{Item, ItemId};
use rayon::prelude::*;
use serde::de::DeserializeOwned;

use crate::CabinetError;
use crate::digest::{Digest, of_much};
use crate::records::{self, Key, Record, Records, abridged_item, facts_digest, item, shared, shown};
use crate::row::{RecordKind, Version};
use crate::store::{RecordSeen, Store};

const LISTED: &str = "ninekeys.listed/2";

/// How many records are worked on together.
const BATCH: usize = 512;

/// How many pieces of work may wait for their turn.
const AHEAD: usize = 8;

/// How many items are read before there is room for more, and the room: less than what an allocator asks of the system for
/// itself (128 KiB), and more than the items take.
const ROOM_FOR: usize = 64;
const ROOM: usize = 96 << 10;

/// Has the allocator make room for the items that are read next. A widespread one has the heap of every thread but the first
/// grow by a page at a time, and to ask the system for it 12,000 times costs more than what is put there.
fn make_room() {
    drop(black_box(Vec::<u8>::with_capacity(ROOM)));
}

/// Does `work` on what `make` hands out, on all cores while more is made, and gives `take` the results in the order in which
/// they were handed out.
pub(crate) fn in_order<B: Send, R: Send>(
    make: impl FnOnce(&mut dyn FnMut(B) -> Result<(), CabinetError>) -> Result<(), CabinetError>,
    work: impl Fn(B) -> R + Sync,
    mut take: impl FnMut(R) -> Result<(), CabinetError>,
) -> Result<(), CabinetError> {
    let (to, from) = channel();
    let work = &work;
    rayon::in_place_scope(|scope| {
        let (mut begun, mut next) = (0usize, 0usize);
        let mut early = BTreeMap::new();
        let mut settle = |done: (usize, R), next: &mut usize| {
            early.insert(done.0, done.1);
            while let Some(result) = early.remove(next) {
                *next += 1;
                take(result)?;
            }
            Ok::<(), CabinetError>(())
        };
        make(&mut |piece| {
            let (number, to) = (begun, to.clone());
            begun += 1;
            scope.spawn(move |_| {
                // where something was wrong nobody waits for it any more
                let _ = to.send((number, work(piece)));
            });
            while begun - next > AHEAD
                && let Ok(done) = from.recv()
            {
                settle(done, &mut next)?;
            }
            Ok(())
        })?;
        drop(to);
        from.iter().try_for_each(|done| settle(done, &mut next))
    })
}

/// What is made of records while they are read.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Wanted {
    /// The digest of each one's facts, for their state. Without them items are not kept once they were read.
    pub(crate) facts: bool,
    /// The items among them.
    pub(crate) items: bool,
    /// Whether the items let go of what no list tells.
    pub(crate) abridged: bool,
    /// The digest of what is listed, byte for byte, which a machine may remember.
    pub(crate) listing: bool,
}

/// Records, strictly ascending: a duplicate or an unknown kind is nothing that this tool writes.
pub(crate) struct Listing(Vec<Batch>);

/// Some of them, one after the other.
#[derive(Default)]
struct Batch {
    /// Ids and facts.
    text: String,
    entries: Vec<Entry>,
    /// The digest of each one's facts, where they were wanted.
    facts: Vec<Digest>,
    /// The items among them, where they were wanted.
    items: Vec<(ItemId, Arc<Item>)>,
    /// Why the first that cannot be read cannot.
    unreadable: Option<CabinetError>,
    /// How many items were among them.
    count: usize,
    /// The digest of what is listed, where it was wanted.
    listing: Option<Digest>,
}

/// Where a record is found: the first and the last one of a batch.
type Ends = (Option<Key>, Option<Key>);

/// How a record stands in its batch.
struct Entry {
    kind: RecordKind,
    id_length: usize,
    facts_length: usize,
    sealed: Option<Digest>,
}

/// One record as it is listed.
#[derive(Clone, Copy)]
struct Listed<'a> {
    kind: RecordKind,
    id: &'a str,
    facts: &'a str,
    sealed: Option<&'a Digest>,
}

impl Listed<'_> {
    fn is_before(&self, next: &Self) -> bool {
        match self.kind == next.kind {
            true => self.id < next.id,
            false => self.kind.word() < next.kind.word(),
        }
    }
}

impl Batch {
    fn add(&mut self, seen: RecordSeen<'_>) -> Result<(), CabinetError> {
        let wrong = |what: String| CabinetError::Tampered(what);
        let kind = RecordKind::from_word(seen.kind)
            .ok_or_else(|| wrong(format!("a record of a kind that is not known: {}", shown(seen.kind))))?;
        let sealed = match seen.sealed_digest {
            None => None,
            Some(bytes) => Some(
                Digest::from_bytes(bytes).ok_or_else(|| wrong(format!("a digest of {}", shown(seen.id))))?,
            ),
        };
        self.text.push_str(seen.id);
        self.text.push_str(seen.facts);
        let (id_length, facts_length) = (seen.id.len(), seen.facts.len());
        self.entries.push(Entry { kind, id_length, facts_length, sealed });
        Ok(())
    }

    fn listed(&self) -> impl Iterator<Item = Listed<'_>> {
        let mut rest = self.text.as_str();
        self.entries.iter().map(move |entry| {
            let mut next = |length| {
                let (piece, after) = rest.split_at_checked(length).unwrap_or_default();
                rest = after;
                piece
            };
            let (id, facts) = (next(entry.id_length), next(entry.facts_length));
            Listed { kind: entry.kind, id, facts, sealed: entry.sealed.as_ref() }
        })
    }

    /// The digest of all that is listed: the lengths say where each piece ends.
    fn digest_listing(&self) -> Digest {
        let mut shape = Vec::with_capacity(self.entries.len() * 50);
        for entry in &self.entries {
            shape.extend_from_slice(entry.kind.word().as_bytes());
            shape.extend_from_slice(&(entry.id_length as u64).to_le_bytes());
            shape.extend_from_slice(&(entry.facts_length as u64).to_le_bytes());
            shape.push(u8::from(entry.sealed.is_some()));
            shape.extend_from_slice(entry.sealed.as_ref().map_or(&[][..], |digest| digest.as_bytes()));
        }
        of_much(LISTED, &[&shape, self.text.as_bytes()])
    }

    /// Makes of its records what is wanted, and tells its first and its last one, unless they do not ascend.
    fn work(&mut self, wanted: Wanted) -> Option<Ends> {
        let listed: Vec<Listed<'_>> = self.listed().collect();
        let ascending = listed.windows(2).all(|pair| match pair {
            [one, next] => one.is_before(next),
            _ => true,
        });
        let name = |one: &Listed<'_>| (one.kind, one.id.to_owned());
        let ends = (listed.first().map(name), listed.last().map(name));
        let items = listed.iter().filter(|one| one.kind == RecordKind::Item);
        let count = items.clone().count();
        let read = || {
            let mut read = Vec::with_capacity(count);
            for (index, one) in items.enumerate() {
                if index.is_multiple_of(ROOM_FOR) {
                    make_room();
                }
                let item = if wanted.abridged { abridged_item } else { item };
                read.push(shared(item(one.id, one.facts)?));
            }
            Ok(read)
        };
        let (items, unreadable) = match wanted.items.then(read).transpose() {
            Ok(items) => (items.unwrap_or_default(), None),
            Err(error) => (Vec::new(), Some(error)),
        };
        let facts = listed.iter().filter(|_| wanted.facts).map(|one| facts_digest(one.facts)).collect();
        let listing = wanted.listing.then(|| self.digest_listing());
        (self.count, self.items, self.unreadable) = (count, items, unreadable);
        (self.facts, self.listing) = (facts, listing);
        ascending.then_some(ends)
    }

    /// Whether nothing is asked of its text any more.
    fn is_done_with(&self, wanted: Wanted) -> bool {
        !wanted.facts && self.count == self.entries.len()
    }

    fn records(&self) -> Vec<(Key, Record)> {
        let record = |(one, digest): (Listed<'_>, &Digest)| {
            let version = Version { facts: *digest, sealed: one.sealed.copied() };
            ((one.kind, one.id.to_owned()), Record { facts: one.facts.to_owned(), version })
        };
        self.listed().zip(&self.facts).map(record).collect()
    }
}

impl Listing {
    /// Reads all records.
    pub(crate) fn read(store: &dyn Store, wanted: Wanted) -> Result<Self, CabinetError> {
        let mut all: Vec<Batch> = Vec::new();
        let mut last: Option<Key> = None;
        // what nothing is asked of any more is written over: new memory costs as much as reading does
        let spare: Mutex<Vec<(String, Vec<Entry>)>> = Mutex::default();
        let empty = || {
            let (text, entries) = spare.lock().ok().and_then(|mut spare| spare.pop()).unwrap_or_default();
            Batch { text, entries, ..Batch::default() }
        };
        in_order(
            |hand_out| {
                let mut batch = empty();
                store.each_record(&mut |seen| {
                    batch.add(seen)?;
                    match batch.entries.len() == BATCH {
                        true => hand_out(std::mem::replace(&mut batch, empty())),
                        false => Ok(()),
                    }
                })?;
                hand_out(batch)
            },
            |mut batch: Batch| {
                let ends = batch.work(wanted);
                if batch.is_done_with(wanted)
                    && let Ok(mut spare) = spare.lock()
                {
                    let (mut text, mut entries) =
                        (std::mem::take(&mut batch.text), std::mem::take(&mut batch.entries));
                    text.clear();
                    entries.clear();
                    spare.push((text, entries));
                }
                (batch, ends)
            },
            |(batch, ends)| {
                let order = || CabinetError::Tampered("its records are not in their order".into());
                let (first, end) = ends.ok_or_else(order)?;
                let is_before =
                    |(one, id): &Key, (other, next): &Key| (one.word(), id) < (other.word(), next);
                if last.as_ref().zip(first.as_ref()).is_some_and(|(last, first)| !is_before(last, first)) {
                    return Err(order());
                }
                last = end.or(last.take());
                all.push(batch);
                Ok(())
            },
        )?;
        Ok(Listing(all))
    }

    /// The digest of what is listed, where it was wanted.
    pub(crate) fn digest(&self) -> Option<Digest> {
        let all: Option<Vec<Digest>> = self.0.iter().map(|batch| batch.listing).collect();
        let all: Vec<u8> = all?.iter().flat_map(|digest| *digest.as_bytes()).collect();
        Some(of_much(LISTED, &[&all]))
    }

    /// How many items are among them.
    pub(crate) fn count(&self) -> usize {
        self.0.iter().map(|batch| batch.count).sum()
    }

    /// The state of all of them, by the digests of their facts.
    pub(crate) fn state(&self) -> Digest {
        let mut all = records::begin_state();
        for (one, facts) in self.0.iter().flat_map(|batch| batch.listed().zip(&batch.facts)) {
            records::push_state(&mut all, one.kind, one.id, facts, one.sealed);
        }
        all.finish()
    }

    /// All of them, each by itself.
    pub(crate) fn records(&self) -> Records {
        self.0.par_iter().map(Batch::records).collect::<Vec<_>>().into_iter().flatten().collect()
    }

    /// Takes out the items that were read.
    ///
    /// # Errors
    /// [`CabinetError::Tampered`] for the first that cannot be read.
    pub(crate) fn take_items(&mut self) -> Result<Vec<(ItemId, Arc<Item>)>, CabinetError> {
        if let Some(error) = self.0.iter_mut().find_map(|batch| batch.unreadable.take()) {
            return Err(error);
        }
        let mut all = Vec::with_capacity(self.0.iter().map(|batch| batch.items.len()).sum());
        self.0.iter_mut().for_each(|batch| all.append(&mut batch.items));
        Ok(all)
    }

    /// What stands in the records of a kind other than items, by id; what cannot be read is nothing that counts.
    pub(crate) fn read_kind<T: DeserializeOwned>(
        &self,
        kind: RecordKind,
    ) -> impl Iterator<Item = (String, T)> {
        // most hold items and nothing else
        let mixed = self.0.iter().filter(|batch| batch.count < batch.entries.len());
        let of_kind = mixed.flat_map(Batch::listed).filter(move |one| one.kind == kind);
        of_kind.filter_map(|one| Some((one.id.to_owned(), serde_json::from_str(one.facts).ok()?)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sqlite::SqliteStore;
    use crate::store::StoredRecord;

    const ALL: Wanted = Wanted { facts: true, items: true, abridged: false, listing: true };

    fn seen<'a>(kind: &'a str, id: &'a str, facts: &'a str, sealed: Option<&'a [u8]>) -> RecordSeen<'a> {
        RecordSeen { kind, id, facts, sealed_digest: sealed }
    }

    fn listing(records: &[RecordSeen<'_>]) -> Listing {
        let mut batch = Batch::default();
        records.iter().for_each(|record| batch.add(*record).unwrap());
        assert!(batch.work(ALL).is_some());
        Listing(vec![batch])
    }

    #[test]
    fn records_come_in_ascending_order_or_are_not_taken() {
        let of = |records: &[(&str, &str)]| {
            let mut batch = Batch::default();
            records.iter().for_each(|(kind, id)| batch.add(seen(kind, id, "{}", None)).unwrap());
            batch.work(Wanted { facts: false, items: false, abridged: false, listing: false }).is_some()
        };
        let of_items = |ids: &[&str]| of(&ids.iter().map(|id| ("item", *id)).collect::<Vec<_>>());
        assert!(of_items(&[]) && of_items(&["a"]) && of_items(&["a", "b", "c"]));
        assert!(!of_items(&["a", "a"]), "twice");
        assert!(!of_items(&["b", "a"]) && !of_items(&["a", "c", "b"]));
        // the kind comes before the id
        assert!(of(&[("backup", "z"), ("item", "a")]) && !of(&[("item", "a"), ("backup", "z")]));
        assert!(Batch::default().add(seen("trigger", "a", "{}", None)).is_err());
        assert!(Batch::default().add(seen("item", "a", "{}", Some(b"short"))).is_err());
    }

    #[test]
    fn what_is_listed_differs_in_every_byte_and_every_border() {
        let digest = |record: RecordSeen<'_>| listing(&[record]).digest().unwrap();
        let sealed = [7; 32];
        let usual = digest(seen("item", "ab", "{}", Some(&sealed)));
        assert_eq!(usual, digest(seen("item", "ab", "{}", Some(&sealed))));
        for other in [
            seen("item", "ab", "{}", None),
            seen("item", "ab", "{}", Some(&[8; 32])),
            seen("backup", "ab", "{}", Some(&sealed)),
            seen("item", "a", "b{}", Some(&sealed)),
            seen("item", "ab", "{ }", Some(&sealed)),
            seen("item", "ac", "{}", Some(&sealed)),
        ] {
            assert_ne!(usual, digest(other), "{other:?}");
        }
    }

    #[test]
    fn many_records_have_the_state_that_they_have_one_by_one_and_ascend_across_pieces() {
        let folder = tempfile::tempdir().unwrap();
        let count = 3 * BATCH + 5;
        let file = |last: &str| {
            let mut store = SqliteStore::create(&folder.path().join(last)).unwrap();
            store.begin().unwrap();
            for number in 0..count {
                let id = format!("{number:032x}");
                let (kind, facts) = match number {
                    0 => ("backup", format!("{{\"number\":{number}}}")),
                    _ => ("item", format!("no item {number}")),
                };
                let record = StoredRecord { kind: kind.into(), id, facts, sealed_digest: None };
                store.put_record(&record, None).unwrap();
            }
            store.commit().unwrap();
            store
        };
        let store = file("cabinet");
        let mut all = Listing::read(&store, ALL).unwrap();
        assert_eq!((all.count(), all.records().len()), (count - 1, count));
        assert_eq!(all.state(), records::state(&all.records()));
        let backups: Vec<(String, serde_json::Value)> = all.read_kind(RecordKind::Backup).collect();
        assert_eq!(backups, [(format!("{:032x}", 0), serde_json::json!({ "number": 0 }))]);
        assert!(all.take_items().is_err(), "what cannot be read is said when it is asked for");
        // not kept it is the same
        let quick = Listing::read(&store, Wanted { facts: false, ..ALL }).unwrap();
        assert_eq!((quick.digest(), quick.count()), (all.digest(), all.count()));
        assert_eq!(quick.read_kind::<serde_json::Value>(RecordKind::Backup).count(), 1);
        assert_eq!(Listing::read(&store, Wanted { listing: false, ..ALL }).unwrap().digest(), None);
    }

    #[test]
    fn results_come_in_the_order_of_the_work_and_an_error_ends_it() {
        let mut taken = Vec::new();
        let hand_out_all =
            |hand_out: &mut dyn FnMut(u64) -> Result<(), CabinetError>| (0..100).try_for_each(hand_out);
        in_order(
            hand_out_all,
            |number| number * 2,
            |double| {
                taken.push(double);
                Ok(())
            },
        )
        .unwrap();
        assert_eq!(taken, (0..100).map(|number| number * 2).collect::<Vec<_>>());
        let stopped = in_order(
            hand_out_all,
            |number| number,
            |number| match number {
                42 => Err(CabinetError::Locked),
                _ => Ok(()),
            },
        );
        assert!(matches!(stopped, Err(CabinetError::Locked)));
    }
}
