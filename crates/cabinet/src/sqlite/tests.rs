#![allow(clippy::disallowed_methods, reason = "tests write their own files")]

use tempfile::TempDir;

use super::*;

fn row(seq: u64) -> StoredRow {
    StoredRow {
        seq,
        form: "change".into(),
        body: format!("{{\"row\":{seq}}}"),
        signature: vec![seq as u8; 64],
    }
}

fn record(id: &str, sealed: bool) -> StoredRecord {
    StoredRecord {
        kind: "item".into(),
        id: id.into(),
        facts: format!("{{\"name\":\"{id}\"}}"),
        sealed_digest: sealed.then(|| vec![7; 32]),
    }
}

fn empty() -> (TempDir, SqliteStore) {
    let folder = tempfile::tempdir().unwrap();
    let store = SqliteStore::create(&folder.path().join("cabinet")).unwrap();
    (folder, store)
}

/// With two rows and two records, one of them sealed.
fn filled() -> (TempDir, SqliteStore) {
    let (folder, mut store) = empty();
    store.begin().unwrap();
    (1..=2).for_each(|seq| store.add_row(&row(seq)).unwrap());
    store.put_record(&record("b", true), Some(b"sealed")).unwrap();
    store.put_record(&record("a", false), None).unwrap();
    store.commit().unwrap();
    (folder, store)
}

fn rows(store: &SqliteStore) -> Vec<StoredRow> {
    let mut all = Vec::new();
    store
        .each_row(&mut |row| {
            all.push(row);
            Ok(())
        })
        .unwrap();
    all
}

fn ids(store: &SqliteStore) -> Vec<String> {
    let mut all = Vec::new();
    store
        .each_record(&mut |seen| {
            all.push(seen.id.to_owned());
            Ok(())
        })
        .unwrap();
    all
}

#[test]
fn rows_and_records_come_back_in_their_order() {
    let (_folder, store) = filled();
    assert_eq!(rows(&store), [row(1), row(2)]);
    assert_eq!(store.row(2).unwrap(), Some(row(2)));
    assert_eq!((store.row(0).unwrap(), store.row(u64::MAX).unwrap()), (None, None));
    assert_eq!(ids(&store), ["a", "b"]);
    assert_eq!(store.sealed("item", "b").unwrap().as_deref(), Some(&b"sealed"[..]));
    assert_eq!(store.sealed("item", "a").unwrap(), None);
}

#[test]
fn what_is_rolled_back_was_never_there() {
    let (_folder, mut store) = filled();
    store.begin().unwrap();
    store.add_row(&row(3)).unwrap();
    store.put_record(&record("b", true), Some(b"another")).unwrap();
    store.remove_record("item", "a").unwrap();
    store.roll_back();
    assert_eq!((rows(&store).len(), ids(&store).len()), (2, 2));
    assert_eq!(store.sealed("item", "b").unwrap().as_deref(), Some(&b"sealed"[..]));
}

#[test]
fn a_record_that_goes_takes_its_sealed_part_along() {
    let (_folder, mut store) = filled();
    store.begin().unwrap();
    store.remove_record("item", "b").unwrap();
    store.commit().unwrap();
    let mut seals = 0;
    store
        .each_sealed(&mut |_| {
            seals += 1;
            Ok(())
        })
        .unwrap();
    assert_eq!((ids(&store), seals), (vec!["a".to_owned()], 0));
}

#[test]
fn a_row_is_written_once() {
    let (_folder, mut store) = filled();
    store.begin().unwrap();
    assert!(store.add_row(&row(2)).is_err(), "its number is taken");
    store.roll_back();
    assert_eq!(rows(&store), [row(1), row(2)]);
}

#[test]
fn a_copy_has_everything_and_its_bytes_stay_as_they_are() {
    let (folder, store) = filled();
    let path = folder.path().join("copy");
    store.copy_to(&path).unwrap();
    let before = std::fs::read(&path).unwrap();
    let copy = SqliteStore::open_copy(&path).unwrap();
    assert_eq!((rows(&copy), ids(&copy)), (rows(&store), ids(&store)));
    drop(copy);
    assert_eq!(std::fs::read(&path).unwrap(), before);
    let mut names: Vec<String> = std::fs::read_dir(folder.path())
        .unwrap()
        .map(|e| e.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    assert_eq!(names, ["cabinet", "copy"], "nothing lies beside it");
}

#[test]
fn pages_are_large_and_smaller_ones_of_earlier_versions_become_so_when_all_is_written_anew() {
    let folder = tempfile::tempdir().unwrap();
    let size = |path: &Path| {
        let found =
            Connection::open(path).unwrap().query_row("pragma page_size", [], |row| row.get::<_, u32>(0));
        found.unwrap()
    };
    let path = folder.path().join("new");
    SqliteStore::create(&path).unwrap();
    assert_eq!(size(&path), PAGE);
    let path = folder.path().join("earlier");
    SqliteStore::create(&path).unwrap();
    Connection::open(&path).unwrap().execute_batch("pragma page_size = 4096; vacuum").unwrap();
    assert_eq!(size(&path), 4096);
    let mut store = SqliteStore::open(&path).unwrap();
    store.write_anew().unwrap();
    drop(store);
    assert_eq!(size(&path), PAGE);
}

#[test]
fn what_is_no_cabinet_is_said_to_be_none_and_stays_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("file");
    assert!(matches!(SqliteStore::open(&path), Err(CabinetError::Missing)));
    for content in [&b"no database at all"[..], b"SQLite format 3\0 and nothing behind it", &[0; 4096]] {
        std::fs::write(&path, content).unwrap();
        let refused = SqliteStore::open(&path).err().unwrap();
        assert!(matches!(refused, CabinetError::NotACabinet | CabinetError::Tampered(_)), "{refused:?}");
        assert!(matches!(SqliteStore::create(&path), Err(CabinetError::Exists)));
        assert_eq!(std::fs::read(&path).unwrap(), content);
    }
    // a database of somebody else's
    std::fs::remove_file(&path).unwrap();
    Connection::open(&path)
        .unwrap()
        .execute_batch("create table other (a); insert into other values (1);")
        .unwrap();
    assert!(matches!(SqliteStore::open(&path), Err(CabinetError::NotACabinet)));
}

#[test]
fn a_reader_sees_one_state_while_another_writes() {
    let (_folder, mut store) = filled();
    let mut reader = store.open_beside().unwrap();
    reader.begin_reading().unwrap();
    assert_eq!(rows(&reader).len(), 2);
    store.begin().unwrap();
    store.add_row(&row(3)).unwrap();
    assert_eq!(rows(&reader).len(), 2, "what is not done is not seen");
    reader.roll_back();
    store.commit().unwrap();
    assert_eq!(rows(&reader).len(), 3);
}

#[test]
fn a_journal_that_goes_while_it_is_looked_at_is_none() {
    use std::sync::atomic::{AtomicBool, Ordering};
    let (folder, _store) = filled();
    let path = folder.path().join("cabinet");
    let journal = beside(&path, "-journal");
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(Ordering::Relaxed) {
                std::fs::write(&journal, [0; 600]).unwrap();
                std::fs::remove_file(&journal).unwrap();
            }
        });
        let looked: Vec<_> = (0..3_000).map(|_| look_before(&path)).collect();
        over.store(true, Ordering::Relaxed);
        assert!(looked.into_iter().all(|found| matches!(found, Ok(false))));
    });
}

#[cfg(unix)]
#[test]
fn a_journal_that_is_no_file_is_refused_and_never_waited_for() {
    let (folder, _store) = filled();
    let path = folder.path().join("cabinet");
    let journal = beside(&path, "-journal");
    std::fs::create_dir(&journal).unwrap();
    assert!(matches!(SqliteStore::open(&path), Err(CabinetError::Tampered(_))));
    std::fs::remove_dir(&journal).unwrap();
    let made = std::process::Command::new("mkfifo").arg(&journal).status();
    if made.is_ok_and(|made| made.success()) {
        assert!(matches!(SqliteStore::open(&path), Err(CabinetError::Tampered(_))));
    }
}
